/** The pieces between separators that stand in no brackets and no quotes. */
export function splitOutside(text: string, separator: string): string[] {
  const pieces: string[] = [];
  let depth = 0;
  let isQuoted = false;
  let from = 0;
  for (let at = 0; at < text.length; at++) {
    const char = text[at];
    if (char === "'") isQuoted = !isQuoted;
    else if (isQuoted) continue;
    else if (char === "(") depth++;
    else if (char === ")") depth--;
    else if (char === separator && depth === 0) {
      pieces.push(text.slice(from, at));
      from = at + 1;
    }
  }
  return [...pieces, text.slice(from)];
}
