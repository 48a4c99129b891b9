/** One way through the bytes of a page: to its list of records, and from record to record. */

import { parseExactJson } from "../shape/exact-json.js";
import type { FoundRecords } from "./scanner.js";
import { type Sketch, valueAt } from "./sketch.js";
import { behindColon, blanks, isName, skipPlainText, skipValue } from "./skip.js";

/** A field of records whose values are wanted. */
export interface Field {
  readonly name: string;
  readonly bytes: Uint8Array;
}

/**
 * Makes rows of records, the first of which begins at a place, and of others that follow it in a list, up to `most`:
 * how many. They are found then.
 */
export type IntoRows = (from: number, found: FoundRecords, most: number) => number;

const decoder = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true });

const LINE_END = 10;

export class Pass implements FoundRecords {
  readonly starts: number[] = [];
  readonly ends: number[] = [];
  readonly sketches: Sketch[] = [];
  /** places of records that the scanner does not take */
  readonly odd: number[] = [];
  private listStart = -1;
  private listEnd = -1;

  constructor(
    private readonly bytes: Uint8Array,
    private readonly list: readonly Uint8Array[],
    private readonly fields: readonly Field[],
    private readonly intoRows: IntoRows | undefined,
  ) {}

  /** Goes through a body of JSON that has a list of records. */
  takesBody(): boolean {
    const end = this.toList(blanks(this.bytes, 0), 0);
    return end >= 0 && this.listEnd >= 0 && blanks(this.bytes, end) >= this.bytes.length;
  }

  /** Goes through lines, a record in each; blank ones stand for nothing. */
  takesLines(): boolean {
    const { bytes } = this;
    let at = blanks(bytes, 0);
    while (at < bytes.length) {
      const end = bytes[at] === 123 ? this.takes(at, 1) : -1;
      const lineEnd = bytes.indexOf(LINE_END, at);
      if (end < 0 || (lineEnd >= 0 && lineEnd < end)) return false;
      at = blanks(bytes, end);
      // the next one stands on a line of its own
      if (at < bytes.length && (lineEnd < 0 || at <= lineEnd)) return false;
    }
    return true;
  }

  /** The body with an empty list in the place of its records. */
  rest(): unknown {
    const { bytes, listStart, listEnd } = this;
    if (listEnd < 0) return [];
    return parseExactJson(
      decoder.decode(bytes.subarray(0, listStart + 1)) + decoder.decode(bytes.subarray(listEnd - 1)),
    );
  }

  /** Goes through the value that leads to the records; the place behind it, or -1. */
  private toList(from: number, step: number): number {
    const { bytes, list } = this;
    if (step === list.length) return this.records(from);
    if (bytes[from] !== 123) return -1;
    let at = blanks(bytes, from + 1);
    if (bytes[at] === 125) return -1;
    for (;;) {
      const key = at + 1;
      const value = this.valueOf(at);
      if (value < 0) return -1;
      // a name that comes twice counts the second time: nothing for here
      if (isName(bytes, key, list[step]!)) at = this.listEnd < 0 ? this.toList(value, step + 1) : -1;
      else at = skipValue(bytes, value);
      if (at < 0) return -1;
      at = blanks(bytes, at);
      if (bytes[at] === 125) return at + 1;
      if (bytes[at] !== 44) return -1;
      at = blanks(bytes, at + 1);
    }
  }

  /** The place of the value whose key begins at a place; -1 where the key has escapes: it may be any then. */
  private valueOf(at: number): number {
    const { bytes } = this;
    const end = bytes[at] === 34 ? skipPlainText(bytes, at + 1) : -1;
    return end < 0 ? -1 : behindColon(bytes, end);
  }

  private records(from: number): number {
    const { bytes } = this;
    if (bytes[from] !== 91) return -1;
    this.listStart = from;
    let at = blanks(bytes, from + 1);
    while (bytes[at] === 123) {
      const end = this.takes(at, bytes.length);
      if (end < 0) return -1;
      at = blanks(bytes, end);
      if (bytes[at] === 93) break;
      if (bytes[at] !== 44) return -1;
      at = blanks(bytes, at + 1);
      // a comma must be followed by a record
      if (bytes[at] !== 123) return -1;
    }
    if (bytes[at] !== 93) return -1;
    this.listEnd = at + 1;
    return this.listEnd;
  }

  /** Takes the record that begins at a place, and some that follow it: the place behind the last one, or -1. */
  private takes(from: number, most: number): number {
    const { intoRows } = this;
    if (intoRows !== undefined) {
      if (intoRows(from, this, most) > 0) return this.ends.at(-1)!;
      this.odd.push(this.starts.length);
    }
    const sketch: Sketch = {};
    const end = this.record(from, sketch);
    if (end < 0) return -1;
    this.starts.push(from);
    this.ends.push(end);
    this.sketches.push(sketch);
    return end;
  }

  private record(from: number, sketch: Sketch): number {
    const { bytes, fields } = this;
    let at = blanks(bytes, from + 1);
    if (bytes[at] === 125) return at + 1;
    for (;;) {
      const key = at + 1;
      const value = this.valueOf(at);
      if (value < 0) return -1;
      at = skipValue(bytes, value, 1);
      if (at < 0) return -1;
      for (let f = 0; f < fields.length; f++)
        if (isName(bytes, key, fields[f]!.bytes)) sketch[fields[f]!.name] = valueAt(bytes, value, at);
      at = blanks(bytes, at);
      if (bytes[at] === 125) return at + 1;
      if (bytes[at] !== 44) return -1;
      at = blanks(bytes, at + 1);
    }
  }
}
