/** Dates and times of RFC 3339: the forms that `date-time.ts` reads, and no others. */

import { isDigit } from "./json";

export const NO_TIME = 0;
export const DATE = 1;
export const INSTANT = 2;
export const LOCAL_TIME = 3;

/** The last value read: days since 1970-01-01, and for times whole seconds (UTC where zoned) and µs. */
export let days: i32 = 0;
export let seconds: i64 = 0;
export let micros: i32 = 0;

const LONGEST = 35;
const WRONG = -1;
const MONTH_DAYS = memory.data<u8>([31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31]);

/** The text from one place to before another. */
export function readTime(from: usize, end: usize): i32 {
  const length = <i32>(end - from);
  if (length < 10 || length > LONGEST || load<u8>(from + 4) !== 45 || load<u8>(from + 7) !== 45)
    return NO_TIME;
  const century = two(from);
  const inCentury = two(from + 2);
  const month = two(from + 5);
  const day = two(from + 8);
  if ((century | inCentury | month | day) < 0) return NO_TIME;
  const year = century * 100 + inCentury;
  if (year < 1 || month < 1 || month > 12 || day < 1 || day > daysInMonth(year, month)) return NO_TIME;
  days = daysFromCivil(year, month, day);
  return length === 10 ? DATE : readClock(from, end);
}

function readClock(from: usize, end: usize): i32 {
  if (end - from < 19 || load<u8>(from + 10) !== 84) return NO_TIME;
  if (load<u8>(from + 13) !== 58 || load<u8>(from + 16) !== 58) return NO_TIME;
  const hour = two(from + 11);
  const minute = two(from + 14);
  const second = two(from + 17);
  if ((hour | minute | second) < 0 || hour > 23 || minute > 59 || second > 59) return NO_TIME;
  let at = from + 19;
  micros = 0;
  if (load<u8>(at) === 46) {
    const begin = at + 1;
    let unit = 100_000;
    for (at = begin; at < end && isDigit(load<u8>(at)); at++) {
      const digit = <i32>load<u8>(at) - 48;
      if (unit === 0 && digit !== 0) return NO_TIME;
      micros += digit * unit;
      unit /= 10;
    }
    if (at === begin) return NO_TIME;
  }
  seconds = <i64>days * 86400 + hour * 3600 + minute * 60 + second;
  if (at === end) return LOCAL_TIME;
  const sign = load<u8>(at);
  if (sign === 90) return end === at + 1 ? INSTANT : NO_TIME;
  return readOffset(sign, at, end);
}

function readOffset(sign: u8, at: usize, end: usize): i32 {
  if ((sign !== 43 && sign !== 45) || end !== at + 6 || load<u8>(at + 3) !== 58) return NO_TIME;
  const hours = two(at + 1);
  const minutes = two(at + 4);
  if ((hours | minutes) < 0 || hours > 23 || minutes > 59) return NO_TIME;
  const offset = hours * 3600 + minutes * 60;
  seconds -= sign === 43 ? offset : -offset;
  return INSTANT;
}

/** Two decimal digits as a number; below 0 where one is no digit. */
function two(at: usize): i32 {
  const high = load<u8>(at) - 48;
  const low = load<u8>(at + 1) - 48;
  return high < 10 && low < 10 ? <i32>high * 10 + low : WRONG;
}

function daysInMonth(year: i32, month: i32): i32 {
  const isLeap = year % 4 === 0 && (year % 100 !== 0 || year % 400 === 0);
  return month === 2 && isLeap ? 29 : load<u8>(MONTH_DAYS + month - 1);
}

/** Days since 1970-01-01 in the proleptic Gregorian calendar (Hinnant, "chrono-compatible date algorithms"). */
function daysFromCivil(year: i32, month: i32, day: i32): i32 {
  const y = month <= 2 ? year - 1 : year;
  const era = y / 400;
  const yearOfEra = y - era * 400;
  const dayOfYear = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
  return era * 146_097 + yearOfEra * 365 + yearOfEra / 4 - yearOfEra / 100 + dayOfYear - 719_468;
}
