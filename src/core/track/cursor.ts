/**
 * Cursors: how far a stream has got.
 *
 * While a stream is read, each page gives a span (what its records say of the cursor's field); spans join in
 * reading order. At a checkpoint the joined span and the last cursor make the next one:
 *
 *   - all pages read: the greatest value seen;
 *   - in the middle, `order: ascending`: the greatest value that is certainly complete. Records that share the
 *     greatest value may go on behind the page border, so it is the value before it;
 *   - in the middle, any other order: the old value, and the position of the next page, to go on there soon.
 */

import { Temporal } from "temporal-polyfill";
import type { PagePosition } from "../ask/page-position.js";
import type { InstantFormat } from "../define/ask-schema.js";
import { isDuration } from "../define/duration.js";
import { formatInstant, instantMicros } from "../shape/date-time.js";
import { ExactNumber } from "../shape/exact-json.js";
import { getByPath } from "../shape/path-get.js";

export interface CursorRule {
  /** what is compared: a field of the records; a token that the API gives; the time of the last whole run */
  readonly kind: "field" | "delta" | "last_run";
  /** the field's path; undefined for the other kinds */
  readonly field?: readonly string[] | undefined;
  readonly query?: string | undefined;
  /** where a first run begins: a value of the field, or an ISO 8601 duration before now as `-P90D` */
  readonly begin?: string | number | undefined;
  /** asked for again before the cursor: an ISO 8601 duration, or a number for a numeric field */
  readonly overlap?: string | number | undefined;
  /** the order in which the API gives records */
  readonly order: "ascending" | "descending" | "any";
  /** whether the API's filter gives records at the value itself */
  readonly filter: "inclusive" | "exclusive";
  /** how an instant is sent */
  readonly format: InstantFormat;
}

/** A cursor's value: an instant in µs since 1970, a whole number, or plain text. */
export type CursorValue =
  | { readonly kind: "instant"; readonly micros: number }
  | { readonly kind: "integer"; readonly value: bigint }
  | { readonly kind: "text"; readonly value: string };

/** What one page, or several in a row, say of the cursor's field. */
export interface CursorSpan {
  readonly records: number;
  readonly first: CursorValue | undefined;
  readonly last: CursorValue | undefined;
  readonly max: CursorValue | undefined;
  /** the greatest value below `max` */
  readonly below: CursorValue | undefined;
  /** values never went back */
  readonly ascending: boolean;
  /** values never went up */
  readonly descending: boolean;
  /** records whose field has no usable value */
  readonly missing: number;
}

/** The cursor of a stream, or of one part of it, as it is kept in the ledger (as JSON). */
export interface SavedCursor {
  /** the value up to which everything is loaded; undefined before the first end */
  readonly value?: string | undefined;
  /** an unfinished pass: where to go on, if it is not too long ago */
  readonly resume?:
    | {
        readonly position: PagePosition;
        /** the value that the pass began with */
        readonly since?: string | undefined;
        /** the greatest value seen in the pass so far */
        readonly max?: string | undefined;
        /** when the pass began, and when the position was received; ms since 1970 */
        readonly beganMs: number;
        readonly atMs: number;
      }
    | undefined;
  /** windows: what is done, as intervals of ms since 1970, the end exclusive */
  readonly covered?: readonly (readonly [number, number])[] | undefined;
  /** a part without cursor: when it was last read to its end */
  readonly doneAtMs?: number | undefined;
  /** a stream's own entry: a pass over its parts that is not at its end began then */
  readonly openSinceMs?: number | undefined;
}

export const EMPTY_SPAN: CursorSpan = {
  records: 0,
  first: undefined,
  last: undefined,
  max: undefined,
  below: undefined,
  ascending: true,
  descending: true,
  missing: 0,
};

/** Reads a field's value; undefined where it is no text and no whole number. */
export function cursorValue(raw: unknown): CursorValue | undefined {
  if (typeof raw === "string") {
    if (raw === "") return undefined;
    const micros = instantMicros(raw);
    return Number.isNaN(micros) ? { kind: "text", value: raw } : { kind: "instant", micros };
  }
  if (typeof raw === "bigint") return { kind: "integer", value: raw };
  if (typeof raw === "number" && Number.isSafeInteger(raw)) return { kind: "integer", value: BigInt(raw) };
  return raw instanceof ExactNumber ? { kind: "text", value: raw.text } : undefined;
}

/** Order of two values: instants by time, integers by size, texts by code unit; mixed kinds as texts. */
export function compareCursors(a: CursorValue, b: CursorValue): number {
  if (a.kind === "instant" && b.kind === "instant") return a.micros - b.micros;
  if (a.kind === "integer" && b.kind === "integer") return a.value < b.value ? -1 : a.value > b.value ? 1 : 0;
  const [left, right] = [formatCursor(a), formatCursor(b)];
  return left < right ? -1 : left > right ? 1 : 0;
}

/** The value as it is saved and sent: instants as RFC 3339 in UTC. */
export function formatCursor(value: CursorValue): string {
  return value.kind === "instant" ? formatInstant(value.micros) : String(value.value);
}

/** Reads a value that `formatCursor` wrote, for a field of the same kind as `like`. */
export function parseCursor(text: string): CursorValue {
  if (/^-?\d+$/.test(text)) return { kind: "integer", value: BigInt(text) };
  return cursorValue(text) ?? { kind: "text", value: text };
}

/** The span of one page's records, in reading order. */
export function spanOfRecords(records: readonly unknown[], field: readonly string[]): CursorSpan {
  let first: CursorValue | undefined;
  let last: CursorValue | undefined;
  let max: CursorValue | undefined;
  let below: CursorValue | undefined;
  let ascending = true;
  let descending = true;
  let missing = 0;
  for (const record of records) {
    const value = cursorValue(getByPath(record, field));
    if (value === undefined) {
      missing++;
      continue;
    }
    first ??= value;
    const step = last === undefined ? 0 : compareCursors(value, last);
    if (step < 0) ascending = false;
    if (step > 0) descending = false;
    last = value;
    const order = max === undefined ? 1 : compareCursors(value, max);
    if (order > 0) {
      below = max;
      max = value;
    } else if (order < 0) below = greater(below, value);
  }
  return { records: records.length, first, last, max, below, ascending, descending, missing };
}

/** Two spans read one after the other, as one. Associative, with EMPTY_SPAN as neutral element. */
export function joinSpans(a: CursorSpan, b: CursorSpan): CursorSpan {
  const max = greater(a.max, b.max);
  const belowMax = [a.max, a.below, b.max, b.below].filter(
    (value) => value !== undefined && max !== undefined && compareCursors(value, max) < 0,
  );
  return {
    records: a.records + b.records,
    first: a.first ?? b.first,
    last: b.last ?? a.last,
    max,
    below: belowMax.reduce(greater, undefined),
    ascending:
      a.ascending &&
      b.ascending &&
      (a.last === undefined || b.first === undefined || compareCursors(a.last, b.first) <= 0),
    descending:
      a.descending &&
      b.descending &&
      (a.last === undefined || b.first === undefined || compareCursors(a.last, b.first) >= 0),
    missing: a.missing + b.missing,
  };
}

function greater(a: CursorValue | undefined, b: CursorValue | undefined): CursorValue | undefined {
  if (a === undefined || b === undefined) return a ?? b;
  return compareCursors(a, b) >= 0 ? a : b;
}

/** How long a position is trusted to lead on in an unfinished pass, in ms. */
export const POSITION_LIFE_MS = 3_600_000;

/** How to begin a stream: the value to ask from, and a position where an unfinished pass can go on. */
export interface CursorStart {
  readonly since: string | undefined;
  readonly position: PagePosition | undefined;
  /** when the pass began, ms since 1970 */
  readonly beganMs: number;
  /** what an unfinished pass has seen so far */
  readonly span: CursorSpan;
}

/** A pass over everything, from the first page. */
export function freshStart(nowMs: number): CursorStart {
  return { since: undefined, position: undefined, beganMs: nowMs, span: EMPTY_SPAN };
}

/** Where to begin, from what the ledger kept. `nowMs` is the run's time, in ms since 1970. */
export function startOfCursor(rule: CursorRule, saved: SavedCursor | undefined, nowMs: number): CursorStart {
  const resume = saved?.resume;
  // a ledger of format 1 kept a bare token here, of an hour's use at most
  if (resume?.position !== undefined && nowMs - resume.atMs < POSITION_LIFE_MS) {
    const max = resume.max === undefined ? undefined : parseCursor(resume.max);
    const { since, position, beganMs } = resume;
    return { since, position: stepBack(position), beganMs, span: { ...EMPTY_SPAN, max } };
  }
  return { ...freshStart(nowMs), since: sinceOf(rule, saved, nowMs) };
}

function sinceOf(rule: CursorRule, saved: SavedCursor | undefined, nowMs: number): string | undefined {
  if (saved?.value === undefined) return beginValue(rule.begin, nowMs);
  if (rule.kind === "delta") return saved.value;
  return withOverlap(parseCursor(saved.value), rule.overlap ?? (rule.filter === "inclusive" ? 0 : undefined));
}

/** Numbered pages may have moved meanwhile: the last one is read again. */
function stepBack(position: PagePosition): PagePosition {
  if (position.at === "number") return { ...position, number: Math.max(0, position.number - 1) };
  if (position.at !== "offset") return position;
  return { ...position, offset: Math.max(0, position.offset - (position.size ?? 0)) };
}

/** An absolute begin as it is, a relative one (an ISO 8601 duration) as an instant. */
export function beginValue(begin: string | number | undefined, nowMs: number): string | undefined {
  if (begin === undefined) return undefined;
  if (typeof begin === "string" && isDuration(begin)) {
    const now = Temporal.Instant.fromEpochMilliseconds(nowMs).toZonedDateTimeISO("UTC");
    return formatInstant(now.add(Temporal.Duration.from(begin)).epochMilliseconds * 1000);
  }
  const value = cursorValue(begin);
  return value === undefined ? String(begin) : formatCursor(value);
}

/**
 * The value to ask from: the cursor less its overlap. An instant without a declared overlap goes back one second,
 * for filters are often exclusive and many records may share the cursor's own second.
 */
export function withOverlap(value: CursorValue, overlap: string | number | undefined): string {
  if (value.kind === "instant") {
    if (overlap === 0) return formatCursor(value);
    const duration = Temporal.Duration.from(typeof overlap === "string" ? overlap : "PT1S");
    const at = Temporal.Instant.fromEpochMilliseconds(Math.floor(value.micros / 1000)).toZonedDateTimeISO(
      "UTC",
    );
    const back = at.subtract(duration);
    return formatInstant(back.epochMilliseconds * 1000 + (((value.micros % 1000) + 1000) % 1000));
  }
  if (value.kind === "integer") {
    return String(value.value - BigInt(typeof overlap === "number" ? Math.floor(overlap) : 1));
  }
  return value.value;
}

/** A value as the API wants it sent; what is no instant goes as it is. */
export function sendValue(since: string, format: InstantFormat): string {
  const micros = format === "date_time" ? Number.NaN : instantMicros(since);
  return Number.isNaN(micros) ? since : formatMoment(micros, format);
}

/** A moment in µs since 1970 in one of the forms that APIs take; parts of the unit are cut off. */
export function formatMoment(micros: number, format: InstantFormat): string {
  switch (format) {
    case "date_time":
      return formatInstant(micros);
    case "date":
      return formatInstant(micros).slice(0, 10);
    case "seconds":
      return String(Math.floor(micros / 1e6));
    case "milliseconds":
      return String(Math.floor(micros / 1e3));
  }
}

/** How far a pass has come when a checkpoint is made. */
export interface PassState {
  readonly span: CursorSpan;
  /** the next page; undefined when the pass is at its end */
  readonly next: PagePosition | undefined;
  /** what the last page gave for the next run's changes */
  readonly delta?: string | undefined;
}

/** The cursor to commit with a checkpoint. `saved` is the one the pass began with. */
export function nextCursor(
  rule: CursorRule,
  saved: SavedCursor | undefined,
  start: CursorStart,
  { span, next, delta }: PassState,
  nowMs: number,
): SavedCursor {
  if (next === undefined && rule.kind === "delta") return { value: delta ?? saved?.value };
  if (next === undefined && rule.kind === "last_run")
    return { value: formatInstant(Math.min(start.beganMs, nowMs) * 1000) };
  const old = saved?.value === undefined || rule.kind !== "field" ? undefined : parseCursor(saved.value);
  if (next === undefined) {
    const reached = notAfter(greater(old, span.max), nowMs);
    return { value: reached === undefined ? undefined : formatCursor(reached) };
  }
  // an API that breaks the order it was said to keep falls back to the position, from the pass's own beginning
  if (rule.kind === "field" && rule.order === "ascending" && span.ascending) {
    const complete = notAfter(greater(old, span.below), nowMs);
    return { value: complete === undefined ? undefined : formatCursor(complete) };
  }
  return {
    value: saved?.value,
    resume: {
      position: next,
      since: start.since,
      max: span.max === undefined ? undefined : formatCursor(span.max),
      beganMs: start.beganMs,
      atMs: nowMs,
    },
  };
}

/**
 * Whether a list that comes newest first has reached what is known already. A list that broke its order is read
 * to its end.
 */
export function reachedKnown(rule: CursorRule, start: CursorStart, span: CursorSpan): boolean {
  if (rule.order !== "descending" || start.since === undefined || span.last === undefined) return false;
  return span.descending && compareCursors(span.last, parseCursor(start.since)) < 0;
}

/** A record from the future must not carry the cursor past records that are yet to come. */
function notAfter(value: CursorValue | undefined, nowMs: number): CursorValue | undefined {
  if (value?.kind !== "instant" || value.micros <= nowMs * 1000) return value;
  return { kind: "instant", micros: nowMs * 1000 };
}
