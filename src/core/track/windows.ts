/**
 * Windows of time: which are done, which are to be asked, and how one is halved. All times are ms since 1970, an
 * end is exclusive. What is done is a list of intervals, in order and apart from each other.
 */

import { Temporal } from "temporal-polyfill";
import type { WindowsDefinition } from "../define/parts-schema.js";
import { instantMicros } from "../shape/date-time.js";
import { startValue } from "./cursor.js";
import { formatMoment } from "./cursor-value.js";

export interface Window {
  readonly fromMs: number;
  readonly toMs: number;
}

export type Covered = readonly (readonly [number, number])[];

/** Intervals with one more, joined where they touch. */
export function cover(covered: Covered, { fromMs, toMs }: Window): Covered {
  if (toMs <= fromMs) return covered;
  let [from, to] = [fromMs, toMs];
  const apart: [number, number][] = [];
  for (const [a, b] of covered) {
    if (b < from || a > to) apart.push([a, b]);
    else [from, to] = [Math.min(a, from), Math.max(b, to)];
  }
  return [...apart, [from, to] as [number, number]].sort((x, y) => x[0] - y[0]);
}

/** What of the window is not covered, in order. */
export function gaps(covered: Covered, { fromMs, toMs }: Window): Window[] {
  const open: Window[] = [];
  let at = fromMs;
  for (const [a, b] of covered) {
    if (b <= at) continue;
    if (a >= toMs) break;
    if (a > at) open.push({ fromMs: at, toMs: a });
    at = Math.max(at, b);
  }
  if (at < toMs) open.push({ fromMs: at, toMs });
  return open;
}

/**
 * The windows that a run has to ask for, in the order that the connector wants.
 * What lies in `overlap` before the newest end that is done is asked for again.
 */
export function openWindows(rule: WindowsDefinition, covered: Covered, nowMs: number): Window[] {
  const whole = wholeRange(rule, nowMs);
  const done = withoutOverlap(rule, covered);
  const windows = gaps(done, whole).flatMap(({ fromMs, toMs }) =>
    splitGap(rule, { fromMs: cutDown(rule, fromMs), toMs }),
  );
  return rule.order === "newest_first" ? windows.reverse() : windows;
}

/** From the declared start (its day's midnight, for windows of days and longer) to now or the declared end. */
export function wholeRange(rule: WindowsDefinition, nowMs: number): Window {
  const begin = momentMs(rule.start, nowMs);
  const fromMs = isOfDays(rule) ? startOfDay(begin, rule.zone) : cutDown(rule, begin);
  const toMs = rule.end === undefined ? cutDown(rule, nowMs) : -cutDown(rule, -momentMs(rule.end, nowMs));
  return { fromMs, toMs };
}

/**
 * A moment cut down to the unit in which windows end. Many APIs know whole seconds only: a second in which one window
 * ends and the next begins would be given by both, or by none.
 */
export function cutDown({ format }: WindowsDefinition, ms: number): number {
  return format === "milliseconds" ? Math.floor(ms) : Math.floor(ms / 1000) * 1000;
}

function momentMs(text: string, nowMs: number): number {
  return Math.floor(instantMicros(startValue(text, nowMs) ?? "") / 1000);
}

function isOfDays({ span, format }: WindowsDefinition): boolean {
  const { hours, minutes, seconds } = Temporal.Duration.from(span);
  return format === "date" || (hours === 0 && minutes === 0 && seconds === 0);
}

function zoned(ms: number, zone: string): Temporal.ZonedDateTime {
  return Temporal.Instant.fromEpochMilliseconds(ms).toZonedDateTimeISO(zone);
}

function startOfDay(ms: number, zone: string): number {
  return zoned(ms, zone).startOfDay().epochMilliseconds;
}

/** The newest end that is done lies further back by the overlap. */
function withoutOverlap(rule: WindowsDefinition, covered: Covered): Covered {
  const newest = covered[covered.length - 1];
  if (newest === undefined) return covered;
  const to = zoned(newest[1], rule.zone).subtract(Temporal.Duration.from(rule.overlap)).epochMilliseconds;
  const rest = covered.slice(0, -1).map(([a, b]) => [a, Math.min(b, to)] as const);
  return [...rest, [newest[0], to] as const].filter(([a, b]) => a < b);
}

/** Spans are counted from the gap's begin by the calendar of the zone, so no rounding adds up. */
function splitGap({ span, zone }: WindowsDefinition, gap: Window): Window[] {
  const duration = Temporal.Duration.from(span);
  const begin = zoned(gap.fromMs, zone);
  const windows: Window[] = [];
  for (let fromMs = gap.fromMs, n = 1; fromMs < gap.toMs; n++) {
    const toMs = Math.min(begin.add(times(duration, n)).epochMilliseconds, gap.toMs);
    if (toMs > fromMs) windows.push({ fromMs, toMs });
    fromMs = Math.max(fromMs, toMs);
  }
  return windows;
}

function times(
  { years, months, weeks, days, hours, minutes, seconds }: Temporal.Duration,
  n: number,
): Temporal.DurationLike {
  return {
    years: years * n,
    months: months * n,
    weeks: weeks * n,
    days: days * n,
    hours: hours * n,
    minutes: minutes * n,
    seconds: seconds * n,
  };
}

/** The two halves of a window; undefined where they would be smaller than the connector permits. */
export function halve(rule: WindowsDefinition, { fromMs, toMs }: Window): [Window, Window] | undefined {
  const exactly = fromMs + Math.floor((toMs - fromMs) / 2);
  // what is shorter than two seconds is cut where it can be
  const middle = cutDown(rule, exactly) > fromMs ? cutDown(rule, exactly) : exactly;
  const atMs = rule.format === "date" ? startOfDay(middle, rule.zone) : middle;
  const smallest = Temporal.Duration.from(rule.smallest).total({
    unit: "milliseconds",
    relativeTo: zoned(fromMs, "UTC"),
  });
  if (atMs - fromMs < smallest || toMs - atMs < smallest || atMs <= fromMs) return undefined;
  return [
    { fromMs, toMs: atMs },
    { fromMs: atMs, toMs },
  ];
}

/**
 * Begin and end as the API wants them. A date stands for the whole day in the rule's zone, so a window's begin is
 * cut down to its day and an exclusive end is the day after the last moment.
 */
export function windowValues(
  rule: WindowsDefinition,
  { fromMs, toMs }: Window,
): { from: string; to: string } {
  const { format, zone } = rule;
  if (format === "date") {
    const lastDay = zoned(toMs - 1, zone).toPlainDate();
    const to = rule.to_is === "inclusive" ? lastDay : lastDay.add({ days: 1 });
    return { from: zoned(fromMs, zone).toPlainDate().toString(), to: to.toString() };
  }
  const unit = { date_time: 1, milliseconds: 1000, seconds: 1_000_000 }[format];
  const end = rule.to_is === "inclusive" ? toMs * 1000 - unit : Math.ceil((toMs * 1000) / unit) * unit;
  return { from: formatMoment(fromMs * 1000, format), to: formatMoment(end, format) };
}
