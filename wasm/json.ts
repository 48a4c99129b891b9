/** Steps over JSON (RFC 8259): what is stepped over is checked. A place of 0 stands for: it is none. */

/** Deeper values are not taken: the stack stays small. */
const MOST_LEVELS = 48;

const QUOTE: u8 = 34;
const BACKSLASH: u8 = 92;

/** Whether the bytes of a token stand at a place. */
export function startsWith(at: usize, token: usize, length: u32): bool {
  let i: u32 = 0;
  for (; i + 8 <= length; i += 8) if (load<u64>(at + i) !== load<u64>(token + i)) return false;
  for (; i < length; i++) if (load<u8>(at + i) !== load<u8>(token + i)) return false;
  return true;
}

/** The place of the next byte that is no blank. */
export function blanks(from: usize): usize {
  return load<u8>(from) > 32 ? from : manyBlanks(from);
}

function manyBlanks(from: usize): usize {
  let at = from;
  while (true) {
    const byte = load<u8>(at);
    if (byte !== 32 && byte !== 10 && byte !== 13 && byte !== 9) return at;
    at++;
  }
}

export function isDigit(byte: u8): bool {
  return byte - 48 < 10;
}

export function behindColon(from: usize): usize {
  const at = blanks(from);
  return load<u8>(at) === 58 ? blanks(at + 1) : 0;
}

/** Bits of the bytes, of 16 at a place, that no text has as they are: quote, backslash, control characters. */
export function oddOf(bytes: v128): i32 {
  const quote = i8x16.eq(bytes, i8x16.splat(34));
  const slash = i8x16.eq(bytes, i8x16.splat(92));
  const control = i8x16.lt_u(bytes, i8x16.splat(32));
  return i8x16.bitmask(v128.or(v128.or(quote, slash), control));
}

/** The place of the first such byte. */
function oddPlace(from: usize): usize {
  let at = from;
  while (true) {
    const odd = oddOf(v128.load(at));
    if (odd !== 0) return at + ctz(odd);
    at += 16;
  }
}

/** The place behind the quote that ends a text; `from` is behind the one that begins it. */
export function skipText(from: usize): usize {
  let at = from;
  while (true) {
    at = oddPlace(at);
    const byte = load<u8>(at);
    if (byte === QUOTE) return at + 1;
    at = byte === BACKSLASH ? skipEscape(at + 1) : 0;
    if (at === 0) return 0;
  }
}

/** The same of a text without escapes. */
export function skipPlainText(from: usize): usize {
  const at = oddPlace(from);
  return load<u8>(at) === QUOTE ? at + 1 : 0;
}

export function skipEscape(at: usize): usize {
  switch (load<u8>(at)) {
    case 34:
    case 47:
    case 92:
    case 98:
    case 102:
    case 110:
    case 114:
    case 116:
      return at + 1;
    case 117:
      for (let i: usize = 1; i <= 4; i++) if (hexOf(load<u8>(at + i)) < 0) return 0;
      return at + 5;
    default:
      return 0;
  }
}

/** What a hexadecimal digit stands for, or -1. */
export function hexOf(byte: u8): i32 {
  if (isDigit(byte)) return byte - 48;
  const small = byte | 32;
  return small >= 97 && small <= 102 ? small - 87 : -1;
}

export function skipValue(at: usize, level: i32): usize {
  switch (load<u8>(at)) {
    case 34:
      return skipText(at + 1);
    case 123:
      return level > MOST_LEVELS ? 0 : skipObject(at + 1, level + 1);
    case 91:
      return level > MOST_LEVELS ? 0 : skipList(at + 1, level + 1);
    case 116:
      return load<u32>(at) === 0x65757274 ? at + 4 : 0;
    case 102:
      return load<u32>(at + 1) === 0x65736c61 ? at + 5 : 0;
    case 110:
      return load<u32>(at) === 0x6c6c756e ? at + 4 : 0;
    default:
      return skipNumber(at);
  }
}

function skipObject(from: usize, level: i32): usize {
  let at = blanks(from);
  if (load<u8>(at) === 125) return at + 1;
  while (true) {
    if (load<u8>(at) !== QUOTE) return 0;
    at = skipText(at + 1);
    if (at === 0) return 0;
    at = behindColon(at);
    if (at === 0) return 0;
    at = skipValue(at, level);
    if (at === 0) return 0;
    at = blanks(at);
    if (load<u8>(at) === 125) return at + 1;
    if (load<u8>(at) !== 44) return 0;
    at = blanks(at + 1);
  }
}

function skipList(from: usize, level: i32): usize {
  let at = blanks(from);
  if (load<u8>(at) === 93) return at + 1;
  while (true) {
    at = skipValue(at, level);
    if (at === 0) return 0;
    at = blanks(at);
    if (load<u8>(at) === 93) return at + 1;
    if (load<u8>(at) !== 44) return 0;
    at = blanks(at + 1);
  }
}

function skipDigits(from: usize): usize {
  let at = from;
  while (isDigit(load<u8>(at))) at++;
  return at === from ? 0 : at;
}

function skipNumber(from: usize): usize {
  let at = from;
  if (load<u8>(at) === 45) at++;
  at = load<u8>(at) === 48 ? at + 1 : skipDigits(at);
  if (at !== 0 && load<u8>(at) === 46) at = skipDigits(at + 1);
  if (at !== 0 && (load<u8>(at) | 32) === 101) {
    at++;
    if (load<u8>(at) === 43 || load<u8>(at) === 45) at++;
    at = skipDigits(at);
  }
  return at;
}
