/** A cursor set back: what was loaded is asked for again. */

import type { WindowsDefinition } from "../define/parts-schema.js";
import { BridgeError } from "../errors.js";
import { instantMicros } from "../shape/date-time.js";
import { type CursorRule, type SavedCursor, startValue } from "./cursor.js";
import {
  type CursorValue,
  compareCursors,
  cursorValue,
  instantLike,
  KIND_WORDS,
  valueOfKind,
} from "./cursor-value.js";
import { type Covered, gaps } from "./windows.js";

/** Where to: all that is at or behind a value, or what lies between two times. */
export interface RewindTo {
  /** a value of the cursor's field, a time, or a duration before now such as -P7D */
  readonly to: string;
  /** the end of what is asked for again, exclusive; for windows only */
  readonly until?: string | undefined;
}

/**
 * The cursor at a place further back; the same where it stands there or before already.
 * @throws BridgeError CONFIG_INVALID where the stream's cursor cannot be set to a place
 */
export function rewound(
  cursor: SavedCursor,
  rule: { readonly cursor: CursorRule | undefined; readonly windows: WindowsDefinition | undefined },
  { to, until }: RewindTo,
  nowMs: number,
): SavedCursor {
  const at = startValue(to, nowMs) ?? to;
  if (rule.windows !== undefined)
    return { ...cursor, covered: without(cursor.covered ?? [], timeMs(at), untilMs(until, nowMs)) };
  if (until !== undefined) throw refused("Only a stream in windows of time can be asked for a part of it.");
  if (rule.cursor === undefined) throw refused("The stream has no cursor: each run asks for all of it.");
  if (rule.cursor.kind === "delta")
    throw refused(
      "A token of the API leads to no other time: the stream can be set back to its beginning only.",
    );
  const { value, resume, ...rest } = cursor;
  const kind = rule.cursor.kind === "last_run" ? "instant" : cursor.kind;
  const wanted: CursorValue | undefined = kind === undefined ? cursorValue(at) : valueOfKind(at, kind);
  if (wanted === undefined)
    throw refused(`${to} is no value of the cursor, which holds ${KIND_WORDS[kind ?? "instant"]}.`);
  const now = value === undefined ? undefined : valueOfKind(value, wanted.kind);
  // a pass that is not at its end has taken nothing for sure
  if (now === undefined || compareCursors(now, wanted) <= 0)
    return resume === undefined ? cursor : { ...rest, value };
  // as the API writes its times
  const raw = wanted.kind === "instant" ? instantLike(wanted.micros, now.raw) : wanted.raw;
  return { ...rest, value: raw, kind: wanted.kind };
}

function without(covered: Covered, fromMs: number, toMs: number): Covered {
  return covered.flatMap(([a, b]) =>
    gaps([[fromMs, toMs]], { fromMs: a, toMs: b }).map((left) => [left.fromMs, left.toMs] as const),
  );
}

function untilMs(until: string | undefined, nowMs: number): number {
  return until === undefined ? Number.MAX_SAFE_INTEGER : timeMs(startValue(until, nowMs) ?? until);
}

function timeMs(text: string): number {
  const micros = instantMicros(text);
  if (Number.isNaN(micros)) throw refused(`${text} is no time.`);
  return Math.floor(micros / 1000);
}

function refused(message: string): BridgeError {
  return new BridgeError("CONFIG_INVALID", message, {
    hint: "Times are written as RFC 3339, as a date, or as a duration before now such as -P7D.",
  });
}
