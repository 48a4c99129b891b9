/** Steps over JSON (RFC 8259) in its bytes: what is stepped over is checked as JSON.parse would, and as UTF-8. */

/** Deeper values are left to the plain reader: the stack stays small. */
const MOST_LEVELS = 48;

/** Digits that float64 holds exactly, whatever they are. */
export const MOST_DIGITS = 15;

/** The place of the next byte that is no blank. */
export function blanks(bytes: Uint8Array, from: number): number {
  // mostly there is none
  if (bytes[from]! > 32) return from;
  let at = from;
  for (let byte = bytes[at]; byte === 32 || byte === 10 || byte === 13 || byte === 9; byte = bytes[at]) at++;
  return at;
}

/** The place behind the value that begins at a place; -1 where it is none. */
export function skipValue(bytes: Uint8Array, at: number, level = 0): number {
  switch (bytes[at]) {
    case 34:
      return skipText(bytes, at + 1);
    case 123:
      return level > MOST_LEVELS ? -1 : skipObject(bytes, at + 1, level + 1);
    case 91:
      return level > MOST_LEVELS ? -1 : skipList(bytes, at + 1, level + 1);
    case 116:
      return skipWord(bytes, at, TRUE);
    case 102:
      return skipWord(bytes, at, FALSE);
    case 110:
      return skipWord(bytes, at, NULL);
    default:
      return skipNumber(bytes, at);
  }
}

const [TRUE, FALSE, NULL] = ["true", "false", "null"].map((word) => new TextEncoder().encode(word)) as [
  Uint8Array,
  Uint8Array,
  Uint8Array,
];

function skipWord(bytes: Uint8Array, at: number, word: Uint8Array): number {
  for (let i = 0; i < word.length; i++) if (bytes[at + i] !== word[i]) return -1;
  return at + word.length;
}

function skipObject(bytes: Uint8Array, from: number, level: number): number {
  let at = blanks(bytes, from);
  if (bytes[at] === 125) return at + 1;
  for (;;) {
    if (bytes[at] !== 34) return -1;
    at = skipText(bytes, at + 1);
    if (at < 0) return -1;
    at = behindColon(bytes, at);
    if (at < 0) return -1;
    at = skipValue(bytes, at, level);
    if (at < 0) return -1;
    at = blanks(bytes, at);
    if (bytes[at] === 125) return at + 1;
    if (bytes[at] !== 44) return -1;
    at = blanks(bytes, at + 1);
  }
}

/** The place of the value behind a key; -1 where no colon stands between. */
export function behindColon(bytes: Uint8Array, from: number): number {
  const at = blanks(bytes, from);
  return bytes[at] === 58 ? blanks(bytes, at + 1) : -1;
}

function skipList(bytes: Uint8Array, from: number, level: number): number {
  let at = blanks(bytes, from);
  if (bytes[at] === 93) return at + 1;
  for (;;) {
    at = skipValue(bytes, at, level);
    if (at < 0) return -1;
    at = blanks(bytes, at);
    if (bytes[at] === 93) return at + 1;
    if (bytes[at] !== 44) return -1;
    at = blanks(bytes, at + 1);
  }
}

/** By byte: whether it is a character of a text by itself, and nothing else. */
const IS_PLAIN = Uint8Array.from({ length: 256 }, (_, byte) =>
  byte >= 32 && byte < 128 && byte !== 34 && byte !== 92 ? 1 : 0,
);

/** The place behind the quote that ends a text; `at` is behind the one that begins it. */
function skipText(bytes: Uint8Array, from: number): number {
  let at = from;
  for (;;) {
    while (IS_PLAIN[bytes[at]!] === 1) at++;
    const byte = bytes[at]!;
    if (byte === 34) return at + 1;
    if (byte === 92) at = skipEscape(bytes, at + 1);
    else if (byte >= 128) at = skipRune(bytes, at, byte);
    else return -1;
    if (at < 0) return -1;
  }
}

/** The same of a text without escapes; -1 where it has one. */
export function skipPlainText(bytes: Uint8Array, from: number): number {
  let at = from;
  for (;;) {
    while (IS_PLAIN[bytes[at]!] === 1) at++;
    const byte = bytes[at]!;
    if (byte === 34) return at + 1;
    if (!(byte >= 128)) return -1;
    at = skipRune(bytes, at, byte);
    if (at < 0) return -1;
  }
}

function skipEscape(bytes: Uint8Array, at: number): number {
  switch (bytes[at]) {
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
      for (let i = 1; i <= 4; i++) if (!isHex(bytes[at + i]!)) return -1;
      return at + 5;
    default:
      return -1;
  }
}

function isHex(byte: number): boolean {
  return (byte >= 48 && byte <= 57) || (byte >= 97 && byte <= 102) || (byte >= 65 && byte <= 70);
}

const follows = (byte: number) => byte >= 0x80 && byte <= 0xbf;

/** The place behind a character of several bytes (RFC 3629); -1 where it is none. */
function skipRune(bytes: Uint8Array, at: number, first: number): number {
  const second = bytes[at + 1]!;
  if (first >= 0xc2 && first <= 0xdf) return follows(second) ? at + 2 : -1;
  if (!follows(second) || !follows(bytes[at + 2]!)) return -1;
  if (first >= 0xe0 && first <= 0xef) {
    // no longer form than is needed, and no half of a surrogate pair
    if ((first === 0xe0 && second < 0xa0) || (first === 0xed && second > 0x9f)) return -1;
    return at + 3;
  }
  if (first < 0xf0 || first > 0xf4 || !follows(bytes[at + 3]!)) return -1;
  if ((first === 0xf0 && second < 0x90) || (first === 0xf4 && second > 0x8f)) return -1;
  return at + 4;
}

/** Whether a key that begins at a place is a name. */
export function isName(bytes: Uint8Array, at: number, name: Uint8Array): boolean {
  for (let i = 0; i < name.length; i++) if (bytes[at + i] !== name[i]) return false;
  return bytes[at + name.length] === 34;
}

export const isDigit = (byte: number) => byte >= 48 && byte <= 57;

function skipNumber(bytes: Uint8Array, from: number): number {
  let at = from;
  if (bytes[at] === 45) at++;
  if (bytes[at] === 48) at++;
  else {
    if (!isDigit(bytes[at]!)) return -1;
    while (isDigit(bytes[at]!)) at++;
  }
  if (bytes[at] === 46) {
    at++;
    if (!isDigit(bytes[at]!)) return -1;
    while (isDigit(bytes[at]!)) at++;
  }
  if (bytes[at] === 101 || bytes[at] === 69) {
    at++;
    if (bytes[at] === 43 || bytes[at] === 45) at++;
    if (!isDigit(bytes[at]!)) return -1;
    while (isDigit(bytes[at]!)) at++;
  }
  return at;
}
