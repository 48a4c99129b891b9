/**
 * Cursors: how far a stream has got.
 *
 * While a stream is read, each page gives a span (what its records say of the cursor's field); spans join in
 * reading order. At a checkpoint the joined span and the last cursor make the next one:
 *
 *   - all pages read: the greatest value seen; where they came in no order, none after the pass began;
 *   - in the middle, `order: ascending`: the greatest value that is certainly complete. Records that share the
 *     greatest value may go on behind the page border, so it is the value before it;
 *   - in the middle, any other order: the old value, and the position of the next page, to go on there soon.
 */

import { Temporal } from "temporal-polyfill";
import type { PagePosition } from "../ask/page-position.js";
import type { InstantFormat } from "../define/parts-schema.js";
import { BridgeError } from "../errors.js";
import { isDuration } from "../language/duration.js";
import { formatInstant } from "../shape/date-time.js";
import {
  type CursorKind,
  type CursorValue,
  compareCursors,
  cursorValue,
  type EpochUnit,
  epochMicros,
  epochUnit,
  instantLike,
  KIND_WORDS,
  valueOfKind,
  withOverlap,
} from "./cursor-value.js";

/** How a stream's cursor is asked for and moved. */
export interface CursorRule {
  /** what is compared: a field of the records; a token that the API gives; the time of the last whole run */
  readonly kind: "field" | "delta" | "last_run";
  /** the field's path; undefined for the other kinds */
  readonly field?: readonly string[] | undefined;
  readonly query?: string | undefined;
  /** a delta is an address, also one without a host */
  readonly deltaIsLink?: boolean | undefined;
  /** the query's value, made of the cursor's; default: as it is */
  readonly send?: ((value: string) => string) | undefined;
  /** where a first run begins: a value of the field, or an ISO 8601 duration before now as `-P90D` */
  readonly start?: string | number | undefined;
  /** asked for again before the cursor: an ISO 8601 duration, or a number for a numeric field */
  readonly overlap?: string | number | undefined;
  /** the order in which the API gives records */
  readonly order: "ascending" | "descending" | "any";
  /** whether the API's filter gives records at the value itself */
  readonly bounds: "inclusive" | "exclusive";
  /** how an instant is sent */
  readonly format: InstantFormat;
}

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
  /** records whose field has no value of the stream's kind */
  readonly missing: number;
  /** those of them whose value is of another kind, and one such value */
  readonly strange: number;
  readonly stranger: string | undefined;
}

/** The cursor of a stream, or of one part of it, as it is kept in the ledger (as JSON). */
export interface SavedCursor {
  /** the value up to which everything is loaded, as the API wrote it; undefined before the first end */
  readonly value?: string | undefined;
  /** what the stream's values are; a cursor of an older ledger has none, and tells it by its looks */
  readonly kind?: CursorKind | undefined;
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
  /** the table that is not ours, as `schema.table`, that the rows went into; undefined: the stream's own */
  readonly into?: string | undefined;
}

/** The cursors of what went into a table, or into the stream's own: others say nothing of what is there. */
export function cursorsOf(
  saved: ReadonlyMap<string, SavedCursor>,
  into: string | undefined,
): Map<string, SavedCursor> {
  return new Map([...saved].filter(([, cursor]) => cursor.into === into));
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
  strange: 0,
  stranger: undefined,
};

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
    strange: a.strange + b.strange,
    stranger: a.stranger ?? b.stranger,
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

/**
 * Where to begin, from what the ledger kept. `nowMs` is the run's time, in ms since 1970.
 * @throws BridgeError CURSOR_UNFIT where the overlap does not go with the values
 */
export function startOfCursor(rule: CursorRule, saved: SavedCursor | undefined, nowMs: number): CursorStart {
  const resume = saved?.resume;
  // a ledger of format 1 kept a bare token here, of an hour's use at most
  if (resume?.position !== undefined && leadsOn(resume.position, nowMs - resume.atMs)) {
    const max = resume.max === undefined ? undefined : savedValue(resume.max, saved?.kind);
    const { since, position, beganMs } = resume;
    return { since, position: stepBack(position), beganMs, span: { ...EMPTY_SPAN, max } };
  }
  return { ...freshStart(nowMs), since: sinceOf(rule, saved, nowMs) };
}

/** A key is a place in the list for good; tokens are forgotten, and numbers count from a list that changes. */
function leadsOn(position: PagePosition, ageMs: number): boolean {
  return position.at === "after" || ageMs < POSITION_LIFE_MS;
}

/** A value that a ledger kept. */
export function savedValue(text: string, kind: CursorKind | undefined): CursorValue {
  const value = kind === undefined ? cursorValue(text) : valueOfKind(text, kind);
  return value ?? { kind: "text", raw: text };
}

function sinceOf(rule: CursorRule, saved: SavedCursor | undefined, nowMs: number): string | undefined {
  if (saved?.value === undefined) return startValue(rule.start, nowMs);
  if (rule.kind === "delta") return saved.value;
  const value = savedValue(saved.value, saved.kind);
  const overlap = rule.overlap ?? (rule.bounds === "inclusive" ? 0 : undefined);
  const unit = value.kind === "number" ? (declaredUnit(rule) ?? epochUnit(value.near, nowMs)) : undefined;
  const since = withOverlap(value, overlap, unit);
  if (since !== undefined) return since;
  const message = `overlap: ${String(overlap)} cannot be taken from ${value.raw}: the cursor's values are ${KIND_WORDS[value.kind]}.`;
  const hint = {
    instant: "Write a duration, such as overlap: PT5M.",
    number: "Write a number, such as overlap: 300; or format: seconds or milliseconds, if they tell times.",
    text: "Remove overlap, or choose a field that holds times or numbers.",
  }[value.kind];
  throw new BridgeError("CURSOR_UNFIT", message, { hint });
}

function declaredUnit({ format }: CursorRule): EpochUnit | undefined {
  return format === "seconds" || format === "milliseconds" ? format : undefined;
}

/** Numbered pages may have moved meanwhile: the last one is read again. */
function stepBack(position: PagePosition): PagePosition {
  if (position.at === "number") return { ...position, number: Math.max(0, position.number - 1) };
  if (position.at !== "offset") return position;
  return { ...position, offset: Math.max(0, position.offset - (position.size ?? 0)) };
}

/** An absolute start as it is, a relative one (an ISO 8601 duration) as an instant. */
export function startValue(start: string | number | undefined, nowMs: number): string | undefined {
  if (typeof start !== "string" || !isDuration(start)) return start === undefined ? undefined : String(start);
  const now = Temporal.Instant.fromEpochMilliseconds(nowMs).toZonedDateTimeISO("UTC");
  return formatInstant(now.add(Temporal.Duration.from(start)).epochMilliseconds * 1000);
}

/**
 * What `since` means among the values of a stream: a time is compared with numbers that tell times.
 * @throws BridgeError CURSOR_UNFIT where they cannot be compared
 */
export function comparableSince(
  since: string,
  rule: CursorRule,
  kind: CursorKind,
  unit: EpochUnit | undefined,
): CursorValue {
  const value = valueOfKind(since, kind);
  if (value !== undefined) return value;
  const time = cursorValue(since);
  const known = declaredUnit(rule) ?? unit;
  if (kind === "number" && time?.kind === "instant" && known !== undefined) {
    const raw = String(Math.floor(time.micros / epochMicros(1, known)));
    return { kind, near: Number(raw), raw };
  }
  const field = rule.field?.join(".");
  throw new BridgeError(
    "CURSOR_UNFIT",
    `${since} cannot be compared with cursor.field ${field}, which holds ${KIND_WORDS[kind]}.`,
    {
      hint:
        kind === "number" && time?.kind === "instant"
          ? "If they tell times, write format: seconds or format: milliseconds; else write start as a number."
          : "Write start in the way in which the field is written.",
    },
  );
}

/** The API's clock as its responses show it, where it is behind ours; else ours. */
export interface ApiClock {
  /** ms since 1970 */
  readonly nowMs: number;
  /** how far it is behind ours, ms */
  readonly behindMs: number;
}

/** How far a pass has come when a checkpoint is made. */
export interface PassState {
  readonly span: CursorSpan;
  /** all came in one page: nothing can have changed behind it */
  readonly isOnePage: boolean;
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
  { span, isOnePage, next, delta }: PassState,
  { nowMs, behindMs }: ApiClock,
): SavedCursor {
  const beganMs = Math.min(start.beganMs - behindMs, nowMs);
  if (next === undefined && rule.kind === "delta") return { value: delta ?? saved?.value };
  if (next === undefined && rule.kind === "last_run") return { value: formatInstant(beganMs * 1000) };
  // out of order, a record may have changed behind the page that held it, before another one that came later
  const inOrder = start.position === undefined && (span.ascending || span.descending);
  const mostMs = isOnePage || inOrder ? nowMs : beganMs;
  const kind = span.max?.kind ?? saved?.kind;
  const old =
    saved?.value === undefined || rule.kind !== "field"
      ? undefined
      : savedValue(saved.value, saved.kind ?? kind);
  const reached = (value: CursorValue | undefined): SavedCursor => {
    const certain = notAfter(greater(old, value), rule, span, mostMs);
    return { value: certain?.raw, kind: certain?.kind ?? kind };
  };
  if (next === undefined) return reached(span.max);
  // an API that breaks the order it was said to keep falls back to the position, from the pass's own beginning
  if (rule.kind === "field" && rule.order === "ascending" && span.ascending) return reached(span.below);
  return {
    value: saved?.value,
    kind,
    resume: { position: next, since: start.since, max: span.max?.raw, beganMs: start.beganMs, atMs: nowMs },
  };
}

/** A record from later than `mostMs` must not carry the cursor past records that are yet to come. */
function notAfter(
  value: CursorValue | undefined,
  rule: CursorRule,
  { first, below }: CursorSpan,
  mostMs: number,
): CursorValue | undefined {
  if (value?.kind === "instant" && value.micros > mostMs * 1000)
    return { ...value, micros: mostMs * 1000, finer: "", raw: instantLike(mostMs * 1000, value.raw) };
  if (value?.kind !== "number") return value;
  // numbers that are not said to tell times do so where others of them lie in the past
  const past = [below, first].find((each) => each !== undefined && each.raw !== value.raw);
  const unit = declaredUnit(rule) ?? (past?.kind === "number" ? epochUnit(past.near, mostMs) : undefined);
  if (unit === undefined || epochMicros(value.near, unit) <= mostMs * 1000) return value;
  const raw = String(Math.floor((mostMs * 1000) / epochMicros(1, unit)));
  return { kind: "number", near: Number(raw), raw };
}
