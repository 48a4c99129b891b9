/** Texts of records, one behind the other: JSON as JavaScript writes it, mostly copied from what came. */

import { shortestFloat } from "./float";
import { isDigit, oddOf, skipValue } from "./json";
import { allocate } from "./memory";
import * as number from "./number";
import { readDigits } from "./number";
import { behind, copyPair, isHalf, unitAt, writeUnit } from "./text";

/** A value as JavaScript writes it: where that stands, its length in 32 bits before it. */
declare function rewritten(from: usize, to: usize): usize;

/** So many zeros behind the point, and JavaScript writes an exponent. */
const MOST_ZEROS = 5;
/** Room behind what is written, for copying 16 bytes at a time. */
export const BEHIND_TEXT = 64;

/** where they begin, and how far they are written */
let texts: usize = 0;
export let end: u32 = 0;
let room: u32 = 0;
/** what the rest of the record at hand may take, at most */
let rest: u32 = 0;

export function textsAt(): usize {
  return texts;
}

/** Begins with a page: room is to be had anew. */
export function openTexts(): void {
  room = 0;
  end = 0;
}

/** Takes back what stands behind a place. */
export function cutTo(place: u32): void {
  end = place;
}

/** Makes room for the text of a record of so many bytes. */
export function beginText(length: u32): void {
  // a mark before each key, `null` for an empty item of a list: no more than twice as much
  rest = 2 * length + BEHIND_TEXT;
  reserve(0);
}

/** Makes room for more than the rest of the record takes. */
function reserve(more: u32): void {
  const length = end + more + rest;
  if (length <= room) return;
  const larger = allocate(2 * length);
  if (end > 0) memory.copy(larger, texts, end);
  texts = larger;
  room = 2 * length;
}

export function text(from: usize): usize {
  put(34);
  let at = from + 1;
  while (true) {
    const bytes = v128.load(at);
    v128.store(texts + end, bytes);
    const odd = oddOf(bytes);
    if (odd === 0) {
      at += 16;
      end += 16;
      continue;
    }
    const plain = <u32>ctz(odd);
    end += plain;
    at += plain;
    if (load<u8>(at) === 34) break;
    at = writeEscaped(at + 1);
  }
  put(34);
  return at + 1;
}

/** Writes a character as JSON.stringify does, behind the backslash of its escape; the place behind that. */
function writeEscaped(at: usize): usize {
  const letter = load<u8>(at);
  if (letter === 47) {
    put(47);
    return at + 1;
  }
  if (letter !== 117) {
    put(92);
    put(letter);
    return at + 1;
  }
  const unit = unitAt(at + 1);
  const close = at + 5;
  if (unit < 32 || unit === 34 || unit === 92) {
    escaped(unit);
    return close;
  }
  const to = texts + end;
  if (isHalf(unit)) {
    const pairEnd = copyPair(unit, close, to);
    if (pairEnd !== 0) {
      end = <u32>(behind - texts);
      return pairEnd;
    }
    put(92);
    put(117);
    for (let shift = 12; shift >= 0; shift -= 4) put(hexDigit((unit >> shift) & 15));
    return close;
  }
  writeUnit(to, unit);
  end = <u32>(behind - texts);
  return close;
}

/** A character that no text has as it is. */
function escaped(unit: u32): void {
  put(92);
  const letter = shortEscape(unit);
  if (letter !== 0) {
    put(letter);
    return;
  }
  put(117);
  put(48);
  put(48);
  put(hexDigit(unit >> 4));
  put(hexDigit(unit & 15));
}

function shortEscape(unit: u32): u32 {
  switch (unit) {
    case 34:
    case 92:
      return unit;
    case 8:
      return 98;
    case 9:
      return 116;
    case 10:
      return 110;
    case 12:
      return 102;
    case 13:
      return 114;
    default:
      return 0;
  }
}

function hexDigit(digit: u32): u32 {
  return digit < 10 ? 48 + digit : 87 + digit;
}

/** A number that JavaScript writes as it came is copied. */
export function plainNumber(from: usize): usize {
  const isBelow = load<u8>(from) === 45;
  const first = isBelow ? from + 1 : from;
  let at = first;
  while (isDigit(load<u8>(at))) at++;
  const isZero = load<u8>(first) === 48;
  const mark = load<u8>(at) | 32;
  // integers keep all of their digits
  if (load<u8>(at) !== 46 && mark !== 101) return isZero && isBelow ? rewrite(from) : copy(from, at);
  if (mark === 101) return rewrite(from);
  const point = at++;
  while (load<u8>(at) === 48) at++;
  const zeros = <i32>(at - point) - 1;
  while (isDigit(load<u8>(at))) at++;
  const isShort = <i32>(at - first) - 1 <= number.MOST_DIGITS;
  if (load<u8>(at - 1) === 48 || (isZero && zeros > MOST_ZEROS) || (load<u8>(at) | 32) === 101)
    return rewrite(from);
  return isShort || isShortest(first) ? copy(from, at) : rewrite(from);
}

/** Whether a fraction of more digits is what its float64 is written as. */
function isShortest(first: usize): bool {
  readDigits(first);
  return number.longEnd !== 0 && shortestFloat(number.digits, number.behind) !== 0;
}

function rewrite(from: usize): usize {
  const close = skipValue(from, 0);
  const other = rewritten(from, close);
  const length = load<u32>(other);
  reserve(length);
  write(other + 4, length);
  return close;
}

export function copy(from: usize, close: usize): usize {
  write(from, <u32>(close - from));
  return close;
}

export function write(from: usize, length: u32): void {
  copyBytes(texts + end, from, length);
  end += length;
}

/** Copies bytes 16 at a time: there is room behind them. */
export function copyBytes(to: usize, from: usize, length: u32): void {
  for (let i: u32 = 0; i < length; i += 16) v128.store(to + i, v128.load(from + i));
}

export function put(byte: u32): void {
  store<u8>(texts + end++, byte);
}

export function writeNull(): void {
  store<u32>(texts + end, 0x6c6c756e);
  end += 4;
}
