/** Values in the forms that APIs have them in, as the types of columns take them. */

import { Temporal } from "temporal-polyfill";
import type { ColumnType } from "./column-type.js";
import { DATE, formatInstant, INSTANT, LOCAL_TIME, scanDateTime, scanned } from "./date-time.js";
import { ExactNumber } from "./exact-json.js";
import { compileTimePattern, type TimeParts } from "./time-pattern.js";

/** How values are written, where it is not as JSON and RFC 3339 have them. */
export interface ValueForm {
  /** seconds or milliseconds since 1970, or `/Date(ms)/` (OData 2.0 JSON format) */
  readonly time?: "seconds" | "milliseconds" | "/Date/" | undefined;
  /** a pattern of Unicode's letters for dates (UTS #35), such as `dd.MM.yyyy HH:mm` */
  readonly pattern?: string | undefined;
  /** IANA time zone of times that have none */
  readonly zone?: string | undefined;
  /** the sign before the fraction */
  readonly decimal?: string | undefined;
  /** the sign between groups of digits */
  readonly thousands?: string | undefined;
  readonly yes?: readonly string[] | undefined;
  readonly no?: readonly string[] | undefined;
}

/** Gives what the type takes; what is not of the form comes back as it is, and is a misfit then. */
export type ReadValue = (value: unknown) => unknown;

/** The reader of a form for a column's type. Throws a plain Error where a pattern cannot be read. */
export function compileForm(form: ValueForm, type: ColumnType): ReadValue {
  switch (type.kind) {
    case "boolean":
      return wordReader(form);
    case "int64":
    case "float64":
    case "decimal":
      return numberReader(form);
    default:
      return timeReader(form, type.kind);
  }
}

const KEYS_OF: Readonly<Record<string, readonly (keyof ValueForm)[]>> = {
  boolean: ["yes", "no"],
  int64: ["thousands"],
  float64: ["decimal", "thousands"],
  decimal: ["decimal", "thousands"],
  date: ["time", "pattern", "zone"],
  timestamp: ["time", "pattern", "zone"],
  local_timestamp: ["time", "pattern", "zone"],
};

/** What keeps values of a type from being read by a form; undefined where nothing does. */
export function formFault(form: ValueForm, type: ColumnType): string | undefined {
  const known = KEYS_OF[type.kind] ?? [];
  const strange = (Object.keys(form) as (keyof ValueForm)[]).find(
    (key) => form[key] !== undefined && !known.includes(key),
  );
  if (strange !== undefined)
    return known.length === 0
      ? `values of type ${type.kind} have no other form`
      : `${strange} does not go with type ${type.kind}: that has ${known.join(", ")}`;
  if (form.decimal !== undefined && form.decimal === form.thousands)
    return "decimal and thousands are the same sign";
  try {
    if (form.zone !== undefined) Temporal.Now.zonedDateTimeISO(form.zone);
    compileForm(form, type);
  } catch (error) {
    return error instanceof RangeError ? `there is no time zone ${form.zone}` : (error as Error).message;
  }
  const hasNoZone = form.pattern !== undefined && !/X/.test(form.pattern.replace(/'[^']*'/g, ""));
  return type.kind === "timestamp" && hasNoZone && form.zone === undefined
    ? "such times are of no zone: say which, as zone: Europe/Vienna, or type: local_timestamp"
    : undefined;
}

function wordReader({ yes = [], no = [] }: ValueForm): ReadValue {
  const words = new Map([
    ...yes.map((word) => [word.toLowerCase(), true] as const),
    ...no.map((word) => [word.toLowerCase(), false] as const),
  ]);
  return (value) => {
    if (typeof value !== "string" && typeof value !== "number") return value;
    return words.get(String(value).trim().toLowerCase()) ?? value;
  };
}

function numberReader({ decimal = ".", thousands }: ValueForm): ReadValue {
  const groups = thousands === undefined ? "" : `(?:${escaped(thousands)}\\d{3})*`;
  const isNumber = new RegExp(`^[+-]?\\d+${groups}(?:${escaped(decimal)}\\d+)?$`);
  return (value) => {
    if (typeof value !== "string") return value;
    const text = value.trim();
    // a group that is not of three digits is no group: 1.5 is not 15
    if (!isNumber.test(text)) return value;
    const digits = thousands === undefined ? text : text.replaceAll(thousands, "");
    return digits.replace(decimal, ".").replace(/^\+/, "");
  };
}

function escaped(sign: string): string {
  return sign.replace(/[.*+?^${}()|[\]\\]/g, "\\$&");
}

type TimeKind = "date" | "timestamp" | "local_timestamp";

function timeReader(form: ValueForm, kind: string): ReadValue {
  const { time, pattern, zone } = form;
  const write = (micros: number) => written(micros, kind as TimeKind, zone ?? "UTC");
  if (time === "/Date/") return (value) => ticksIn(value, write) ?? value;
  if (time !== undefined) {
    const unit = time === "seconds" ? 1e6 : 1e3;
    return (value) => {
      const near = nearNumber(value);
      return near === undefined ? value : (write(Math.round(near * unit)) ?? value);
    };
  }
  const read = pattern === undefined ? partsOfText : compileTimePattern(pattern);
  return (value) => {
    const parts = typeof value === "string" ? read(value.trim()) : undefined;
    return parts === undefined ? value : (timeOfParts(parts, kind as TimeKind, zone) ?? value);
  };
}

function nearNumber(value: unknown): number | undefined {
  if (typeof value === "number") return value;
  if (typeof value === "bigint") return Number(value);
  const text = value instanceof ExactNumber ? value.text : value;
  return typeof text === "string" && /^-?\d+(\.\d+)?$/.test(text) ? Number(text) : undefined;
}

/** The offset behind the ticks tells where somebody was, and moves no moment. */
function ticksIn(value: unknown, write: (micros: number) => string | undefined): string | undefined {
  const ticks = typeof value === "string" ? /^\/Date\((-?\d{1,16})(?:[+-]\d+)?\)\/$/.exec(value) : null;
  return ticks === null ? undefined : write(Number(ticks[1]) * 1000);
}

/** Years 1 to 9999, in µs since 1970. */
const LEAST = -62_135_596_800e6;
const GREATEST = 253_402_300_800e6 - 1;

function written(micros: number, kind: TimeKind, zone: string): string | undefined {
  if (!(micros >= LEAST && micros <= GREATEST)) return undefined;
  const instant = formatInstant(micros);
  if (kind === "timestamp") return instant;
  if (zone === "UTC") return kind === "date" ? instant.slice(0, 10) : instant.slice(0, -1);
  const local = Temporal.Instant.from(instant).toZonedDateTimeISO(zone).toPlainDateTime();
  return kind === "date" ? local.toPlainDate().toString() : local.toString({ smallestUnit: "microsecond" });
}

/** RFC 3339 without a zone, or with a blank between day and time. */
function partsOfText(text: string): TimeParts | undefined {
  const plain = text.replace(/^(\d{4}-\d\d-\d\d) (?=\d)/, "$1T").replace(/(T\d\d:\d\d)(?=$|Z|[+-])/, "$1:00");
  const seen = scanDateTime(plain);
  if (seen === INSTANT) return { instant: scanned.seconds * 1e6 + scanned.micros };
  return seen === DATE || seen === LOCAL_TIME ? { local: plain } : undefined;
}

function timeOfParts(parts: TimeParts, kind: TimeKind, zone: string | undefined): string | undefined {
  if ("instant" in parts) return written(parts.instant, kind, zone ?? "UTC");
  const { local } = parts;
  if (kind === "date") return local.slice(0, 10);
  const time = local.length === 10 ? `${local}T00:00:00` : local;
  if (kind === "local_timestamp") return time;
  if (zone === undefined) return undefined;
  // an hour that the clocks show twice is the earlier one; one that they pass over is moved on
  const moment = Temporal.PlainDateTime.from(time).toZonedDateTime(zone).toInstant();
  return moment.toString({ smallestUnit: "microsecond" });
}
