/** Texts with one SQL query, as files of views hold them. */

import { BridgeError } from "../errors.js";

/** What hides a semicolon: texts, names in quotes, PostgreSQL's dollar quotes, comments; or the semicolon itself. */
const TOKEN = /'(?:[^']|'')*'|"(?:[^"]|"")*"|(\$\w*\$)[\s\S]*?\1|--[^\n]*|\/\*[\s\S]*?\*\/|;/g;

/**
 * The query without semicolons and blanks behind it.
 * @throws BridgeError VIEW_INVALID where there is none, or more than one
 */
export function oneQuery(text: string): string {
  const isNothing = (part: string) => part.replace(/--[^\n]*|\/\*[\s\S]*?\*\//g, "").trim() === "";
  const ends = [...text.matchAll(TOKEN)].filter(([token]) => token === ";").map(({ index }) => index);
  const query = text.slice(0, ends[0]);
  if (isNothing(query)) throw new BridgeError("VIEW_INVALID", "The view has no query.");
  const rest = ends.length === 0 ? "" : text.slice(ends[0]).replaceAll(";", "");
  if (!isNothing(rest)) throw new BridgeError("VIEW_INVALID", "The view has more than one statement.");
  return query.trim();
}
