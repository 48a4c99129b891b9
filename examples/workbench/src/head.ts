/** The begin of a long answer as JSON of its own: enough to show something at once. */

/** So much of an answer is looked at first, in UTF-16 code units; a shorter one is taken whole. */
export const HEAD = 200_000;

/** The text up to the last item of a list that is whole, with what is open there closed; undefined where none is. */
export function headOf(text: string, length = HEAD): string | undefined {
  const open: string[] = [];
  let cut: { readonly end: number; readonly closing: string } | undefined;
  let isText = false;
  for (let at = 0; at < length && at < text.length; at++) {
    const char = text[at];
    if (isText) {
      if (char === "\\") at++;
      else if (char === '"') isText = false;
    } else if (char === '"') isText = true;
    else if (char === "{" || char === "[") open.push(char === "{" ? "}" : "]");
    else if (char === "}" || char === "]") {
      open.pop();
      // an item of the outermost list: those further in are parts of it
      const isItem = char === "}" && open.at(-1) === "]" && open.indexOf("]") === open.length - 1;
      if (isItem) cut = { end: at + 1, closing: open.toReversed().join("") };
    }
  }
  return cut && text.slice(0, cut.end) + cut.closing;
}
