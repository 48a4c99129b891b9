/**
 * JSON with every digit of its numbers.
 *
 * JSON.parse reads numbers as float64. A page is scanned first (no allocation); where a number cannot be held
 * exactly, it is rewritten as a marked text, parsed, and revived: integers as bigint, others as ExactNumber.
 */

/** A JSON number that neither an integer nor a float64 holds exactly. `text` is the number as it was sent. */
export class ExactNumber {
  constructor(readonly text: string) {}

  /** The nearest float64, so that arithmetic works (with a float's precision). */
  valueOf(): number {
    return Number(this.text);
  }

  toString(): string {
    return this.text;
  }

  toJSON(): number {
    return Number(this.text);
  }
}

/** Parses JSON text; a SyntaxError is thrown as JSON.parse throws it. */
export function parseExactJson(text: string): unknown {
  const numbers = findInexactNumbers(text);
  if (numbers.length === 0) return JSON.parse(text);
  const mark = markFor(text);
  const escapedMark = JSON.stringify(mark).slice(1, -1);
  let rewritten = "";
  let from = 0;
  for (const [start, end] of numbers) {
    rewritten += `${text.slice(from, start)}"${escapedMark}${text.slice(start, end)}"`;
    from = end;
  }
  return revive(JSON.parse(rewritten + text.slice(from)), mark);
}

/**
 * A beginning that no text of this JSON has. U+0000 stands in JSON as an escape only, which is written in one
 * way: where
 * that is not there, no text holds the character. Where it is, the texts themselves are looked at.
 */
function markFor(text: string): string {
  let mark = "\u0000";
  if (!text.includes("\\u0000")) return mark;
  const tree: unknown = JSON.parse(text);
  while (someText(tree, (each) => each.startsWith(mark))) mark += "\u0000";
  return mark;
}

function someText(root: unknown, test: (text: string) => boolean): boolean {
  const open = [root];
  while (open.length > 0) {
    const next = open.pop();
    if (typeof next === "string" && test(next)) return true;
    if (typeof next === "object" && next !== null) for (const inner of Object.values(next)) open.push(inner);
  }
  return false;
}

/** An exponent of three digits may lead out of float64's range; fewer digits cannot, with 15 of mantissa. */
const LONG_EXPONENT = /\d[eE][-+]?\d\d\d/g;
/** Numbers of 15 digits always survive float64; with the point that makes 16 bytes. */
const LONG_NUMBER = 16;

/** Whether JSON may hold a number that JSON.parse would change. Cheap; may be wrong in being careful only. */
export function mayHoldInexactNumber(bytes: Uint8Array, text: string): boolean {
  // a run of 16 digits covers two places of a grid of 8: the others need not be looked at
  const step = LONG_NUMBER / 2;
  for (let at = step - 1; at < bytes.length; at += step) {
    if (isNumberByte(bytes[at]!) && isNumberByte(bytes[at + step]!) && isLongRun(bytes, at)) return true;
  }
  for (const { index } of text.matchAll(LONG_EXPONENT)) {
    let from = index;
    while (from > 0 && isNumberByte(text.charCodeAt(from - 1))) from--;
    const signed = text.charCodeAt(from - 1) === 45;
    if (mayBeginAfter(text.charCodeAt(signed ? from - 2 : from - 1))) return true;
  }
  return false;
}

function isLongRun(bytes: Uint8Array, at: number): boolean {
  let from = at;
  let end = at;
  while (from > 0 && isNumberByte(bytes[from - 1]!)) from--;
  while (end < bytes.length && isNumberByte(bytes[end]!)) end++;
  const signed = bytes[from - 1] === 45;
  return end - from >= LONG_NUMBER && mayBeginAfter(bytes[signed ? from - 2 : from - 1] ?? Number.NaN);
}

/** Whether a number may begin after this: not within a word, as digits of a uuid do, nor after a quote. */
function mayBeginAfter(unit: number): boolean {
  // blanks, comma, colon and bracket; NaN is where the JSON begins
  return !(unit > 32) || unit === 44 || unit === 58 || unit === 91;
}

/** A digit or the point. */
function isNumberByte(byte: number): boolean {
  return (byte >= 48 && byte <= 57) || byte === 46;
}

function findInexactNumbers(text: string): [start: number, end: number][] {
  const found: [number, number][] = [];
  // no pattern goes over texts: they may be longer than its stack is deep
  const number = /-?\d[\d.]*(?:[eE][+-]?\d+)?/y;
  for (let at = 0; at < text.length; ) {
    const unit = text.charCodeAt(at);
    if (unit === 34) at = endOfText(text, at);
    else if (unit === 45 || (unit >= 48 && unit <= 57)) {
      number.lastIndex = at;
      const token = number.exec(text)?.[0] ?? "-";
      if (isInexact(token) && !isKey(text, at + token.length)) found.push([at, at + token.length]);
      at += token.length;
    } else at++;
  }
  return found;
}

/** Behind the quote that ends the text which begins here; the end where there is none. */
function endOfText(text: string, from: number): number {
  for (let at = text.indexOf('"', from + 1); at >= 0; at = text.indexOf('"', at + 1)) {
    let slashes = 0;
    while (text.charCodeAt(at - 1 - slashes) === 92) slashes++;
    if (slashes % 2 === 0) return at + 1;
  }
  return text.length;
}

/** A number in the place of a key is no JSON, and must stay none. */
function isKey(text: string, end: number): boolean {
  let at = end;
  while (text.charCodeAt(at) <= 32) at++;
  return text.charCodeAt(at) === 58;
}

function isInexact(token: string): boolean {
  return (token.length >= 16 || /[eE]/.test(token)) && isValidNumber(token) && !survivesFloat64(token);
}

/** The grammar of RFC 8259; anything else is left for JSON.parse to refuse. */
function isValidNumber(token: string): boolean {
  return /^-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][+-]?\d+)?$/.test(token);
}

function survivesFloat64(token: string): boolean {
  const value = Number(token);
  if (/^-?\d+$/.test(token)) return Number.isSafeInteger(value);
  if (!Number.isFinite(value)) return false;
  const sent = decimalParts(token);
  const kept = decimalParts(String(value));
  return sent.digits === kept.digits && sent.exponent === kept.exponent;
}

/** A number as significant digits times a power of ten: `12.50` is 125 × 10^-1. Zero is "" × 10^0. */
export function decimalParts(token: string): { negative: boolean; digits: string; exponent: number } {
  const match = /^(-?)(\d+)(?:\.(\d+))?(?:[eE]([+-]?\d+))?$/.exec(token);
  if (match === null) throw new RangeError(`not a decimal number: ${token}`);
  const fraction = match[3] ?? "";
  const all = (match[2]! + fraction).replace(/^0+/, "");
  const digits = all.replace(/0+$/, "");
  const exponent = Number(match[4] ?? 0) - fraction.length + (all.length - digits.length);
  return { negative: match[1] === "-", digits, exponent: digits === "" ? 0 : exponent };
}

const PLAIN_MEMBER = { configurable: true, enumerable: true, writable: true };

/** The values in the place of their marks; without a stack of calls, for what nests deep. */
function revive(root: unknown, mark: string): unknown {
  const revived = (text: string): unknown => {
    const token = text.slice(mark.length);
    return /^-?\d+$/.test(token) ? BigInt(token) : new ExactNumber(token);
  };
  if (typeof root === "string") return root.startsWith(mark) ? revived(root) : root;
  const open: unknown[] = [root];
  for (let next = open.pop(); next !== undefined; next = open.pop()) {
    if (typeof next !== "object" || next === null) continue;
    const object = next as Record<string, unknown>;
    for (const key of Object.keys(object)) {
      const value = object[key];
      if (typeof value === "object" && value !== null) open.push(value);
      else if (typeof value === "string" && value.startsWith(mark))
        // an assignment to __proto__ would not make a member of that name
        Object.defineProperty(object, key, { ...PLAIN_MEMBER, value: revived(value) });
    }
  }
  return root;
}

/** JSON text of a value that may hold bigint and ExactNumber: their digits are written as they came. */
export function stringifyExact(value: unknown): string {
  try {
    return stringifyNested(value);
  } catch (error) {
    if (!(error instanceof RangeError)) throw error;
    return stringifyDeep(value);
  }
}

/** The same without a stack of calls, for what nests deeper than one. */
function stringifyDeep(value: unknown): string {
  let text = "";
  const open: { readonly text: string; readonly value?: unknown }[] = [{ text: "", value }];
  for (let next = open.pop(); next !== undefined; next = open.pop()) {
    text += next.text;
    const inner = next.value;
    if (inner === undefined) continue;
    if (typeof inner !== "object" || inner === null || inner instanceof ExactNumber) {
      text += stringifyNested(inner);
      continue;
    }
    const isList = Array.isArray(inner);
    text += isList ? "[" : "{";
    open.push({ text: isList ? "]" : "}" });
    const members = isList
      ? inner.map((item, i) => ({ text: i > 0 ? "," : "", value: item ?? null }))
      : Object.entries(inner)
          .filter(([, member]) => member !== undefined)
          .map(([key, member], i) => ({ text: `${i > 0 ? "," : ""}${JSON.stringify(key)}:`, value: member }));
    for (const member of members.reverse()) open.push(member);
  }
  return text;
}

function stringifyNested(value: unknown): string {
  if (typeof value === "bigint") return value.toString();
  if (value instanceof ExactNumber) return value.text;
  if (typeof value !== "object" || value === null) return JSON.stringify(value) ?? "null";
  if (Array.isArray(value)) return `[${value.map(stringifyNested).join(",")}]`;
  const members: string[] = [];
  for (const [key, member] of Object.entries(value)) {
    if (member !== undefined) members.push(`${JSON.stringify(key)}:${stringifyNested(member)}`);
  }
  return `{${members.join(",")}}`;
}

/** Whether a value of JSON is an object: no list, no number that is kept as its digits. */
export function isPlainObject(value: unknown): value is Record<string, unknown> {
  return (
    typeof value === "object" && value !== null && !Array.isArray(value) && !(value instanceof ExactNumber)
  );
}
