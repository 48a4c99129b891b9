/**
 * Values out of the bytes of a page into a column. What a value means must not be in doubt: for all that is not of the
 * usual form of its type they say no, and the plain reader decides.
 */

import { type ColumnType, SEEN } from "../shape/column-type.js";
import { DATE, INSTANT, LOCAL_TIME, scanned, scanTimeBytes } from "../shape/date-time.js";
import { parseExactJson, stringifyExact } from "../shape/exact-json.js";
import { storedValue } from "../shape/walk.js";
import type { ColumnBuilder } from "./column-builder.js";
import { plainText, valueAt } from "./sketch.js";
import { isDigit, MOST_DIGITS, skipPlainText, skipValue } from "./skip.js";

/** Puts the value that begins at a place into a row; the place behind it, or -1: also where it is no JSON. */
export type PutValue = (into: ColumnBuilder, row: number, bytes: Uint8Array, at: number) => number;

const decoder = new TextDecoder("utf-8", { ignoreBOM: true });
const encoder = new TextEncoder();

/** How values of a column are put, by what is said of it; undefined: in no way of ours. */
export function putterOf(builder: ColumnBuilder): PutValue | undefined {
  const { type } = builder;
  const { rule } = builder.column;
  const put = putterOfType(type);
  // decimals take texts as they are
  const isAsItComes = rule.conceal === undefined && rule.read === undefined;
  if (put === undefined || (isAsItComes && (rule.digits !== true || type.kind === "decimal"))) return put;
  return (into, row, bytes, at) => {
    const end = skipValue(bytes, at);
    if (end < 0) return -1;
    const value = storedValue(rule, valueAt(bytes, at, end));
    if (value === undefined || value === null) return end;
    if (type.kind === "text" && typeof value === "string") {
      into.putText(row, value);
      return end;
    }
    const written = encoder.encode(stringifyExact(value));
    return put(into, row, written, 0) === written.length ? end : -1;
  };
}

function putterOfType(type: ColumnType): PutValue | undefined {
  switch (type.kind) {
    case "boolean":
      return putBoolean;
    case "int64":
      return putInteger;
    case "float64":
      return putFloat;
    case "decimal":
      return putDecimal(type.precision, type.scale);
    case "text":
      return putText;
    case "json":
      return putJson;
    case "date":
    case "timestamp":
    case "local_timestamp":
      return putTime;
    case "uuid":
      return putUuid;
    default:
      return undefined;
  }
}

const putBoolean: PutValue = (into, row, bytes, at) => {
  const isTrue = bytes[at] === 116;
  if ((!isTrue && bytes[at] !== 102) || (into.seen & SEEN.boolean) === 0) return -1;
  into.mark(row);
  into.bytes[row] = isTrue ? 1 : 0;
  return skipValue(bytes, at);
};

/** What was read last of a number: its digits as an integer, those behind the point, and where it ends. */
const number = { digits: 0, behind: 0, end: 0 };

/** Reads a plain number of few digits; false for others, and for what JSON has no number in. */
function readDigits(bytes: Uint8Array, from: number): boolean {
  let at = from;
  if (bytes[at] === 48 && isDigit(bytes[at + 1]!)) return false;
  let digits = 0;
  let count = 0;
  let point = -1;
  for (;;) {
    const byte = bytes[at]!;
    if (isDigit(byte)) {
      digits = digits * 10 + byte - 48;
      count++;
    } else if (byte === 46 && point < 0 && count > 0 && isDigit(bytes[at + 1]!)) point = count;
    else if (byte === 101 || byte === 69) return false;
    else break;
    at++;
  }
  number.digits = digits;
  number.behind = point < 0 ? 0 : count - point;
  number.end = at;
  return count > 0 && count <= MOST_DIGITS;
}

/** What was read last: whether it is below zero. */
let isNegative = false;

/** Reads a number of few digits, or a text that writes one out for a declared type; the place behind it, or -1. */
function readNumber({ column }: ColumnBuilder, bytes: Uint8Array, at: number): number {
  const isText = bytes[at] === 34;
  if (isText && column.rule.type === undefined) return -1;
  const begin = isText ? at + 1 : at;
  isNegative = bytes[begin] === 45;
  if (!readDigits(bytes, isNegative ? begin + 1 : begin)) return -1;
  const { end } = number;
  if (!isText) return end;
  return bytes[end] === 34 ? end + 1 : -1;
}

const putInteger: PutValue = (into, row, bytes, at) => {
  const end = readNumber(into, bytes, at);
  if (end < 0) return putLongInteger(into, row, bytes, at);
  if (number.behind > 0 || (into.seen & SEEN.smallInt) === 0) return -1;
  // there is no -0 among the integers
  into.putInteger(row, isNegative && number.digits !== 0 ? -number.digits : number.digits);
  return end;
};

/** Digits of the largest int64. */
const LONGEST_INTEGER = 19;

/** Integers of more digits: keys of 64 bits mostly have as many. */
const putLongInteger: PutValue = (into, row, bytes, at) => {
  const isText = bytes[at] === 34;
  const begin = isText ? at + 1 : at;
  const first = bytes[begin] === 45 ? begin + 1 : begin;
  let end = first;
  while (isDigit(bytes[end]!) && end - first <= LONGEST_INTEGER) end++;
  const count = end - first;
  if (count <= MOST_DIGITS || count > LONGEST_INTEGER || bytes[first] === 48) return -1;
  if (isText ? into.column.rule.type === undefined || bytes[end] !== 34 : isInNumber(bytes[end]!)) return -1;
  const value = BigInt(plainText(bytes, begin, end)!);
  const kind = Number.isSafeInteger(Number(value)) ? SEEN.smallInt : SEEN.wideInt;
  if ((into.seen & kind) === 0 || BigInt.asIntN(64, value) !== value) return -1;
  into.putLong(row, value);
  return isText ? end + 1 : end;
};

/** A point or an exponent, behind which a number goes on. */
const isInNumber = (byte: number) => byte === 46 || byte === 101 || byte === 69;

const putFloat: PutValue = (into, row, bytes, at) => {
  const end = readNumber(into, bytes, at);
  if (end < 0) return putLongFloat(into, row, bytes, at);
  // both are exact, so the quotient is the nearest float64 (Clinger 1990)
  const value = number.digits / 10 ** number.behind;
  const kind = Number.isInteger(value) ? SEEN.smallInt : SEEN.float;
  if ((into.seen & kind) === 0) return -1;
  into.mark(row);
  into.floats[row] = isNegative ? -value : value;
  return end;
};

/** More digits make no longer float64 in its shortest form. */
const LONGEST_FLOAT = 25;

/** Fractions of more digits, as a float64 is written in full: none of their digits is lost. */
const putLongFloat: PutValue = (into, row, bytes, at) => {
  const end = bytes[at] === 34 ? -1 : skipValue(bytes, at);
  if (end < 0 || end - at > LONGEST_FLOAT || (into.seen & SEEN.float) === 0) return -1;
  const text = plainText(bytes, at, end);
  const value = Number(text);
  if (Number.isInteger(value) || String(value) !== text) return -1;
  into.mark(row);
  into.floats[row] = value;
  return end;
};

/** Declared decimals: numbers, and texts that write one out. */
const putDecimal = (precision: number, scale: number): PutValue => {
  // what float64 holds exactly is below any wider limit
  const limit = Math.min(10 ** precision, Number.MAX_SAFE_INTEGER);
  return (into, row, bytes, at) => {
    if (into.column.rule.type === undefined) return -1;
    const end = readNumber(into, bytes, at);
    if (end < 0 || number.behind > scale) return -1;
    const unscaled = number.digits * 10 ** (scale - number.behind);
    if (unscaled >= limit) return -1;
    into.putInteger(row, isNegative && unscaled !== 0 ? -unscaled : unscaled);
    return end;
  };
};

const putText: PutValue = (into, row, bytes, at) => {
  if (bytes[at] !== 34) return putPlainWord(into, row, bytes, at);
  return into.copyText(row, bytes, at + 1);
};

/** Whole numbers in a column that holds texts as well: they are written as they stand. */
const putPlainWord: PutValue = (into, row, bytes, at) => {
  const first = bytes[at] === 45 ? at + 1 : at;
  // -0 is 0, and what does not begin with a digit is none
  if (!isDigit(bytes[first]!) || (first > at && bytes[first] === 48)) return -1;
  if ((into.seen & SEEN.smallInt) === 0 || !readDigits(bytes, first) || number.behind > 0) return -1;
  const { end } = number;
  into.putBytes(row, bytes, at, end);
  return end;
};

/** Lists of plain values, and what has been declared as json. */
const putJson: PutValue = (into, row, bytes, at) => {
  const end = skipValue(bytes, at);
  if (end < 0) return -1;
  if (isCanonical(bytes, at, end)) {
    into.putBytes(row, bytes, at, end);
    return end;
  }
  into.putText(row, stringifyExact(parseExactJson(decoder.decode(bytes.subarray(at, end)))));
  return end;
};

/** Whether a value stands there as JSON.stringify would write it: without blanks, escapes, objects, and fractions. */
function isCanonical(bytes: Uint8Array, from: number, end: number): boolean {
  for (let at = from; at < end; at++) {
    const byte = bytes[at]!;
    if (byte === 34) {
      at = skipPlainText(bytes, at + 1) - 1;
      if (at < 0) return false;
    } else if (byte <= 32 || byte === 123 || byte === 45 || byte === 46 || byte === 69) return false;
    // the exponent of a number, where it is no word
    else if (byte === 101 && isDigit(bytes[at - 1]!)) return false;
  }
  return true;
}

/** Longer texts are no times. */
const LONGEST_TIME = 40;

const putTime: PutValue = (into, row, bytes, at) => {
  if (bytes[at] !== 34) return -1;
  let end = at + 1;
  while (bytes[end] !== 34 && end <= at + LONGEST_TIME) end++;
  if (bytes[end] !== 34) return -1;
  const kind = scanTimeBytes(bytes, at + 1, end);
  const { type } = into;
  if (type.kind === "date") {
    if (kind !== DATE || (into.seen & SEEN.date) === 0) return -1;
    into.mark(row);
    into.halves[row] = scanned.days;
    return end + 1;
  }
  const isInstant = type.kind === "timestamp";
  if (kind !== (isInstant ? INSTANT : LOCAL_TIME)) return -1;
  if ((into.seen & (isInstant ? SEEN.instant : SEEN.localTime)) === 0) return -1;
  const micros = scanned.seconds * 1e6 + scanned.micros;
  if (!Number.isSafeInteger(micros)) return -1;
  into.putInteger(row, micros);
  return end + 1;
};

const putUuid: PutValue = (into, row, bytes, at) => {
  // capitals would not come back as they were sent, but where the type is declared
  const hexOf = into.column.rule.type === undefined ? lowerHexOf : anyHexOf;
  if (bytes[at] !== 34 || bytes[at + 37] !== 34 || (into.seen & SEEN.uuid) === 0) return -1;
  into.mark(row);
  let to = row * 16;
  for (let i = 1; i <= 36; ) {
    if (i === 9 || i === 14 || i === 19 || i === 24) {
      if (bytes[at + i] !== 45) return -1;
      i++;
    }
    const high = hexOf(bytes[at + i]!);
    const low = hexOf(bytes[at + i + 1]!);
    if (high < 0 || low < 0) return -1;
    into.bytes[to++] = high * 16 + low;
    i += 2;
  }
  return at + 38;
};

function lowerHexOf(byte: number): number {
  if (isDigit(byte)) return byte - 48;
  return byte >= 97 && byte <= 102 ? byte - 87 : -1;
}

function anyHexOf(byte: number): number {
  return lowerHexOf(byte >= 65 && byte <= 70 ? byte + 32 : byte);
}
