/** A CodeMirror editor as a React component. */

import { autocompletion } from "@codemirror/autocomplete";
import { json } from "@codemirror/lang-json";
import { yaml } from "@codemirror/lang-yaml";
import { type Diagnostic, setDiagnostics } from "@codemirror/lint";
import { Compartment, type Extension, Text } from "@codemirror/state";

import { basicSetup, EditorView } from "codemirror";
import { memo, useEffect, useRef } from "react";
import { completeKeys } from "./completion.js";
import { dark } from "./dark.js";
import type { Mistake } from "./protocol.js";
import type { Answer } from "./usePreview.js";

export interface EditorProps {
  readonly label: string;
  readonly language: "json" | "yaml";
  readonly value: Text;
  readonly isDark: boolean;
  readonly mistake?: Mistake | undefined;
  readonly onChange: (answer: Answer) => void;
}

/** Colouring a text of megabytes would hold up the page. */
const MOST_COLOURED = 300_000;

/** Not drawn anew for what is typed elsewhere. */
export const Editor = memo(function Editor({
  label,
  language,
  value,
  isDark,
  mistake,
  onChange,
}: EditorProps) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | undefined>(undefined);
  const theme = useRef(new Compartment());
  const grammar = useRef(new Compartment());
  /** what the editor holds */
  const held = useRef(Text.empty);
  const changed = useRef(onChange);
  changed.current = onChange;

  useEffect(() => {
    const made = new EditorView({
      parent: host.current!,
      extensions: [
        basicSetup,
        grammar.current.of([]),
        theme.current.of([]),
        EditorView.contentAttributes.of({ "aria-label": label }),
        language === "yaml" ? autocompletion({ override: [completeKeys] }) : [],
        EditorView.updateListener.of((update) => {
          if (!update.docChanged) return;
          const { startState, state, changes } = update;
          held.current = state.doc;
          changed.current({ doc: state.doc, edit: { before: startState.doc, changes } });
        }),
      ],
    });
    // what can be scrolled can be reached by keyboard
    made.scrollDOM.tabIndex = 0;
    view.current = made;
    return () => made.destroy();
  }, [label, language]);

  useEffect(() => {
    const { current } = view;
    if (current === undefined || held.current === value) return;
    current.dispatch({ changes: { from: 0, to: current.state.doc.length, insert: value } });
  }, [value]);

  const isLong = value.length > MOST_COLOURED;
  useEffect(() => {
    const plain: Extension = isLong ? [] : language === "json" ? json() : yaml();
    view.current?.dispatch({
      effects: [theme.current.reconfigure(isDark ? dark : []), grammar.current.reconfigure(plain)],
    });
  }, [isDark, isLong, language]);

  useEffect(() => {
    const { current } = view;
    if (current === undefined) return;
    current.dispatch(
      setDiagnostics(current.state, mistake === undefined ? [] : [diagnostic(current, mistake)]),
    );
  }, [mistake]);

  return <div className="editor" ref={host} />;
});

function diagnostic({ state }: EditorView, { message, hint, line = 1, column = 1 }: Mistake): Diagnostic {
  const at = state.doc.line(Math.min(line, state.doc.lines));
  const from = Math.min(at.from + column - 1, at.to);
  return { from, to: Math.max(from, at.to), severity: "error", message: `${message} ${hint}` };
}
