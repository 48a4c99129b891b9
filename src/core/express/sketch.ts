/** Single values of a page as JSON.parse gives them: what asking needs of its records. */

import { parseExactJson } from "../shape/exact-json.js";
import { isDigit, MOST_DIGITS } from "./skip.js";

/** A record with the fields that were wanted. */
export type Sketch = Record<string, unknown>;

/** The keys that lead to a field through objects. */
export type FieldPath = readonly string[];

const decoder = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true });

const SHORT = 40;

/** A value as JSON.parse gives it, every digit kept. */
export function valueAt(bytes: Uint8Array, from: number, end: number): unknown {
  const isText = bytes[from] === 34;
  if (!isText && end - from <= MOST_DIGITS && isDigit(bytes[from]!)) {
    let value = 0;
    let at = from;
    for (; isDigit(bytes[at]!); at++) value = value * 10 + bytes[at]! - 48;
    if (at === end) return value;
  }
  const isShort = end - from <= SHORT;
  const text = isShort ? plainText(bytes, isText ? from + 1 : from, isText ? end - 1 : end) : undefined;
  if (text === undefined) return parseExactJson(decoder.decode(bytes.subarray(from, end)));
  return isText ? text : parseExactJson(text);
}

/** Short texts of a page's sketches, decoded at once: a call for each of them takes twice as long. */
export class ShortTexts {
  private bytes = new Uint8Array(4 * 1024);
  private end = 0;
  /** of each text: whose it is, its field, and where it ends; no object for each, for that takes time as well */
  private readonly sketches: Sketch[] = [];
  private readonly keys: string[] = [];
  private readonly ends: number[] = [];

  /** Takes in the value at a place; false where it is not a short text of ASCII without escapes. */
  take(sketch: Sketch, key: string, bytes: Uint8Array, from: number, end: number): boolean {
    if (bytes[from] !== 34 || end - from > SHORT) return false;
    if (this.end + SHORT > this.bytes.length) this.grow();
    const { bytes: into } = this;
    let at = this.end;
    for (let i = from + 1; i < end - 1; i++) {
      const byte = bytes[i]!;
      if (byte > 127 || byte === 92) return false;
      into[at++] = byte;
    }
    this.end = at;
    this.sketches.push(sketch);
    this.keys.push(key);
    this.ends.push(at);
    return true;
  }

  /** Puts them into their sketches. */
  settle(): void {
    const all = decoder.decode(this.bytes.subarray(0, this.end));
    const { sketches, keys, ends } = this;
    for (let i = 0, from = 0; i < ends.length; from = ends[i++]!)
      sketches[i]![keys[i]!] = all.slice(from, ends[i]);
    for (const list of [sketches, keys, ends]) list.length = 0;
    this.end = 0;
  }

  private grow(): void {
    const larger = new Uint8Array(this.bytes.length * 2);
    larger.set(this.bytes);
    this.bytes = larger;
  }
}

/** A short text of ASCII without escapes; undefined where it is another. The array is what makes it fast. */
export function plainText(bytes: Uint8Array, from: number, end: number): string | undefined {
  const codes: number[] = [];
  for (let at = from; at < end; at++) {
    const byte = bytes[at]!;
    if (byte > 127 || byte === 92) return undefined;
    codes.push(byte);
  }
  return String.fromCharCode.apply(undefined, codes);
}
