/** `--json`: one JSON object on each line, for machines. Its form is in output-schema.ts. */

import {
  type BridgeError,
  describeWhere,
  ERROR_CODES,
  type ErrorCode,
  isBridgeError,
} from "../core/errors.js";
import { snakeCase } from "../core/shape/naming.js";
import type { RunEvent } from "../run/events.js";
import { OUTPUT_VERSION } from "./output-schema.js";

/** One line of output. */
export function jsonLine(type: string, content: object): string {
  return `${JSON.stringify({ version: OUTPUT_VERSION, type, ...plainObject(content) })}\n`;
}

/** Events as lines; each names its run and bridge. */
export function eventLines(): (event: RunEvent) => string {
  const named = namedEvents();
  return (event) => jsonLine(event.type, named(event));
}

/** What events say beside their type; each names its run and bridge. */
export function namedEvents(): (event: RunEvent) => object {
  let run = {};
  return (event) => {
    const { type: _, ...content } = event;
    if (event.type === "run_started") run = { run: event.run, bridge: event.bridge };
    return { ...run, ...(event.type === "run_ended" ? event.report : content) };
  };
}

/** The content as the output writes it: snake_case, moments as text, errors in one form. */
export function plainObject(content: object): object {
  return plain(content) as object;
}

/** Of an error in the ledger, the kind is known by its code. */
export function errorOf(error: Pick<BridgeError, "message" | "hint"> & { code: string; where: string }) {
  return { ...error, kind: ERROR_CODES[error.code as ErrorCode]?.kind ?? "internal" };
}

/** Names of things that a user has named stay as they are. */
const KEYED_BY_NAMES = new Set(["rowsByTable", "record", "types"]);

function plain(value: unknown, key = ""): unknown {
  if (isBridgeError(value)) {
    const { code, message, where, hint } = value;
    return errorOf({ code, message, where: describeWhere(where), hint });
  }
  if (Array.isArray(value)) return value.map((item) => plain(item));
  if (typeof value !== "object" || value === null || KEYED_BY_NAMES.has(key)) return value;
  return Object.fromEntries(
    Object.entries(value).flatMap(([name, inner]) =>
      inner === undefined ? [] : [[snakeCase(name.replace(/AtMs$/, "At")), cell(name, inner)]],
    ),
  );
}

function cell(name: string, value: unknown): unknown {
  if (typeof value !== "number") return plain(value, name);
  if (name.endsWith("AtMs")) return new Date(value).toISOString();
  return /^ms$|Ms$/.test(name) ? Math.round(value) : value;
}
