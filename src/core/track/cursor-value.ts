/**
 * Values of a cursor's field: times, numbers and texts, each as the API wrote it.
 *
 * A stream has one kind of them. Values of one kind are compared by what they mean; the text stays beside it, for an
 * API that compares texts finds only what is written in its own way.
 */

import { Temporal } from "temporal-polyfill";
import type { InstantFormat } from "../define/parts-schema.js";
import { formatInstant, INSTANT, LOCAL_TIME, NO_TIME, scanDateTime, scanned } from "../shape/date-time.js";
import { decimalParts, ExactNumber } from "../shape/exact-json.js";

export type CursorKind = "instant" | "number" | "text";

/** `raw` is the value as the API wrote it. */
export type CursorValue =
  | {
      readonly kind: "instant";
      readonly micros: number;
      /** digits of the second below a µs, without zeros at the end */
      readonly finer: string;
      readonly raw: string;
    }
  | { readonly kind: "number"; readonly near: number; readonly raw: string }
  | { readonly kind: "text"; readonly raw: string };

/** How numbers tell a time: since 1970. */
export type EpochUnit = "seconds" | "milliseconds";

/** How messages name a kind. */
export const KIND_WORDS: Readonly<Record<CursorKind, string>> = {
  instant: "times",
  number: "numbers",
  text: "texts",
};

const NUMBER_TEXT = /^-?\d+(?:\.\d+)?(?:[eE][+-]?\d{1,3})?$/;

/** Reads a value by its own looks: digits are a number, also where they are a text. Undefined for what is none. */
export function cursorValue(raw: unknown): CursorValue | undefined {
  if (typeof raw === "string") {
    if (raw === "") return undefined;
    return instantOf(raw) ?? (NUMBER_TEXT.test(raw) ? numberOf(raw) : { kind: "text", raw });
  }
  if (typeof raw === "number") return Number.isFinite(raw) ? numberOf(String(raw)) : undefined;
  if (typeof raw === "bigint") return numberOf(String(raw));
  return raw instanceof ExactNumber ? numberOf(raw.text) : undefined;
}

/** Reads a value of a known kind; undefined where it is of another. A text of any looks is a text. */
export function valueOfKind(raw: unknown, kind: CursorKind): CursorValue | undefined {
  if (kind === "text") return typeof raw === "string" && raw !== "" ? { kind, raw } : undefined;
  const value = cursorValue(raw);
  return value?.kind === kind ? value : undefined;
}

function numberOf(raw: string): CursorValue {
  return { kind: "number", near: Number(raw), raw };
}

/** RFC 3339 and what is usual beside it: a space for the T, `+0200`, no zone (UTC is meant), nanoseconds. */
const LIKE_INSTANT =
  /^(\d{4}-\d\d-\d\d)(?:([Tt ])(\d\d:\d\d:\d\d)(?:[.,](\d{1,12}))?([Zz]|[+-]\d\d(?::?\d\d)?)?)?$/;

function instantOf(raw: string): CursorValue | undefined {
  // the usual form needs no pattern
  const kind = scanDateTime(raw);
  if (kind !== NO_TIME) return instant(scanned.seconds * 1e6 + scanned.micros, "", raw);
  const [, date, , time, fraction = "", zone = ""] = LIKE_INSTANT.exec(raw) ?? [];
  if (date === undefined || time === undefined) return undefined;
  const plain = `${date}T${time}${fraction === "" ? "" : `.${fraction.slice(0, 6)}`}${plainZone(zone)}`;
  const found = scanDateTime(plain);
  if (found !== INSTANT && found !== LOCAL_TIME) return undefined;
  return instant(scanned.seconds * 1e6 + scanned.micros, fraction.slice(6).replace(/0+$/, ""), raw);
}

function instant(micros: number, finer: string, raw: string): CursorValue {
  return { kind: "instant", micros, finer, raw };
}

function plainZone(zone: string): string {
  if (zone === "" || /^z$/i.test(zone)) return zone.toUpperCase();
  return `${zone.slice(0, 3)}:${zone.slice(3).replace(":", "") || "00"}`;
}

/** Order of two values of one kind: times by time, numbers by size to the last digit, texts by code unit. */
export function compareCursors(a: CursorValue, b: CursorValue): number {
  if (a.kind === "instant" && b.kind === "instant")
    return a.micros - b.micros || compareTexts(a.finer, b.finer);
  if (a.kind === "number" && b.kind === "number") {
    const unlike = a.near - b.near;
    if (unlike !== 0 || a.raw === b.raw || Number.isSafeInteger(a.near)) return unlike;
    return compareExactly(a.raw, b.raw);
  }
  return compareTexts(a.raw, b.raw);
}

function compareTexts(left: string, right: string): number {
  return left < right ? -1 : left > right ? 1 : 0;
}

function compareExactly(left: string, right: string): number {
  const [a, b] = [scaledOf(left), scaledOf(right)];
  const scale = Math.max(a.scale, b.scale);
  const difference = unscaled(a, scale) - unscaled(b, scale);
  return difference < 0n ? -1 : difference > 0n ? 1 : 0;
}

/** A number as a whole number times 10^-scale. */
interface Scaled {
  readonly digits: bigint;
  readonly scale: number;
}

function scaledOf(raw: string): Scaled {
  const { negative, digits, exponent } = decimalParts(raw);
  const whole = BigInt(digits === "" ? "0" : digits) * 10n ** BigInt(Math.max(0, exponent));
  return { digits: negative ? -whole : whole, scale: Math.max(0, -exponent) };
}

function unscaled({ digits, scale }: Scaled, toScale: number): bigint {
  return digits * 10n ** BigInt(toScale - scale);
}

/** A whole number less, in the way in which the other was written: zeros in front stay. */
function lessNumber(raw: string, less: bigint): string {
  const { digits, scale } = scaledOf(raw);
  const rest = digits - unscaled({ digits: less, scale: 0 }, scale);
  const text = String(rest < 0n ? -rest : rest).padStart(scale + 1, "0");
  const whole = scale === 0 ? text : text.slice(0, -scale);
  const padded = /^0\d/.test(raw) ? whole.padStart(raw.split(".")[0]!.length, "0") : whole;
  return `${rest < 0n ? "-" : ""}${padded}${scale === 0 ? "" : `.${text.slice(-scale)}`}`;
}

/**
 * A time before the value, written as the value is: as many digits of the second, the same zone. What lies below
 * the last digit is cut off, so that never too little is asked for.
 */
export function instantLike(micros: number, like: string): string {
  const [, , between, , fraction = "", zone = ""] = LIKE_INSTANT.exec(like) ?? [];
  if (between === undefined) return formatInstant(micros).slice(0, 10);
  const [, sign, hours = "0", minutes = "0"] = /^([+-])(\d\d):?(\d\d)?$/.exec(zone) ?? [];
  const offset = (sign === "-" ? -1 : 1) * (Number(hours) * 60 + Number(minutes)) * 60e6;
  const local = sign === undefined ? micros : micros + offset;
  const seconds = Math.floor(local / 1e6);
  const [date, time] = new Date(seconds * 1000).toISOString().slice(0, 19).split("T");
  const digits = String(local - seconds * 1e6)
    .padStart(6, "0")
    .padEnd(fraction.length, "0");
  const point = like.charAt(19);
  return `${date}${between}${time}${fraction === "" ? "" : point + digits.slice(0, fraction.length)}${zone}`;
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

/** A value as the API wants it sent: as it was written, or a time in another form where `format` says so. */
export function sendValue(since: string, format: InstantFormat): string {
  const value = format === "date_time" ? undefined : cursorValue(since);
  return value?.kind === "instant" ? formatMoment(value.micros, format) : since;
}

/** The moment that a number tells, in µs since 1970. */
export function epochMicros(near: number, unit: EpochUnit): number {
  return near * (unit === "seconds" ? 1e6 : 1e3);
}

const YEAR_2000_MS = 946_684_800_000;

/** Whether a number looks like a time between 2000 and now, since 1970 in one of the usual units. */
export function epochUnit(near: number, nowMs: number): EpochUnit | undefined {
  if (near * 1000 >= YEAR_2000_MS && near * 1000 <= nowMs) return "seconds";
  return near >= YEAR_2000_MS && near <= nowMs ? "milliseconds" : undefined;
}

/** The value less a duration (ISO 8601) or a number. Undefined where the two do not go together. */
export function withOverlap(
  value: CursorValue,
  overlap: string | number | undefined,
  unit: EpochUnit | undefined,
): string | undefined {
  const none = overlap === 0 || (typeof overlap === "string" && Temporal.Duration.from(overlap).blank);
  if (none) return value.raw;
  if (value.kind === "text") return overlap === undefined ? value.raw : undefined;
  if (value.kind === "instant") {
    // filters are often exclusive, and many records may share the cursor's own second
    if (typeof overlap === "number") return undefined;
    return instantLike(before(value.micros, overlap ?? "PT1S"), value.raw);
  }
  if (typeof overlap !== "string") return lessNumber(value.raw, BigInt(Math.ceil(overlap ?? 1)));
  if (unit === undefined) return undefined;
  const micros = epochMicros(Math.floor(value.near), unit);
  const units = Math.ceil((micros - before(micros, overlap)) / epochMicros(1, unit));
  return lessNumber(value.raw, BigInt(units));
}

function before(micros: number, duration: string): number {
  const at = Temporal.Instant.fromEpochMilliseconds(Math.floor(micros / 1000)).toZonedDateTimeISO("UTC");
  const back = at.subtract(Temporal.Duration.from(duration));
  return back.epochMilliseconds * 1000 + (((micros % 1000) + 1000) % 1000);
}
