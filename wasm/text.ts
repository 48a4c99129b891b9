/** Texts out of a page into a column, their escapes undone. */

import { endText, reserve } from "./columns";
import { hexOf, oddOf, skipEscape } from "./json";
import { Column } from "./plan";

/** Room that is there at least while bytes are copied 16 at a time, and for a character behind them. */
const STRIDE = 32;

/** Behind the character that was written last. */
export let behind: usize = 0;

/** A text that begins at a place: the place behind its quote; 0 where it is none. */
export function copyText(column: Column, row: u32, start: usize): usize {
  let at = start;
  reserve(column, 4 + STRIDE);
  let to = column.data + column.end + 4;
  let last = column.data + column.room - STRIDE;
  while (true) {
    const bytes = v128.load(at);
    if (to > last) {
      const written = <u32>(to - column.data) - column.end;
      to = roomBehind(column, written);
      last = column.data + column.room - STRIDE;
    }
    v128.store(to, bytes);
    const odd = oddOf(bytes);
    if (odd === 0) {
      at += 16;
      to += 16;
      continue;
    }
    const plain = ctz(odd);
    at += plain;
    to += plain;
    const byte = load<u8>(at);
    if (byte === 34) {
      endText(column, row, <u32>(to - column.data));
      return at + 1;
    }
    if (byte !== 92) return 0;
    at = copyEscape(at + 1, to);
    if (at === 0) return 0;
    to = behind;
  }
}

/** More room for a text of which so much is written, its length before it: where it goes on. */
function roomBehind(column: Column, written: u32): usize {
  const end = column.end;
  // what is written moves as well
  column.end = end + written;
  reserve(column, max<u32>(256, written));
  column.end = end;
  return column.data + end + written;
}

/** Writes the character that an escape stands for; the place behind it, or 0. What is written ends at `behind`. */
function copyEscape(at: usize, to: usize): usize {
  const end = skipEscape(at);
  if (end === 0) return 0;
  if (end !== at + 5) {
    store<u8>(to, escaped(load<u8>(at)));
    behind = to + 1;
    return end;
  }
  const unit = unitAt(at + 1);
  // half of a pair has no UTF-8
  if (isHalf(unit)) return copyPair(unit, end, to);
  writeUnit(to, unit);
  return end;
}

/** Half of a pair of UTF-16. */
export function isHalf(unit: u32): bool {
  return (unit & 0xf800) === 0xd800;
}

/** A pair, the first half of which is read already, as UTF-8; 0 where it is none. */
export function copyPair(unit: u32, end: usize, to: usize): usize {
  const isPair = (unit & 0xfc00) === 0xd800 && load<u8>(end) === 92 && skipEscape(end + 1) === end + 6;
  const low = isPair ? unitAt(end + 2) : 0;
  if ((low & 0xfc00) !== 0xdc00) return 0;
  const point = 0x10000 + ((unit & 0x3ff) << 10) + (low & 0x3ff);
  store<u8>(to, 0xf0 | (point >> 18));
  store<u8>(to + 1, 0x80 | ((point >> 12) & 63));
  store<u8>(to + 2, 0x80 | ((point >> 6) & 63));
  store<u8>(to + 3, 0x80 | (point & 63));
  behind = to + 4;
  return end + 6;
}

function escaped(letter: u8): u8 {
  switch (letter) {
    case 98:
      return 8;
    case 102:
      return 12;
    case 110:
      return 10;
    case 114:
      return 13;
    case 116:
      return 9;
    default:
      return letter;
  }
}

/** The unit of UTF-16 that four hexadecimal digits stand for. */
export function unitAt(at: usize): u32 {
  let unit: u32 = 0;
  for (let i: usize = 0; i < 4; i++) unit = unit * 16 + hexOf(load<u8>(at + i));
  return unit;
}

/** A character of the basic plane as UTF-8 (RFC 3629, section 3). */
export function writeUnit(to: usize, unit: u32): void {
  if (unit < 0x80) {
    store<u8>(to, unit);
    behind = to + 1;
  } else if (unit < 0x800) {
    store<u8>(to, 0xc0 | (unit >> 6));
    store<u8>(to + 1, 0x80 | (unit & 63));
    behind = to + 2;
  } else {
    store<u8>(to, 0xe0 | (unit >> 12));
    store<u8>(to + 1, 0x80 | ((unit >> 6) & 63));
    store<u8>(to + 2, 0x80 | (unit & 63));
    behind = to + 3;
  }
}
