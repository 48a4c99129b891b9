/** JSON Lines: a record on each line. */

import { BridgeError, type Where } from "../errors.js";
import { parseExactJson } from "../shape/exact-json.js";
import type { BodyDecoder } from "./decoder.js";
import { decodeText, isWebPage, webPage } from "./text.js";

/** Reads JSON Lines: the tree is the list of records. */
export function jsonLinesDecoder(): BodyDecoder<"json_lines"> {
  return { kind: "json_lines", inPieces: true, decode: (bytes, where) => [readLines(bytes, where)] };
}

/**
 * A line that is no JSON becomes a text, which no table takes: it is
 * kept in quarantine, and the others go on. A last line that breaks off is a broken response.
 */
function readLines(bytes: Uint8Array, where: Where): unknown[] {
  const text = decodeText(bytes, "utf-8", where);
  if (isWebPage(text)) throw webPage(bytes, "JSON Lines", where);
  const lines = text.split("\n");
  const records: unknown[] = [];
  for (const [i, line] of lines.entries()) {
    if (line.trim() === "") continue;
    try {
      records.push(parseExactJson(line));
    } catch (cause) {
      if (i === lines.length - 1)
        throw new BridgeError("BODY_TRUNCATED", "The last line of the response breaks off.", {
          where,
          cause,
        });
      records.push(line);
    }
  }
  return records;
}
