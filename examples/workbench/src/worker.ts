/** Reads the answer by the lines, off the page's own thread: some of the records at once, then all of them. */

import { type FieldStats, isBridgeError, type Preview, preview, stringifyExact } from "early-bridge/core";
import { HEAD, headOf } from "./head.js";
import type { Ask, Mistake, Shown, ShownField, Told } from "./protocol.js";

/** So many records are looked at before anything is shown. */
const FIRST = 100;
/** So many rows of a table are sent to the page. */
const MOST_ROWS = 50;

const encoder = new TextEncoder();
let answer = "";
/** the whole answer, once it was needed */
let body: Uint8Array | undefined;
/** its begin, while only that has been looked at */
let head: Uint8Array | undefined;
let latest = 0;

self.onmessage = ({ data }: MessageEvent<Ask>) => {
  if (data.answer !== undefined) {
    answer = data.answer;
    body = undefined;
    const first = answer.length > 2 * HEAD ? headOf(answer) : undefined;
    head = first === undefined ? undefined : encoder.encode(first);
  }
  latest = data.id;
  const beganMs = performance.now();
  // what was typed meanwhile goes before all that is slow
  const later = (work: () => void) => setTimeout(() => data.id === latest && work());
  const whole = () => told(data, wholeBody(), undefined, beganMs);
  if (body === undefined && head !== undefined) {
    told(data, head, FIRST, beganMs);
    later(whole);
  } else if (!told(data, wholeBody(), FIRST, beganMs)) later(whole);
};

function wholeBody(): Uint8Array {
  body ??= encoder.encode(answer);
  return body;
}

/** Tells what the records become; true when they were all of them. */
function told(ask: Ask, of: Uint8Array, most: number | undefined, beganMs: number): boolean {
  const send = (message: Told) => self.postMessage(message);
  try {
    const { connector, stream, headers } = ask;
    const seen = preview({ connector, stream, headers, body: of, most });
    const isHead = of !== body;
    const isWhole = !isHead && (most === undefined || seen.received <= most);
    const shown = { ...shownOf(seen), next: isHead ? PENDING : seen.next };
    send({ id: ask.id, shown, isWhole, ms: Math.round(performance.now() - beganMs) });
    return isWhole;
  } catch (error) {
    // lines that read the whole may find nothing in its begin
    if (of === body) send({ id: ask.id, mistake: mistakeOf(error) });
    return of === body;
  }
}

/** What follows a page stands behind its records, mostly. */
const PENDING = { end: "the rest of the answer is being read" };

function mistakeOf(error: unknown): Mistake {
  if (!isBridgeError(error)) return { message: String(error), hint: "", line: undefined, column: undefined };
  const [, line, column] = /^connector:(\d+):(\d+)$/.exec(error.where.file ?? "") ?? [];
  return {
    message: error.message,
    hint: error.hint,
    line: line === undefined ? undefined : Number(line),
    column: column === undefined ? undefined : Number(column),
  };
}

function shownOf(seen: Preview): Shown {
  return {
    stream: seen.stream,
    streams: seen.streams,
    received: seen.received,
    lookedAt: seen.records.length,
    leftOut: seen.leftOut,
    tables: seen.tables.map(({ name, columns, rows }) => ({
      name,
      columns: columns.map(({ name: column, type, declared, role }) => ({
        name: column,
        type,
        declared: declared && role === "data",
      })),
      rows: rows.slice(0, MOST_ROWS).map((row) => columns.map((column) => cellText(row[column.name]))),
      count: rows.length,
    })),
    fields: seen.fields.map(fieldOf),
    misfits: seen.quarantined
      .slice(0, MOST_ROWS)
      .map(({ message, record }) => ({ message, record: stringifyExact(record) })),
    misfitCount: seen.quarantined.length,
    decisions: seen.decisions.slice(0, MOST_ROWS).map(({ record, key, holds, part, values }) => ({
      record: key.length === 0 ? `record ${record + 1}` : key.map(cellText).join(", "),
      kept: holds === undefined ? "not judged" : holds ? "kept" : "left out",
      part,
      values: values.map(({ field, value }) => `${field} = ${cellText(value) || "nothing"}`).join(", "),
    })),
    next: seen.next,
  };
}

function fieldOf(field: FieldStats): ShownField {
  const { path, of, filled, types, distinct, isCapped, least, greatest, frequent, example } = field;
  return {
    path,
    share: of === 0 ? 0 : filled / of,
    types: Object.keys(types)
      .map((type) => (type === "number_text" ? "number in quotes" : type))
      .join(", "),
    distinct: example === undefined ? "" : `${distinct}${isCapped ? "+" : ""}`,
    least: cellText(least),
    greatest: cellText(greatest),
    frequent: frequent.map(({ value, times }) => ({ value: cellText(value), times })),
    example: cellText(example),
  };
}

function cellText(value: unknown): string {
  if (value === null || value === undefined) return "";
  return typeof value === "string" ? value : stringifyExact(value);
}
