/** Buffers of one column, filled row by row: what a batch is made of. */

import { type ColumnBatch, fixedWidth, hasValue, LENGTH_BYTES } from "../shape/batch.js";
import type { ColumnType } from "../shape/column-type.js";
import type { ColumnShape } from "../shape/table-shape.js";
import { IS_PLAIN, skipEscape, skipRune } from "./skip.js";

const encoder = new TextEncoder();

/** Texts are copied so many bytes at a time. */
const STRETCH = 256;

/** The character that an escape of one letter stands for, by that letter. */
const ESCAPED = new Uint8Array(128);
for (const [letter, char] of ['""', "\\\\", "//", "b\b", "f\f", "n\n", "r\r", "t\t"])
  ESCAPED[letter!.charCodeAt(0)] = char!.charCodeAt(0);

/** The unit of UTF-16 that four hexadecimal digits stand for. */
function unitAt(bytes: Uint8Array, at: number): number {
  let unit = 0;
  for (let i = 0; i < 4; i++) {
    const byte = bytes[at + i]!;
    unit = unit * 16 + (byte <= 57 ? byte - 48 : (byte | 32) - 87);
  }
  return unit;
}

/** Whether each of four bytes is a character of a text by itself: ASCII, no control, no quote and no backslash. */
function isPlainWord(word: number): boolean {
  const quote = word ^ 0x22222222;
  const slash = word ^ 0x5c5c5c5c;
  const odd =
    ((quote - 0x01010101) & ~quote) | ((slash - 0x01010101) & ~slash) | ((word - 0x20202020) & ~word) | word;
  return (odd & 0x80808080) === 0;
}

let viewed = new Uint8Array();
let view = new DataView(viewed.buffer);

/** A view over a page's bytes; many texts of it are asked for one after the other. */
function viewOf(bytes: Uint8Array): DataView {
  if (bytes !== viewed) {
    viewed = bytes as Uint8Array<ArrayBuffer>;
    view = new DataView(viewed.buffer, viewed.byteOffset, viewed.length);
  }
  return view;
}

export class ColumnBuilder {
  /** of fixed width: the values; int64, times and short decimals as two halves of 32 bits, the lower first */
  data: ArrayBuffer;
  halves: Int32Array;
  floats: Float64Array;
  bytes: Uint8Array<ArrayBuffer>;
  /** of texts: over the same bytes */
  private view: DataView<ArrayBuffer>;
  /** of texts: where the text of each row ends */
  private ends: Uint32Array<ArrayBuffer>;
  private end = 0;
  /** behind the character that was written last */
  private behind = 0;
  private validity: Uint8Array<ArrayBuffer>;
  private capacity: number;
  private readonly width: number;
  /** bits of SEEN that the column has seen; another kind of value is for the plain reader */
  readonly seen: number;

  constructor(
    readonly column: ColumnShape,
    readonly type: ColumnType,
    capacity: number,
  ) {
    this.width = fixedWidth(type);
    this.seen = column.rule.type === undefined ? column.seen.mask : -1;
    // whole groups of 64 rows, as validity has them
    this.capacity = Math.max(64, Math.ceil(capacity / 64) * 64);
    this.data = new ArrayBuffer(this.capacity * this.width);
    this.halves = new Int32Array(this.width % 4 === 0 ? this.data : new ArrayBuffer(0));
    this.floats = new Float64Array(this.width % 8 === 0 ? this.data : new ArrayBuffer(0));
    this.bytes = this.width === 0 ? new Uint8Array(this.capacity * 12) : new Uint8Array(this.data);
    this.view = new DataView(this.bytes.buffer);
    this.ends = new Uint32Array(this.width === 0 ? this.capacity : 0);
    this.validity = new Uint8Array(this.capacity / 8);
  }

  has(row: number): boolean {
    return row < this.capacity && hasValue(this.validity, row);
  }

  /** Makes room for a row and notes that it has a value. */
  mark(row: number): void {
    if (row >= this.capacity) this.grow(row);
    this.validity[row >> 3]! |= 1 << (row & 7);
  }

  /** An integer that float64 holds exactly, as one of 64 or 128 bits. */
  putInteger(row: number, value: number): void {
    this.mark(row);
    const { halves, width } = this;
    const high = Math.floor(value / 4294967296);
    const at = row * (width >> 2);
    halves[at] = value - high * 4294967296;
    halves[at + 1] = high;
    if (width === 16) halves.fill(value < 0 ? -1 : 0, at + 2, at + 4);
  }

  /** An integer of 64 bits. */
  putLong(row: number, value: bigint): void {
    this.mark(row);
    this.halves[row * 2] = Number(value & 0xffffffffn);
    this.halves[row * 2 + 1] = Number(value >> 32n);
  }

  /** The bytes of a text, as they stand in the page. */
  putBytes(row: number, from: Uint8Array, start: number, end: number): void {
    this.mark(row);
    const length = end - start;
    this.reserve(LENGTH_BYTES + length);
    const { bytes } = this;
    let to = this.end + LENGTH_BYTES;
    if (length < 48) for (let at = start; at < end; at++) bytes[to++] = from[at]!;
    else {
      bytes.set(from.subarray(start, end), to);
      to += length;
    }
    this.endText(row, to);
  }

  /** The text that began behind the last one ends here. */
  private endText(row: number, end: number): void {
    const { bytes, end: begin } = this;
    const length = end - begin - LENGTH_BYTES;
    bytes[begin] = length;
    bytes[begin + 1] = length >> 8;
    bytes[begin + 2] = length >> 16;
    bytes[begin + 3] = length >> 24;
    this.end = end;
    this.ends[row] = end;
  }

  /** A text that begins at a place, its escapes undone: the place behind its quote; -1 where it is none. */
  copyText(row: number, from: Uint8Array, start: number): number {
    this.mark(row);
    let { bytes } = this;
    let to = this.end + LENGTH_BYTES;
    for (let at = start; at < from.length; ) {
      // room for a stretch and the rest of a last character, then no more looking
      if (to + STRETCH + 4 > bytes.length) {
        this.reserve(to - this.end + STRETCH + 4);
        bytes = this.bytes;
      }
      const stop = Math.min(at + STRETCH, from.length);
      const source = viewOf(from);
      const { view } = this;
      while (at < stop) {
        // mostly four at once
        while (at + 4 <= stop) {
          const word = source.getInt32(at, true);
          if (!isPlainWord(word)) break;
          view.setInt32(to, word, true);
          at += 4;
          to += 4;
        }
        if (at >= stop) break;
        const byte = from[at]!;
        if (IS_PLAIN[byte] === 1) {
          bytes[to++] = byte;
          at++;
          continue;
        }
        if (byte === 34) {
          this.endText(row, to);
          return at + 1;
        }
        if (byte === 92) {
          at = this.copyEscape(from, at + 1, to);
          to = this.behind;
        } else {
          const next = byte >= 128 ? skipRune(from, at, byte) : -1;
          if (next < 0) return -1;
          while (at < next) bytes[to++] = from[at++]!;
        }
        if (at < 0) return -1;
      }
    }
    return -1;
  }

  /** Writes the character that an escape stands for; the place behind it, or -1. What is written ends at `behind`. */
  private copyEscape(from: Uint8Array, at: number, to: number): number {
    const { bytes } = this;
    const end = skipEscape(from, at);
    this.behind = to + 1;
    if (end !== at + 5) {
      bytes[to] = ESCAPED[from[at]!]!;
      return end;
    }
    const unit = unitAt(from, at + 1);
    const isPair = (unit & 0xfc00) === 0xd800 && from[end] === 92 && skipEscape(from, end + 1) === end + 6;
    const low = isPair ? unitAt(from, end + 2) : 0;
    if ((low & 0xfc00) === 0xdc00) {
      const point = 0x10000 + ((unit & 0x3ff) << 10) + (low & 0x3ff);
      bytes[to] = 0xf0 | (point >> 18);
      bytes[to + 1] = 0x80 | ((point >> 12) & 63);
      bytes[to + 2] = 0x80 | ((point >> 6) & 63);
      bytes[to + 3] = 0x80 | (point & 63);
      this.behind = to + 4;
      return end + 6;
    }
    // half of a pair has no UTF-8
    if ((unit & 0xf800) === 0xd800) return -1;
    this.writeUnit(to, unit);
    return end;
  }

  /** A character of the basic plane as UTF-8 (RFC 3629, section 3). */
  private writeUnit(to: number, unit: number): void {
    const { bytes } = this;
    if (unit < 0x80) bytes[to] = unit;
    else if (unit < 0x800) {
      bytes[to] = 0xc0 | (unit >> 6);
      bytes[to + 1] = 0x80 | (unit & 63);
    } else {
      bytes[to] = 0xe0 | (unit >> 12);
      bytes[to + 1] = 0x80 | ((unit >> 6) & 63);
      bytes[to + 2] = 0x80 | (unit & 63);
    }
    this.behind = to + (unit < 0x80 ? 1 : unit < 0x800 ? 2 : 3);
  }

  putText(row: number, text: string): void {
    this.mark(row);
    this.reserve(LENGTH_BYTES + text.length * 3);
    const begin = this.end + LENGTH_BYTES;
    this.endText(row, begin + encoder.encodeInto(text, this.bytes.subarray(begin)).written);
  }

  /** Takes the values of some rows away: texts of theirs that stand in the bytes are of no row then. */
  drop(from: number, to: number): void {
    const { width } = this;
    for (let row = from; row < Math.min(to, this.capacity); row++) {
      this.validity[row >> 3]! &= ~(1 << (row & 7));
      if (width > 0) this.bytes.fill(0, row * width, (row + 1) * width);
    }
    if (width === 0) this.end = from === 0 ? 0 : this.endOf(from - 1);
  }

  private endOf(row: number): number {
    let at = row;
    while (at >= 0 && !this.has(at)) at--;
    return at < 0 ? 0 : this.ends[at]!;
  }

  /** The batch of the first rows; undefined validity where each of them has a value. */
  batch(rows: number): ColumnBatch {
    const { column, type, width } = this;
    if (rows > this.capacity) this.grow(rows);
    const validity = this.validity.slice(0, Math.ceil(rows / 64) * 8);
    clearFrom(validity, rows);
    const common = { name: column.name, type, validity: isFull(validity, rows) ? undefined : validity };
    if (width > 0) return { ...common, data: this.data.slice(0, rows * width), texts: undefined };
    const ends = this.ends.slice(0, rows);
    let before = 0;
    for (let row = 0; row < rows; row++) {
      if (!hasValue(validity, row)) ends[row] = before;
      else before = ends[row]!;
    }
    return {
      ...common,
      data: undefined,
      texts: undefined,
      utf8: { bytes: this.bytes.slice(0, before), ends },
    };
  }

  /** Takes all values away; the room that they had is kept. */
  clear(): void {
    const { width } = this;
    this.validity.fill(0);
    if (width > 0) this.bytes.fill(0);
    this.end = 0;
  }

  /** Behind the last row that has a value, of the first ones. */
  lastRow(rows: number): number {
    let row = Math.min(rows, this.capacity);
    while (row > 0 && !this.has(row - 1)) row--;
    return row;
  }

  private reserve(length: number): void {
    if (this.end + length <= this.bytes.length) return;
    const larger = new Uint8Array(Math.max(this.bytes.length * 2, this.end + length));
    larger.set(this.bytes);
    this.bytes = larger;
    this.view = new DataView(larger.buffer);
  }

  private grow(row: number): void {
    const { capacity, width } = this;
    this.capacity = Math.max(capacity * 2, Math.ceil((row + 1) / 64) * 64);
    const validity = new Uint8Array(this.capacity / 8);
    validity.set(this.validity);
    this.validity = validity;
    if (width === 0) {
      const ends = new Uint32Array(this.capacity);
      ends.set(this.ends);
      this.ends = ends;
      return;
    }
    const data = new ArrayBuffer(this.capacity * width);
    new Uint8Array(data).set(new Uint8Array(this.data));
    this.data = data;
    if (width % 4 === 0) this.halves = new Int32Array(data);
    if (width % 8 === 0) this.floats = new Float64Array(data);
    this.bytes = new Uint8Array(data);
  }
}

/** Clears the bits of rows behind the last one. */
function clearFrom(validity: Uint8Array, rows: number): void {
  if ((rows & 7) !== 0) validity[rows >> 3]! &= (1 << (rows & 7)) - 1;
  validity.fill(0, (rows + 7) >> 3);
}

function isFull(validity: Uint8Array, rows: number): boolean {
  const whole = rows >> 3;
  for (let i = 0; i < whole; i++) if (validity[i] !== 255) return false;
  return (rows & 7) === 0 || validity[whole] === (1 << (rows & 7)) - 1;
}
