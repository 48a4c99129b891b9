/** Dark colours for the editors, each with enough contrast for small text (WCAG 2.2, 1.4.3). */

import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";

const surface = EditorView.theme(
  {
    "&": { color: "#e6e9ef", backgroundColor: "#191c21" },
    ".cm-gutters": { color: "#a9b2c0", backgroundColor: "#191c21", border: "none" },
    ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "#23272e" },
    ".cm-cursor": { borderLeftColor: "#ffffff" },
    ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": { backgroundColor: "#34435c" },
    ".cm-tooltip": { color: "#e6e9ef", backgroundColor: "#23272e" },
  },
  { dark: true },
);

const words = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "#8fd3ff" },
  { tag: tags.string, color: "#b5e2a0" },
  { tag: [tags.number, tags.bool, tags.null], color: "#f5c18b" },
  { tag: tags.comment, color: "#a9b2c0" },
]);

export const dark = [surface, syntaxHighlighting(words)];
