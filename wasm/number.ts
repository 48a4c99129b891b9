/** Reads numbers as JSON writes them (RFC 8259, section 6). */

import { isDigit } from "./json";
import { Column } from "./plan";

/** Digits that float64 holds exactly, whatever they are. */
export const MOST_DIGITS = 15;
/** Digits that 64 bits hold, whatever they are. */
const MOST_LONG = 18;

/** What was read last: its digits as an integer, how many of them stand behind the point, and its sign. */
export let digits: i64 = 0;
export let behind: i32 = 0;
export let isNegative: bool = false;
/** behind a number that had too many digits for a float64, and not too many for `digits`; otherwise 0 */
export let longEnd: usize = 0;

/** Reads a plain number of few digits: the place behind it; 0 for others, and for what JSON has no number in. */
export function readDigits(from: usize): usize {
  let at = from;
  longEnd = 0;
  if (load<u8>(at) === 48 && isDigit(load<u8>(at + 1))) return 0;
  digits = 0;
  behind = 0;
  let value: i64 = 0;
  let zeros = 0;
  while (isDigit(load<u8>(at))) value = value * 10 + (load<u8>(at++) - 48);
  let count = <i32>(at - from);
  if (count === 0) return 0;
  if (load<u8>(at) === 46) {
    const point = ++at;
    if (value === 0) while (load<u8>(at) === 48) at++;
    zeros = <i32>(at - point);
    while (isDigit(load<u8>(at))) value = value * 10 + (load<u8>(at++) - 48);
    behind = <i32>(at - point);
    if (behind === 0) return 0;
    count += behind;
  }
  digits = value;
  if ((load<u8>(at) | 32) === 101) return 0;
  if (count <= MOST_DIGITS) return at;
  if (count - zeros <= MOST_LONG) longEnd = at;
  return 0;
}

/** Reads a number of few digits, or a text that writes one out for a declared type. */
export function readNumber(column: Column, at: usize): usize {
  const isText = load<u8>(at) === 34;
  longEnd = 0;
  if (isText && !column.isDeclared) return 0;
  const begin = isText ? at + 1 : at;
  isNegative = load<u8>(begin) === 45;
  const end = readDigits(isNegative ? begin + 1 : begin);
  if (end === 0 || !isText) return end;
  return load<u8>(end) === 34 ? end + 1 : 0;
}
