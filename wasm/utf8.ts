/**
 * Whether bytes are UTF-8 (RFC 3629), 16 at a time, by the tables of Keiser and Lemire, "Validating UTF-8 In Less Than
 * One Instruction Per Byte" (2021). Behind the end zeros are to stand: a character that is cut off shows by them.
 */

const TOO_SHORT: u8 = 1;
const TOO_LONG: u8 = 2;
const OVERLONG_3: u8 = 4;
const TOO_LARGE: u8 = 8;
const SURROGATE: u8 = 16;
const OVERLONG_2: u8 = 32;
const TOO_LARGE_1000: u8 = 64;
const OVERLONG_4: u8 = 64;
const TWO_CONTS: u8 = 128;
const CARRY: u8 = TOO_SHORT | TOO_LONG | TWO_CONTS;
const LARGE: u8 = CARRY | TOO_LARGE | TOO_LARGE_1000;
const AFTER_8: u8 = TOO_LONG | OVERLONG_2 | TWO_CONTS | OVERLONG_3 | TOO_LARGE_1000 | OVERLONG_4;
const AFTER_9: u8 = TOO_LONG | OVERLONG_2 | TWO_CONTS | OVERLONG_3 | TOO_LARGE;
const AFTER_A: u8 = TOO_LONG | OVERLONG_2 | TWO_CONTS | SURROGATE | TOO_LARGE;

/** By the high half of a byte, what may be wrong with it and the next. */
const FIRST_HIGH = memory.data<u8>([
  TOO_LONG,
  TOO_LONG,
  TOO_LONG,
  TOO_LONG,
  TOO_LONG,
  TOO_LONG,
  TOO_LONG,
  TOO_LONG,
  TWO_CONTS,
  TWO_CONTS,
  TWO_CONTS,
  TWO_CONTS,
  TOO_SHORT | OVERLONG_2,
  TOO_SHORT,
  TOO_SHORT | OVERLONG_3 | SURROGATE,
  TOO_SHORT | TOO_LARGE | TOO_LARGE_1000 | OVERLONG_4,
]);
/** By its low half. */
const FIRST_LOW = memory.data<u8>([
  CARRY | OVERLONG_3 | OVERLONG_2 | OVERLONG_4,
  CARRY | OVERLONG_2,
  CARRY,
  CARRY,
  CARRY | TOO_LARGE,
  LARGE,
  LARGE,
  LARGE,
  LARGE,
  LARGE,
  LARGE,
  LARGE,
  LARGE,
  LARGE | SURROGATE,
  LARGE,
  LARGE,
]);
/** By the high half of the next. */
const SECOND_HIGH = memory.data<u8>([
  TOO_SHORT,
  TOO_SHORT,
  TOO_SHORT,
  TOO_SHORT,
  TOO_SHORT,
  TOO_SHORT,
  TOO_SHORT,
  TOO_SHORT,
  AFTER_8,
  AFTER_9,
  AFTER_A,
  AFTER_A,
  TOO_SHORT,
  TOO_SHORT,
  TOO_SHORT,
  TOO_SHORT,
]);

/** From a place on, so many bytes and the 16 behind them. */
export function isUtf8(from: usize, length: usize): bool {
  let before = i8x16.splat(0);
  let isAscii = true;
  let wrong = i8x16.splat(0);
  const end = from + length + 16;
  for (let at = from; at < end; at += 16) {
    const bytes = v128.load(at);
    const wasAscii = isAscii;
    isAscii = i8x16.bitmask(bytes) === 0;
    if (!wasAscii || !isAscii) wrong = v128.or(wrong, faults(bytes, before));
    before = bytes;
  }
  return !v128.any_true(wrong);
}

function faults(bytes: v128, before: v128): v128 {
  const one = i8x16.shuffle(before, bytes, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30);
  const two = i8x16.shuffle(before, bytes, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29);
  const three = i8x16.shuffle(before, bytes, 13, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28);
  const special = v128.and(
    v128.and(
      i8x16.swizzle(v128.load(FIRST_HIGH), i8x16.shr_u(one, 4)),
      i8x16.swizzle(v128.load(FIRST_LOW), v128.and(one, i8x16.splat(15))),
    ),
    i8x16.swizzle(v128.load(SECOND_HIGH), i8x16.shr_u(bytes, 4)),
  );
  // where the third or fourth byte of a character has to stand
  const third = i8x16.sub_sat_u(two, i8x16.splat(0x60));
  const fourth = i8x16.sub_sat_u(three, i8x16.splat(0x70));
  return v128.xor(v128.and(v128.or(third, fourth), i8x16.splat(-128)), special);
}
