/**
 * Values of a page into a column. What a value means must not be in doubt: for all that is not of the usual form of its
 * type they say no (0), and whoever owns the column decides.
 */

import { mark, putBytes, putLong } from "./columns";
import { power, shortestFloat } from "./float";
import { hexOf, isDigit, skipPlainText, skipValue } from "./json";
import * as number from "./number";
import { readDigits, readNumber } from "./number";
import { Column, Kind } from "./plan";
import { copyText } from "./text";
import * as time from "./time";

/** Bits of the kinds of values that a column has seen, as `SEEN` has them. */
namespace Seen {
  export const BOOLEAN = 1;
  export const SMALL_INT = 2;
  export const WIDE_INT = 4;
  export const FLOAT = 16;
  export const DATE = 64;
  export const INSTANT = 128;
  export const LOCAL_TIME = 256;
  export const UUID = 512;
}

/** Digits of the largest int64. */
const LONGEST_INTEGER = 19;
/** The largest integer up to which float64 holds all. */
const MOST_SAFE: i64 = 9007199254740991;
/** Longer texts are no times. */
const LONGEST_TIME = 40;

/** Puts a value that is not of the usual form; the place number.behind it, or 0. */
declare function putOutside(column: Column, row: u32, at: usize): usize;

/** Puts the value that begins at a place into a row; the place number.behind it, or 0: also where it is no JSON. */
export function putAs(kind: i32, column: Column, row: u32, at: usize): usize {
  switch (kind) {
    case Kind.BOOLEAN:
      return putBoolean(column, row, at);
    case Kind.INTEGER:
      return putInteger(column, row, at);
    case Kind.FLOAT:
      return putFloat(column, row, at);
    case Kind.DECIMAL:
      return putDecimal(column, row, at);
    case Kind.TEXT:
      return load<u8>(at) === 34 ? copyText(column, row, at + 1) : putPlainWord(column, row, at);
    case Kind.JSON_TEXT:
      return putJson(column, row, at);
    case Kind.DATE:
      return putDate(column, row, at);
    case Kind.INSTANT:
      return putMoment(column, row, at, time.INSTANT, Seen.INSTANT);
    case Kind.LOCAL_TIME:
      return putMoment(column, row, at, time.LOCAL_TIME, Seen.LOCAL_TIME);
    case Kind.UUID:
      return putUuid(column, row, at);
    default:
      return putOutside(column, row, at);
  }
}

function putBoolean(column: Column, row: u32, at: usize): usize {
  const isTrue = load<u8>(at) === 116;
  if ((!isTrue && load<u8>(at) !== 102) || (column.seen & Seen.BOOLEAN) === 0) return 0;
  const end = skipValue(at, 0);
  if (end === 0) return 0;
  mark(column, row);
  store<u8>(column.data + row, isTrue);
  return end;
}

function putInteger(column: Column, row: u32, at: usize): usize {
  const end = readNumber(column, at);
  if (end === 0) return putLongInteger(column, row, at);
  if (number.behind > 0 || (column.seen & Seen.SMALL_INT) === 0) return 0;
  putLong(column, row, number.isNegative ? -number.digits : number.digits);
  return end;
}

/** Integers of more digits: keys of 64 bits mostly have as many. */
function putLongInteger(column: Column, row: u32, at: usize): usize {
  const isText = load<u8>(at) === 34;
  const begin = isText ? at + 1 : at;
  const isBelow = load<u8>(begin) === 45;
  const first = isBelow ? begin + 1 : begin;
  let end = first;
  let value: u64 = 0;
  while (isDigit(load<u8>(end)) && <i32>(end - first) <= LONGEST_INTEGER)
    value = value * 10 + (load<u8>(end++) - 48);
  const count = <i32>(end - first);
  if (count <= number.MOST_DIGITS || count > LONGEST_INTEGER || load<u8>(first) === 48) return 0;
  if (isText ? !column.isDeclared || load<u8>(end) !== 34 : isInNumber(load<u8>(end))) return 0;
  if (value > <u64>i64.MAX_VALUE + <u64>isBelow) return 0;
  const kind = value <= <u64>MOST_SAFE ? Seen.SMALL_INT : Seen.WIDE_INT;
  if ((column.seen & kind) === 0) return 0;
  putLong(column, row, isBelow ? -(<i64>value) : <i64>value);
  return isText ? end + 1 : end;
}

/** A point or an exponent, behind which a number goes on. */
function isInNumber(byte: u8): bool {
  return byte === 46 || (byte | 32) === 101;
}

function putFloat(column: Column, row: u32, at: usize): usize {
  const end = readNumber(column, at);
  if (end === 0) return putLongFloat(column, row, at);
  // both are exact, so the quotient is the nearest float64 (Clinger 1990)
  const value = <f64>number.digits / power(number.behind);
  const kind = trunc(value) === value ? Seen.SMALL_INT : Seen.FLOAT;
  if ((column.seen & kind) === 0) return 0;
  putFloat64(column, row, number.isNegative ? -value : value);
  return end;
}

/** Fractions of more digits, where they are what a float64 is written as: none of their digits is lost. */
function putLongFloat(column: Column, row: u32, at: usize): usize {
  if (load<u8>(at) === 34 || (column.seen & Seen.FLOAT) === 0) return 0;
  const end = number.longEnd;
  const value = end === 0 ? 0 : shortestFloat(number.digits, number.behind);
  // where that is not easy to tell, its owner tells it
  if (value === 0) return putOutside(column, row, at);
  putFloat64(column, row, number.isNegative ? -value : value);
  return end;
}

export function putFloat64(column: Column, row: u32, value: f64): void {
  mark(column, row);
  store<f64>(column.data + row * 8, value);
}

/** Declared decimals: numbers, and texts that write one out. */
function putDecimal(column: Column, row: u32, at: usize): usize {
  if (!column.isDeclared) return 0;
  const end = readNumber(column, at);
  if (end === 0 || number.behind > column.scale) return 0;
  const unscaled = <f64>number.digits * power(column.scale - number.behind);
  if (unscaled >= column.limit) return 0;
  putLong(column, row, number.isNegative ? -(<i64>unscaled) : <i64>unscaled);
  return end;
}

/** Whole numbers in a column that holds texts as well: they are written as they stand. */
function putPlainWord(column: Column, row: u32, at: usize): usize {
  const first = load<u8>(at) === 45 ? at + 1 : at;
  // -0 is 0, and what does not begin with a digit is none
  if (first > at && load<u8>(first) === 48) return 0;
  const end = readDigits(first);
  if (end === 0 || number.behind > 0 || (column.seen & Seen.SMALL_INT) === 0) return 0;
  putBytes(column, row, at, <u32>(end - at));
  return end;
}

/** Lists of plain values, and what has been declared as json. */
function putJson(column: Column, row: u32, at: usize): usize {
  const end = skipValue(at, 0);
  if (end === 0) return 0;
  if (!isCanonical(at, end)) return putOutside(column, row, at);
  putBytes(column, row, at, <u32>(end - at));
  return end;
}

/** Whether a value stands there as JSON.stringify would write it: without blanks, escapes, objects, and fractions. */
function isCanonical(from: usize, end: usize): bool {
  for (let at = from; at < end; at++) {
    const byte = load<u8>(at);
    if (byte === 34) {
      const behindText = skipPlainText(at + 1);
      if (behindText === 0) return false;
      at = behindText - 1;
    } else if (byte <= 32 || byte === 123 || byte === 45 || byte === 46 || byte === 69) return false;
    // the exponent of a number, where it is no word
    else if (byte === 101 && isDigit(load<u8>(at - 1))) return false;
  }
  return true;
}

/** Reads a text as a time; the place number.behind it, and what it is in `timeKind`. */
let timeKind: i32 = 0;
function readTimeText(at: usize): usize {
  if (load<u8>(at) !== 34) return 0;
  let end = at + 1;
  while (load<u8>(end) !== 34 && end <= at + LONGEST_TIME) end++;
  if (load<u8>(end) !== 34) return 0;
  timeKind = time.readTime(at + 1, end);
  return end + 1;
}

function putDate(column: Column, row: u32, at: usize): usize {
  const end = readTimeText(at);
  if (end === 0 || timeKind !== time.DATE || (column.seen & Seen.DATE) === 0) return 0;
  mark(column, row);
  store<i32>(column.data + row * 4, time.days);
  return end;
}

function putMoment(column: Column, row: u32, at: usize, kind: i32, seen: i32): usize {
  const end = readTimeText(at);
  if (end === 0 || timeKind !== kind || (column.seen & seen) === 0) return 0;
  const micros = time.seconds * 1_000_000 + time.micros;
  if (micros > MOST_SAFE || micros < -MOST_SAFE) return 0;
  putLong(column, row, micros);
  return end;
}

function putUuid(column: Column, row: u32, at: usize): usize {
  if (load<u8>(at) !== 34 || load<u8>(at + 37) !== 34 || (column.seen & Seen.UUID) === 0) return 0;
  let to = column.data + row * 16;
  for (let i: usize = 1; i <= 36; i += 2) {
    if (i === 9 || i === 14 || i === 19 || i === 24) {
      if (load<u8>(at + i) !== 45) return 0;
      i++;
    }
    const high = load<u8>(at + i);
    const low = load<u8>(at + i + 1);
    // capitals would not come back as they were sent, but where the type is declared
    if (!column.isDeclared && (isCapital(high) || isCapital(low))) return 0;
    const byte = (hexOf(high) << 4) | hexOf(low);
    if (byte < 0) return 0;
    store<u8>(to++, byte);
  }
  mark(column, row);
  return at + 38;
}

function isCapital(byte: u8): bool {
  return byte - 65 < 26;
}
