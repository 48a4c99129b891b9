/** Dates and times by a pattern: Unicode's letters (UTS #35, date format patterns), those that APIs use. */

import { NO_TIME, scanDateTime } from "./date-time.js";

/** A time that was read: a moment in µs since 1970, or RFC 3339 without a zone (or a date alone). */
export type TimeParts = { readonly instant: number } | { readonly local: string };

const MONTHS = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
const LONG_MONTHS = [
  "january",
  "february",
  "march",
  "april",
  "may",
  "june",
  "july",
  "august",
  "september",
  "october",
  "november",
  "december",
];

/** Letters, and what stands for each. */
const FIELDS: Readonly<Record<string, string>> = {
  yyyy: "(?<year>\\d{4})",
  yy: "(?<short>\\d{2})",
  MMMM: `(?<month>${LONG_MONTHS.join("|")})`,
  MMM: `(?<month>${MONTHS.join("|")})`,
  MM: "(?<month>\\d{2})",
  M: "(?<month>\\d{1,2})",
  dd: "(?<day>\\d{2})",
  d: "(?<day>\\d{1,2})",
  HH: "(?<hour>\\d{2})",
  H: "(?<hour>\\d{1,2})",
  hh: "(?<half>\\d{2})",
  h: "(?<half>\\d{1,2})",
  mm: "(?<minute>\\d{2})",
  m: "(?<minute>\\d{1,2})",
  ss: "(?<second>\\d{2})",
  s: "(?<second>\\d{1,2})",
  SSSSSS: "(?<fraction>\\d{6})",
  SSS: "(?<fraction>\\d{3})",
  a: "(?<noon>am|pm)",
  XXX: "(?<offset>Z|[+-]\\d{2}:\\d{2})",
  XX: "(?<offset>Z|[+-]\\d{4})",
};

/** The letters that a pattern may hold, for messages. */
export const PATTERN_LETTERS = Object.keys(FIELDS).join(", ");

/**
 * The reader of a pattern, such as `dd.MM.yyyy HH:mm`; words between stand in quotes: `dd MMM 'at' HH:mm`.
 * Throws a plain Error for letters that stand for nothing.
 */
export function compileTimePattern(pattern: string): (text: string) => TimeParts | undefined {
  const tokens = pattern.match(/'[^']*'|([A-Za-z])\1*|[^A-Za-z']+/g) ?? [];
  const source = tokens.map((token) => {
    if (/^[A-Za-z]/.test(token)) {
      const field = FIELDS[token];
      if (field === undefined) throw new Error(`${token} stands for nothing; there are ${PATTERN_LETTERS}`);
      return field;
    }
    return token.replaceAll("'", "").replace(/[.*+?^${}()|[\]\\]/g, "\\$&");
  });
  let expression: RegExp;
  try {
    expression = new RegExp(`^${source.join("")}$`, "i");
  } catch {
    throw new Error("the same part of a time stands in it twice");
  }
  if (!["year", "short"].some((year) => source.join("").includes(`<${year}>`)))
    throw new Error("it has no year: yyyy or yy");
  return (text) => {
    const found = expression.exec(text)?.groups;
    return found === undefined ? undefined : partsOf(found);
  };
}

function partsOf(found: Readonly<Record<string, string | undefined>>): TimeParts | undefined {
  const { year, short = "", month = "1", day = "1", minute = "0", second = "0", fraction, offset } = found;
  // two digits of a year are of 1970 to 2069
  const whole = year ?? `${Number(short) < 70 ? 20 : 19}${short}`;
  const date = `${whole}-${two(monthNumber(month))}-${two(day)}`;
  const hour = hourOf(found);
  if (hour === undefined) return scanDateTime(date) === NO_TIME ? undefined : { local: date };
  const time = `${date}T${two(hour)}:${two(minute)}:${two(second)}${fraction === undefined ? "" : `.${fraction}`}`;
  if (scanDateTime(time) === NO_TIME) return undefined;
  if (offset === undefined) return { local: time };
  const zone = /^[+-]\d{4}$/.test(offset) ? `${offset.slice(0, 3)}:${offset.slice(3)}` : offset.toUpperCase();
  const instant = new Date(`${time.slice(0, 19)}${zone}`).getTime();
  if (Number.isNaN(instant)) return undefined;
  return { instant: instant * 1000 + Number((fraction ?? "").padEnd(6, "0")) };
}

/** 12 am is midnight. */
function hourOf({ hour, half, noon }: Readonly<Record<string, string | undefined>>): string | undefined {
  if (half === undefined) return hour;
  if (Number(half) < 1 || Number(half) > 12) return "99";
  return String((Number(half) % 12) + (noon?.toLowerCase() === "pm" ? 12 : 0));
}

function monthNumber(text: string): string {
  const name = text.toLowerCase().slice(0, 3);
  const at = MONTHS.indexOf(name);
  return at < 0 ? text : String(at + 1);
}

const two = (text: string) => text.padStart(2, "0");
