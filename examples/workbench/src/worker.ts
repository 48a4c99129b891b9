/** Reads the answer by the lines, off the page's own thread. */

import { ChangeSet, Text } from "@codemirror/state";
import { type FieldStats, isBridgeError, type Preview, preview, stringifyExact } from "early-bridge/core";
import { HEAD, headOf } from "./head.js";
import type { Ask, Mistake, Role, Shown, ShownField, Told } from "./protocol.js";

/** So many records are looked at before anything is shown. */
const FIRST = 100;
/** So many rows of a table are sent to the page: it lays them all out anew when one changes. */
const MOST_ROWS = 20;

/** So long nothing is typed before all is read, in milliseconds. */
const QUIET = 100;

const role = self.name as Role;
const encoder = new TextEncoder();
let answer = Text.empty;
/** of the answer, what this worker looks at; undefined until it is needed */
let body: Uint8Array | undefined;
let isHead = false;
let latest = 0;

self.onmessage = ({ data }: MessageEvent<Ask>) => {
  if (data.answer !== undefined) {
    answer = changed(data.answer);
    body = undefined;
  }
  latest = data.id;
  if (role === "first") tell(data, FIRST);
  else setTimeout(() => data.id === latest && tell(data, undefined), QUIET);
};

function changed(how: NonNullable<Ask["answer"]>): Text {
  if ("changes" in how) return ChangeSet.fromJSON(how.changes).apply(answer);
  return Text.of(how.whole.split("\n"));
}

function bodyOf(): Uint8Array {
  const isLong = role === "first" && answer.length > 2 * HEAD;
  const head = isLong ? headOf(answer.sliceString(0, HEAD)) : undefined;
  isHead = head !== undefined;
  return encoder.encode(head ?? answer.toString());
}

/** Tells what the records become. */
function tell({ id, connector, stream, headers }: Ask, most: number | undefined): void {
  const beganMs = performance.now();
  const send = (message: Told) => self.postMessage(message);
  body ??= bodyOf();
  try {
    const seen = preview({ connector, stream, headers, body, most });
    const isWhole = !isHead && (most === undefined || seen.received <= most);
    const shown = { ...shownOf(seen), next: isHead ? PENDING : seen.next };
    send({ id, shown, isWhole, ms: Math.round(performance.now() - beganMs) });
  } catch (error) {
    const mistake = mistakeOf(error);
    // lines that read the whole may find nothing in its begin
    if (!isHead || mistake.line !== undefined) send({ id, mistake });
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
