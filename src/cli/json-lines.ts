/**
 * `--json`: one JSON object on each line, for machines.
 *
 * Names are in snake_case; moments are RFC 3339 in UTC and end in `_at`, spans are whole ms and end in `_ms`. The form
 * is described in schemas/output.schema.json; a change that a reader could stumble over raises `version`.
 */

import * as z from "zod";
import {
  type BridgeError,
  describeWhere,
  ERROR_CODES,
  type ErrorCode,
  isBridgeError,
} from "../core/errors.js";
import { snakeCase } from "../core/shape/naming.js";
import type { RunEvent } from "../run/events.js";

export const OUTPUT_VERSION = 1;

const count = z.int().min(0);
const ms = count.describe("ms");
const moment = z.iso.datetime().describe("RFC 3339, in UTC");

const errorObject = z
  .strictObject({
    code: z.string().describe("Stable; docs and messages may change, codes do not"),
    kind: z.string().describe("What kind of thing failed; the exit code follows from it"),
    message: z.string(),
    where: z.string().describe("The place, on one line; empty where none is known"),
    hint: z.string().describe("What to do next"),
  })
  .describe("A failure, the same everywhere");

const outcome = z
  .enum(["running", "done", "incomplete", "paused", "stopped", "failed", "broken_off"])
  .describe("paused: the API's limit is used up; broken_off: the process was gone");

/** Of a stream that was read to its end, received = added + changed + unchanged + left_out + quarantined + doubled. */
const streamRecord = {
  stream: z.string(),
  outcome,
  received: count.describe("Records that the API gave"),
  left_out: count.describe("Left out by where, or older than the cursor"),
  records: count,
  added: count,
  changed: count,
  unchanged: count,
  removed: count,
  quarantined: count,
  doubled: count,
  pages: count,
  checkpoints: count,
  requests: count,
  retries: count,
  waited_ms: ms,
  bytes: count,
  ask_ms: ms,
  shape_ms: ms,
  load_ms: ms,
  error: errorObject.optional(),
};

const streamReport = z.strictObject({
  ...streamRecord,
  rows_by_table: z.record(z.string(), count).describe("Rows written, child tables as well"),
  cursor: z.string().optional().describe("Where the stream stands, in words"),
  parts: count,
  failed_parts: z.array(z.strictObject({ part: z.string(), error: errorObject })),
});

const runReport = {
  outcome,
  started_at: moment,
  ended_at: moment.optional(),
  error: errorObject.optional(),
};

const line = <T extends string, S extends z.ZodRawShape>(type: T, shape: S) =>
  z.strictObject({ version: z.literal(OUTPUT_VERSION), type: z.literal(type), ...shape });
const ofRun = { run: count, bridge: z.string() };
const ofStream = { ...ofRun, stream: z.string() };

export const outputLine = z
  .discriminatedUnion("type", [
    line("run_started", { ...ofRun, streams: z.array(z.string()) }),
    line("stream_started", {
      ...ofStream,
      since: z.string().optional(),
      goes_on: z.boolean().describe("In the middle of a pass that broke off"),
      parts: count,
      windows: count.optional(),
    }),
    line("page", {
      ...ofStream,
      part: z.string().describe("Empty for a stream without parts"),
      page: count,
      records: count,
      rows: count.describe("Of all tables"),
      bytes: count,
      requests_left: count.optional(),
    }),
    line("waiting", { ...ofStream, reason: z.enum(["pace", "api_asked"]), ms }),
    line("retry", { ...ofStream, attempt: count, ms, why: z.string() }),
    line("notice", { ...ofStream, message: z.string() }),
    line("checkpoint", { ...ofStream, number: count, cursor: z.string().optional() }),
    line("schema_changed", {
      ...ofStream,
      table: z.string(),
      column: z.string().optional(),
      change: z.enum(["table_added", "column_added", "type_widened"]),
      from_type: z.string().optional(),
      to_type: z.string().optional(),
    }),
    line("quarantined", { ...ofStream, reason: z.string(), path: z.string(), message: z.string() }),
    line("stream_ended", { ...ofStream, report: streamReport }),
    line("run_ended", { ...ofRun, ...runReport, streams: z.array(streamReport) }),
    line("run", { ...ofRun, ...runReport, streams: z.array(z.strictObject(streamRecord)) }).describe(
      "A run of the history",
    ),
    line("plan", {
      bridge: z.string(),
      stream: z.string(),
      table: z.string(),
      write: z.string(),
      lines: z.array(z.strictObject({ label: z.string(), text: z.string() })),
      warnings: z.array(z.string()),
    }),
    line("check", {
      check: z.string(),
      outcome: z.enum(["good", "note", "bad", "left_out"]),
      ms,
      found: z.string(),
      error: errorObject.optional(),
    }).describe("A line of the probe"),
    line("error", { error: errorObject }).describe("The command could not do its work"),
  ])
  .describe("Early Bridge output: one line of --json");

/** One line of output. */
export function jsonLine(type: string, content: object): string {
  return `${JSON.stringify({ version: OUTPUT_VERSION, type, ...(plain(content) as object) })}\n`;
}

/** Events as lines; each names its run and bridge. */
export function eventLines(): (event: RunEvent) => string {
  let run = {};
  return (event) => {
    const { type, ...content } = event;
    if (event.type === "run_started") run = { run: event.run, bridge: event.bridge };
    return jsonLine(type, { ...run, ...(event.type === "run_ended" ? event.report : content) });
  };
}

/** Of an error in the ledger, the kind is known by its code. */
export function errorOf(error: Pick<BridgeError, "message" | "hint"> & { code: string; where: string }) {
  return { ...error, kind: ERROR_CODES[error.code as ErrorCode]?.kind ?? "internal" };
}

/** Names of things that a user has named stay as they are. */
const KEYED_BY_NAMES = new Set(["rowsByTable"]);

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
