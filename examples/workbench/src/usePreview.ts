/** The workers' latest word on answer and lines. */

import type { ChangeSet, Text } from "@codemirror/state";
import { useEffect, useRef, useState } from "react";
import type { Ask, Mistake, Role, Shown, Told } from "./protocol.js";

export interface PreviewState {
  /** the last that could be read; stays while lines are being mended */
  readonly shown: Shown | undefined;
  readonly mistake: Mistake | undefined;
  readonly isWhole: boolean;
  readonly ms: number;
}

/** The answer as its editor holds it. */
export interface Answer {
  readonly doc: Text;
  /** what made it, where it was edited */
  readonly edit?: { readonly before: Text; readonly changes: ChangeSet } | undefined;
}

const ROLES: readonly Role[] = ["first", "whole"];
const NOTHING: PreviewState = { shown: undefined, mistake: undefined, isWhole: true, ms: 0 };

export function usePreview(answer: Answer, connector: string, stream: string | undefined): PreviewState {
  const workers = useRef<readonly Worker[]>([]);
  const sent = useRef({ id: 0, doc: undefined as Text | undefined });
  const [state, setState] = useState(NOTHING);

  useEffect(() => {
    // the first may have been all of it
    let whole = 0;
    const take = (data: Told) => {
      if (data.id !== sent.current.id || data.id === whole) return;
      if ("mistake" in data) setState((before) => ({ ...before, mistake: data.mistake, isWhole: true }));
      else setState({ shown: data.shown, mistake: undefined, isWhole: data.isWhole, ms: data.ms });
      if ("mistake" in data || data.isWhole) whole = data.id;
    };
    workers.current = ROLES.map((name) => {
      const made = new Worker(new URL("./worker.ts", import.meta.url), { type: "module", name });
      made.onmessage = ({ data }: MessageEvent<Told>) => take(data);
      return made;
    });
    sent.current.doc = undefined;
    return () => {
      for (const each of workers.current) each.terminate();
    };
  }, []);

  useEffect(() => {
    const { current } = sent;
    const ask: Ask = { id: ++current.id, connector, stream, ...askFor(answer, current.doc) };
    current.doc = answer.doc;
    for (const each of workers.current) each.postMessage(ask);
  }, [answer, connector, stream]);

  return state;
}

/** Of a text of megabytes, only what has changed is sent. */
function askFor({ doc, edit }: Answer, known: Text | undefined): Pick<Ask, "answer"> {
  if (doc === known) return {};
  if (edit !== undefined && edit.before === known) return { answer: { changes: edit.changes.toJSON() } };
  return { answer: { whole: doc.toString() } };
}
