/**
 * JSON with every digit of its numbers.
 *
 * JSON.parse reads numbers as float64. A page is scanned first (no allocation); where a number cannot be held
 * exactly, it is rewritten as a tagged text, parsed, and revived: integers as bigint, others as ExactNumber.
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
  let tag = "\u0000eb#";
  while (text.includes(JSON.stringify(tag).slice(1, -1))) tag += "#";
  const escapedTag = JSON.stringify(tag).slice(1, -1);
  let rewritten = "";
  let from = 0;
  for (const [start, end] of numbers) {
    rewritten += `${text.slice(from, start)}"${escapedTag}${text.slice(start, end)}"`;
    from = end;
  }
  return revive(JSON.parse(rewritten + text.slice(from)), tag);
}

/** An exponent of three digits may lead out of float64's range; fewer digits cannot, with 15 of mantissa. */
const LONG_EXPONENT = /\d[eE][-+]?\d\d\d/;
/** Numbers of 15 digits always survive float64; with the point that makes 16 bytes. */
const LONG_NUMBER = 16;

/** Whether JSON may hold a number that JSON.parse would change. Cheap; may be wrong in being careful only. */
export function mayHoldInexactNumber(bytes: Uint8Array, text: string): boolean {
  // a run of 16 digits covers two places of a grid of 8: the others need not be looked at
  const step = LONG_NUMBER / 2;
  for (let at = step - 1; at < bytes.length; at += step) {
    if (isNumberByte(bytes[at]!) && isNumberByte(bytes[at + step]!) && isLongRun(bytes, at)) return true;
  }
  return LONG_EXPONENT.test(text);
}

function isLongRun(bytes: Uint8Array, at: number): boolean {
  let from = at;
  let end = at;
  while (from > 0 && isNumberByte(bytes[from - 1]!)) from--;
  while (end < bytes.length && isNumberByte(bytes[end]!)) end++;
  return end - from >= LONG_NUMBER;
}

/** A digit or the point. */
function isNumberByte(byte: number): boolean {
  return (byte >= 48 && byte <= 57) || byte === 46;
}

function findInexactNumbers(text: string): [start: number, end: number][] {
  const found: [number, number][] = [];
  const pattern = /"(?:[^"\\]|\\.)*"|-?\d[\d.]*(?:[eE][+-]?\d+)?/gsu;
  for (const match of text.matchAll(pattern)) {
    const token = match[0];
    if (token.charCodeAt(0) === 34 || (token.length < 16 && !/[eE]/.test(token))) continue;
    if (!isValidNumber(token) || survivesFloat64(token)) continue;
    found.push([match.index, match.index + token.length]);
  }
  return found;
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

function revive(value: unknown, tag: string): unknown {
  if (typeof value === "string") {
    if (!value.startsWith(tag)) return value;
    const token = value.slice(tag.length);
    return /^-?\d+$/.test(token) ? BigInt(token) : new ExactNumber(token);
  }
  if (Array.isArray(value)) {
    for (let i = 0; i < value.length; i++) value[i] = revive(value[i], tag);
  } else if (typeof value === "object" && value !== null) {
    const object = value as Record<string, unknown>;
    for (const key of Object.keys(object)) {
      const old = object[key];
      const revived = revive(old, tag);
      if (revived !== old) object[key] = revived;
    }
  }
  return value;
}

/** JSON text of a value that may hold bigint and ExactNumber: their digits are written as they came. */
export function stringifyExact(value: unknown): string {
  if (typeof value === "bigint") return value.toString();
  if (value instanceof ExactNumber) return value.text;
  if (typeof value !== "object" || value === null) return JSON.stringify(value) ?? "null";
  if (Array.isArray(value)) return `[${value.map(stringifyExact).join(",")}]`;
  const members: string[] = [];
  for (const [key, member] of Object.entries(value)) {
    if (member !== undefined) members.push(`${JSON.stringify(key)}:${stringifyExact(member)}`);
  }
  return `{${members.join(",")}}`;
}
