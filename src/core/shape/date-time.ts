/**
 * Dates and times of RFC 3339, read without allocation.
 *
 * `scanDateTime` tells the kind and leaves the parts in `scanned`: one shared record, overwritten by the
 * next call, because millions of values pass through here.
 */

export const NO_TIME = 0;
export const DATE = 1;
export const INSTANT = 2;
export const LOCAL_TIME = 3;
export type TimeKind = typeof NO_TIME | typeof DATE | typeof INSTANT | typeof LOCAL_TIME;

/** The last value read: days since 1970-01-01, and for times whole seconds (UTC where zoned) and µs. */
export const scanned = { days: 0, seconds: 0, micros: 0 };

const MONTH_DAYS = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];

/** The longest text that can be one. */
const LONGEST = 35;
const text = new Uint8Array(LONGEST);

/**
 * Reads `YYYY-MM-DD`, or that with `Thh:mm:ss[.f…]` and an offset (`Z`, `±hh:mm`) or none. Anything else, a
 * day that does not exist, a leap second, or digits below a microsecond give NO_TIME: such text stays text.
 */
export function scanDateTime(value: string): TimeKind {
  const { length } = value;
  if (length < 10 || length > LONGEST || value.charCodeAt(4) !== 45) return NO_TIME;
  for (let i = 0; i < length; i++) {
    const unit = value.charCodeAt(i);
    if (unit > 127) return NO_TIME;
    text[i] = unit;
  }
  return scanTimeBytes(text, 0, length);
}

/** The same of a text's bytes, from one place to before another. */
export function scanTimeBytes(bytes: Uint8Array, from: number, end: number): TimeKind {
  const length = end - from;
  if (length < 10 || length > LONGEST || bytes[from + 4] !== 45 || bytes[from + 7] !== 45) return NO_TIME;
  const year = two(bytes, from) * 100 + two(bytes, from + 2);
  const month = two(bytes, from + 5);
  const day = two(bytes, from + 8);
  if (!(year >= 1 && month >= 1 && month <= 12 && day >= 1 && day <= daysInMonth(year, month)))
    return NO_TIME;
  scanned.days = daysFromCivil(year, month, day);
  if (length === 10) {
    scanned.seconds = scanned.days * 86400;
    scanned.micros = 0;
    return DATE;
  }
  return scanTime(bytes, from, end);
}

function scanTime(bytes: Uint8Array, from: number, end: number): TimeKind {
  if (end - from < 19 || bytes[from + 10] !== 84) return NO_TIME;
  if (bytes[from + 13] !== 58 || bytes[from + 16] !== 58) return NO_TIME;
  const hour = two(bytes, from + 11);
  const minute = two(bytes, from + 14);
  const second = two(bytes, from + 17);
  if (!(hour < 24 && minute < 60 && second < 60)) return NO_TIME;
  let at = from + 19;
  let micros = 0;
  if (at < end && bytes[at] === 46) {
    const begin = at + 1;
    let unit = 100_000;
    for (at = begin; at < end; at++) {
      const digit = bytes[at]! - 48;
      if (digit < 0 || digit > 9) break;
      if (unit < 1 && digit !== 0) return NO_TIME;
      micros += digit * Math.floor(unit);
      unit /= 10;
    }
    if (at === begin) return NO_TIME;
  }
  scanned.seconds = scanned.days * 86400 + hour * 3600 + minute * 60 + second;
  scanned.micros = micros;
  if (at === end) return LOCAL_TIME;
  const offset = scanOffset(bytes, at, end);
  if (Number.isNaN(offset)) return NO_TIME;
  scanned.seconds -= offset;
  return INSTANT;
}

/** Seconds of `Z` or `±hh:mm` at the end of the text; NaN when it is something else. */
function scanOffset(bytes: Uint8Array, at: number, end: number): number {
  const sign = bytes[at];
  if (sign === 90 && end === at + 1) return 0;
  if ((sign !== 43 && sign !== 45) || end !== at + 6 || bytes[at + 3] !== 58) return Number.NaN;
  const hours = two(bytes, at + 1);
  const minutes = two(bytes, at + 4);
  if (!(hours < 24 && minutes < 60)) return Number.NaN;
  const seconds = hours * 3600 + minutes * 60;
  return sign === 43 ? seconds : -seconds;
}

/** Two decimal digits as a number; NaN where one is no digit. */
function two(bytes: Uint8Array, at: number): number {
  const high = bytes[at]! - 48;
  const low = bytes[at + 1]! - 48;
  return high >= 0 && high <= 9 && low >= 0 && low <= 9 ? high * 10 + low : Number.NaN;
}

function daysInMonth(year: number, month: number): number {
  const leap = year % 4 === 0 && (year % 100 !== 0 || year % 400 === 0);
  return month === 2 && leap ? 29 : MONTH_DAYS[month - 1]!;
}

/** Days since 1970-01-01 in the proleptic Gregorian calendar (Hinnant, "chrono-compatible date algorithms"). */
function daysFromCivil(year: number, month: number, day: number): number {
  const y = month <= 2 ? year - 1 : year;
  const era = Math.floor(y / 400);
  const yearOfEra = y - era * 400;
  const dayOfYear = Math.floor((153 * (month + (month > 2 ? -3 : 9)) + 2) / 5) + day - 1;
  return (
    era * 146_097 +
    yearOfEra * 365 +
    Math.floor(yearOfEra / 4) -
    Math.floor(yearOfEra / 100) +
    dayOfYear -
    719_468
  );
}

/** The instant in µs since 1970 of an RFC 3339 text (a date means its midnight in UTC); NaN for others. */
export function instantMicros(text: string): number {
  const kind = scanDateTime(text);
  return kind === NO_TIME ? Number.NaN : scanned.seconds * 1e6 + scanned.micros;
}

/** RFC 3339 in UTC, with as many digits of the second as are not zero: `2026-03-01T10:00:00.25Z`. */
export function formatInstant(micros: number): string {
  const seconds = Math.floor(micros / 1e6);
  const rest = micros - seconds * 1e6;
  const head = new Date(seconds * 1000).toISOString().slice(0, 19);
  const fraction = rest === 0 ? "" : `.${String(rest).padStart(6, "0").replace(/0+$/, "")}`;
  return `${head}${fraction}Z`;
}
