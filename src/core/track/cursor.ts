/**
 * Cursors: how far a stream has got.
 *
 * While a stream is read, each page gives a span (what its records say of the cursor's field); spans join in
 * reading order. At a checkpoint the joined span and the last cursor make the next one:
 *
 *   - all pages read: the greatest value seen;
 *   - in the middle, `order: ascending`: the greatest value that is certainly complete. Records that share the
 *     greatest value may go on behind the page border, so it is the value before it;
 *   - in the middle, any order: the old value, and the token of the next page, to go on there soon.
 */

import { Temporal } from "temporal-polyfill";
import { formatInstant, instantMicros } from "../shape/date-time.js";
import { ExactNumber } from "../shape/exact-json.js";
import { getByPath } from "../shape/path-get.js";

export interface CursorRule {
  readonly field: readonly string[];
  readonly query: string;
  /** where a first run begins: a value of the field, or an ISO 8601 duration before now as `-P90D` */
  readonly begin?: string | number | undefined;
  /** asked for again before the cursor: an ISO 8601 duration, or a number for a numeric field */
  readonly overlap?: string | number | undefined;
  /** ascending: the API gives records in the cursor's order, so a broken-off run goes on by value */
  readonly order: "ascending" | "any";
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
  /** records whose field has no usable value */
  readonly missing: number;
}

/** The cursor as it is kept in the ledger (as JSON). */
export interface SavedCursor {
  /** the value up to which everything is loaded; undefined before the first end */
  readonly value?: string | undefined;
  /** an unfinished pass: where to go on, if it is not too long ago */
  readonly resume?:
    | {
        readonly token: string;
        /** the query value that the pass began with */
        readonly since?: string | undefined;
        /** the greatest value seen in the pass so far */
        readonly max?: string | undefined;
        /** when the token was received, in ms since 1970 */
        readonly atMs: number;
      }
    | undefined;
}

export const EMPTY_SPAN: CursorSpan = {
  records: 0,
  first: undefined,
  last: undefined,
  max: undefined,
  below: undefined,
  ascending: true,
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
export function spanOfRecords(records: readonly unknown[], rule: CursorRule): CursorSpan {
  let first: CursorValue | undefined;
  let last: CursorValue | undefined;
  let max: CursorValue | undefined;
  let below: CursorValue | undefined;
  let ascending = true;
  let missing = 0;
  for (const record of records) {
    const value = cursorValue(getByPath(record, rule.field));
    if (value === undefined) {
      missing++;
      continue;
    }
    first ??= value;
    if (last !== undefined && compareCursors(value, last) < 0) ascending = false;
    last = value;
    const order = max === undefined ? 1 : compareCursors(value, max);
    if (order > 0) {
      below = max;
      max = value;
    } else if (order < 0) below = greater(below, value);
  }
  return { records: records.length, first, last, max, below, ascending, missing };
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
    missing: a.missing + b.missing,
  };
}

function greater(a: CursorValue | undefined, b: CursorValue | undefined): CursorValue | undefined {
  if (a === undefined || b === undefined) return a ?? b;
  return compareCursors(a, b) >= 0 ? a : b;
}

/** How long a page token is trusted to lead on in an unfinished pass, in ms. */
export const TOKEN_LIFE_MS = 3_600_000;

/** How to begin a stream: the value to ask from, and a token where an unfinished pass can go on. */
export interface CursorStart {
  readonly since: string | undefined;
  readonly token: string | undefined;
  /** what an unfinished pass has seen so far */
  readonly span: CursorSpan;
}

/** Where to begin, from what the ledger kept. `nowMs` is the run's time, in ms since 1970. */
export function startOfCursor(rule: CursorRule, saved: SavedCursor | undefined, nowMs: number): CursorStart {
  const resume = saved?.resume;
  if (resume !== undefined && nowMs - resume.atMs < TOKEN_LIFE_MS) {
    const max = resume.max === undefined ? undefined : parseCursor(resume.max);
    return { since: resume.since, token: resume.token, span: { ...EMPTY_SPAN, max } };
  }
  const since =
    saved?.value === undefined
      ? beginValue(rule, nowMs)
      : withOverlap(parseCursor(saved.value), rule.overlap);
  return { since, token: undefined, span: EMPTY_SPAN };
}

function beginValue(rule: CursorRule, nowMs: number): string | undefined {
  const { begin } = rule;
  if (begin === undefined) return undefined;
  if (typeof begin === "string" && /^[+-]?P/.test(begin)) {
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

/** The cursor to commit with a checkpoint. `saved` is the one the pass began with; `nextToken` is undefined when the stream's last page is in. */
export function nextCursor(
  rule: CursorRule,
  saved: SavedCursor | undefined,
  start: CursorStart,
  span: CursorSpan,
  nextToken: string | undefined,
  nowMs: number,
): SavedCursor {
  const old = saved?.value === undefined ? undefined : parseCursor(saved.value);
  if (nextToken === undefined) {
    const reached = notAfter(greater(old, span.max), nowMs);
    return { value: reached === undefined ? undefined : formatCursor(reached) };
  }
  // an API that breaks the order it was said to keep falls back to the token, from the pass's own beginning
  if (rule.order === "ascending" && span.ascending) {
    const complete = notAfter(greater(old, span.below), nowMs);
    return { value: complete === undefined ? undefined : formatCursor(complete) };
  }
  return {
    value: saved?.value,
    resume: {
      token: nextToken,
      since: start.since,
      max: span.max === undefined ? undefined : formatCursor(span.max),
      atMs: nowMs,
    },
  };
}

/** A record from the future must not carry the cursor past records that are yet to come. */
function notAfter(value: CursorValue | undefined, nowMs: number): CursorValue | undefined {
  if (value?.kind !== "instant" || value.micros <= nowMs * 1000) return value;
  return { kind: "instant", micros: nowMs * 1000 };
}
