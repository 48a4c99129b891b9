/** JSON (RFC 8259), every digit kept. */

import { BridgeError, type Where } from "../errors.js";
import type { JsonPath } from "../language/plain-path.js";
import { mayHoldInexactNumber, parseExactJson } from "../shape/exact-json.js";
import type { BodyDecoder } from "./decoder.js";
import { webPage } from "./text.js";

/** Records may be lists of values: a header row or `names` then says what they are called. */
export interface JsonDecoder extends BodyDecoder<"json"> {
  readonly headerRow?: true | undefined;
  readonly names?: JsonPath | undefined;
}

/** Reads JSON. Whole numbers beyond 2^53 are bigint, other inexact numbers ExactNumber. */
export function jsonDecoder(lists: Pick<JsonDecoder, "headerRow" | "names"> = {}): JsonDecoder {
  return { kind: "json", inPieces: false, decode: (bytes, where) => [parseBody(bytes, where)], ...lists };
}

const utf8 = new TextDecoder("utf-8", { fatal: true });

/**
 * The JSON of a response body.
 * @throws BridgeError BODY_HTML, BODY_TRUNCATED, BODY_NOT_JSON
 */
export function parseBody(bytes: Uint8Array, where: Where): unknown {
  const first = bytes[firstNonBlank(bytes)];
  if (first === 60) throw webPage(bytes, "JSON", where);
  if (first === undefined)
    throw new BridgeError("BODY_TRUNCATED", "JSON was expected, nothing came.", { where });
  try {
    const text = utf8.decode(bytes);
    return mayHoldInexactNumber(bytes, text) ? parseExactJson(text) : JSON.parse(text);
  } catch (cause) {
    const last = bytes[lastNonBlank(bytes)];
    if ((first === 123 && last !== 125) || (first === 91 && last !== 93)) {
      const message = `The JSON breaks off after ${bytes.length} bytes.`;
      throw new BridgeError("BODY_TRUNCATED", message, { where, cause });
    }
    const message = `The response is not valid JSON; it begins: ${beginOf(bytes)}`;
    throw new BridgeError("BODY_NOT_JSON", message, { where, cause });
  }
}

function beginOf(bytes: Uint8Array): string {
  return new TextDecoder().decode(bytes.subarray(0, 60)).replaceAll(/\s+/g, " ");
}

function firstNonBlank(bytes: Uint8Array): number {
  let at = 0;
  // blanks of RFC 8259, and the byte order mark that some servers send
  while (
    at < bytes.length &&
    (bytes[at]! <= 32 || bytes[at]! === 0xef || bytes[at]! === 0xbb || bytes[at]! === 0xbf)
  ) {
    at++;
  }
  return at;
}

function lastNonBlank(bytes: Uint8Array): number {
  let at = bytes.length - 1;
  while (at > 0 && bytes[at]! <= 32) at--;
  return at;
}
