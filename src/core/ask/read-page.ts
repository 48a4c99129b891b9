/**
 * `readPage(bytes, plan)`: a page's bytes into the envelope's values, typed batches, the cursor's span and issues.
 *
 * This is the plain reader: JSON.parse with a lossless path, then a walk. The values that decide the next request
 * are there at once; the batches are made when `shape()` is called, so that the next page can be asked for before.
 */

import { BridgeError, typeName, type Where } from "../errors.js";
import { mayHoldInexactNumber, parseExactJson } from "../shape/exact-json.js";
import type { Shape, Shaped } from "../shape/shape.js";
import { type CursorRule, type CursorSpan, spanOfRecords } from "../track/cursor.js";
import type { JsonPath } from "./json-path.js";

export interface ReadPlan {
  readonly stream: string;
  readonly records: JsonPath;
  /** where the next page's token is; undefined for a stream of one page */
  readonly token?: JsonPath | undefined;
  readonly cursor?: CursorRule | undefined;
}

export interface PageRead {
  /** the next page's token; undefined on the last page */
  readonly nextToken: string | undefined;
  readonly records: readonly unknown[];
  readonly bytes: number;
  /** what the records say of the cursor; undefined where the stream has none */
  span(): CursorSpan | undefined;
  /** rows of all tables; may be called once */
  shape(shape: Shape): Shaped;
}

const decoder = new TextDecoder("utf-8", { fatal: true });

/**
 * Reads one page.
 * @throws BridgeError BODY_HTML, BODY_TRUNCATED, BODY_NOT_JSON, RECORDS_NOT_FOUND, TOKEN_NOT_TEXT
 */
export function readPage(bytes: Uint8Array, plan: ReadPlan, where: Where = {}): PageRead {
  const body = parseBody(bytes, where);
  const records = plan.records.all(body);
  if (records === undefined) throw recordsNotFound(body, plan, where);
  return {
    nextToken: readToken(body, plan, where),
    records,
    bytes: bytes.length,
    span: () => (plan.cursor === undefined ? undefined : spanOfRecords(records, plan.cursor)),
    shape: (shape) => shape.shapeRecords(records),
  };
}

/** JSON of a response body, every digit kept. */
export function parseBody(bytes: Uint8Array, where: Where): unknown {
  const first = bytes[firstNonBlank(bytes)];
  if (first === 60) {
    const title = /<title[^>]*>([^<]*)/i.exec(new TextDecoder().decode(bytes.subarray(0, 4096)))?.[1]?.trim();
    const seen = title === undefined || title === "" ? "a web page" : `a web page titled "${title}"`;
    const hint = /sign.?in|log.?in/i.test(title ?? "")
      ? "Check the sign-in, then the base URL: a page for signing in answered, not the API."
      : undefined;
    throw new BridgeError("BODY_HTML", `JSON was expected, ${seen} came.`, { where, hint });
  }
  if (first === undefined)
    throw new BridgeError("BODY_TRUNCATED", "JSON was expected, nothing came.", { where });
  try {
    const text = decoder.decode(bytes);
    return mayHoldInexactNumber(bytes, text) ? parseExactJson(text) : JSON.parse(text);
  } catch (cause) {
    const last = bytes[lastNonBlank(bytes)];
    if ((first === 123 && last !== 125) || (first === 91 && last !== 93)) {
      const message = `The JSON breaks off after ${bytes.length} bytes.`;
      throw new BridgeError("BODY_TRUNCATED", message, { where, cause });
    }
    const start = new TextDecoder().decode(bytes.subarray(0, 60)).replaceAll(/\s+/g, " ");
    throw new BridgeError("BODY_NOT_JSON", `The answer is no valid JSON; it begins: ${start}`, {
      where,
      cause,
    });
  }
}

function readToken(body: unknown, plan: ReadPlan, where: Where): string | undefined {
  const token = plan.token?.first(body);
  if (token === undefined || token === null || token === "" || token === false) return undefined;
  if (typeof token === "string") return token;
  if (typeof token === "number" || typeof token === "bigint") return String(token);
  const message = `The next page's token at ${plan.token!.text} is ${typeName(token)}.`;
  throw new BridgeError("TOKEN_NOT_TEXT", message, { where });
}

function recordsNotFound(body: unknown, plan: ReadPlan, where: Where): BridgeError {
  const lists =
    typeof body === "object" && body !== null && !Array.isArray(body)
      ? Object.entries(body).map(([key, value]) => `${key} (${typeName(value)})`)
      : [];
  const seen = Array.isArray(body) ? "a list" : lists.length > 0 ? lists.join(", ") : typeName(body);
  const list = Array.isArray(body)
    ? "$[*]"
    : Object.entries((body ?? {}) as object).find(([, value]) => Array.isArray(value))?.[0];
  const suggestion = list === undefined ? undefined : list === "$[*]" ? list : `$.${list}[*]`;
  return new BridgeError(
    "RECORDS_NOT_FOUND",
    `Nothing is at records: ${plan.records.text}. The answer holds: ${seen}.`,
    {
      where,
      hint: suggestion === undefined ? undefined : `Perhaps records: ${suggestion} is meant.`,
    },
  );
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
