/**
 * Values of a column in Parquet's PLAIN encoding: those that are there, one after the other, nothing for the others.
 *
 * https://parquet.apache.org/docs/file-format/data-pages/encodings/
 */

import { type ColumnBatch, fixedWidth, hasValue } from "../../core/shape/batch.js";

/** Rows of a column; without a batch none of them has a value. */
export interface ColumnPiece {
  readonly column: ColumnBatch | undefined;
  readonly rows: number;
}

/** The encoded values of pieces, one behind the other, in as many parts as are at hand. */
export function plainValues(pieces: readonly ColumnPiece[]): Uint8Array<ArrayBuffer>[] {
  const bits: Uint8Array<ArrayBuffer>[] = [];
  const parts: Uint8Array<ArrayBuffer>[] = [];
  for (const { column, rows } of pieces) {
    if (column === undefined) continue;
    if (column.type.kind === "boolean")
      bits.push(presentValues(new Uint8Array(column.data!), 1, column.validity, rows));
    else parts.push(valuesOf(column, rows));
  }
  return bits.length > 0 ? [packedBits(bits)] : parts;
}

function valuesOf(column: ColumnBatch, rows: number): Uint8Array<ArrayBuffer> {
  const { type, data, texts, utf8, validity } = column;
  // they stand there as PLAIN has them
  if (utf8 !== undefined) return utf8.bytes.subarray(0, rows === 0 ? 0 : utf8.ends[rows - 1]);
  if (texts !== undefined) return textValues(texts, validity, rows, type.kind === "bytes");
  const width = fixedWidth(type);
  const present = presentValues(new Uint8Array(data!), width, validity, rows);
  return type.kind === "decimal" && width === 16 ? bigEndian(present) : present;
}

/** The values of those rows that have one; runs of them are copied at once. */
function presentValues(
  values: Uint8Array<ArrayBuffer>,
  width: number,
  validity: Uint8Array | undefined,
  rows: number,
): Uint8Array<ArrayBuffer> {
  if (validity === undefined) return values.subarray(0, rows * width);
  const present = new Uint8Array(rows * width);
  let end = 0;
  for (let row = 0; row < rows; row++) {
    if (!hasValue(validity, row)) continue;
    let to = row + 1;
    while (to < rows && hasValue(validity, to)) to++;
    present.set(values.subarray(row * width, to * width), end);
    end += (to - row) * width;
    row = to;
  }
  return present.subarray(0, end);
}

function packedBits(pieces: readonly Uint8Array[]): Uint8Array<ArrayBuffer> {
  const bits = new Uint8Array((pieces.reduce((sum, { length }) => sum + length, 0) + 7) >> 3);
  let at = 0;
  for (const values of pieces)
    for (const value of values) {
      if (value !== 0) bits[at >> 3]! |= 1 << (at & 7);
      at++;
    }
  return bits;
}

/** Wide decimals: 16 bytes each, the highest first. */
function bigEndian(values: Uint8Array<ArrayBuffer>): Uint8Array<ArrayBuffer> {
  const turned = new Uint8Array(values.length);
  for (let from = 0; from < values.length; from += 16)
    for (let i = 0; i < 16; i++) turned[from + i] = values[from + 15 - i]!;
  return turned;
}

/** Most texts are short and ASCII: up to this length they are copied unit by unit. */
const SHORT = 24;

/** Each text as its length in bytes (4, the lowest first) and its bytes. */
function textValues(
  texts: readonly string[],
  validity: Uint8Array | undefined,
  rows: number,
  isBase64: boolean,
): Uint8Array<ArrayBuffer> {
  let units = 0;
  for (let row = 0; row < rows; row++) units += texts[row]!.length;
  let out = Buffer.allocUnsafe(rows * 4 + units + 64);
  let end = 0;
  for (let row = 0; row < rows; row++) {
    if (!hasValue(validity, row)) continue;
    const text = texts[row]!;
    // a unit of UTF-16 has three bytes of UTF-8 at most
    const most = end + 4 + text.length * 3;
    if (most > out.length) out = Buffer.concat([out.subarray(0, end)], Math.max(most, out.length * 2));
    const length = isBase64
      ? out.write(text, end + 4, "base64")
      : (writeShort(out, end + 4, text) ?? out.write(text, end + 4, "utf8"));
    out[end] = length;
    out[end + 1] = length >> 8;
    out[end + 2] = length >> 16;
    out[end + 3] = length >> 24;
    end += 4 + length;
  }
  return out.subarray(0, end);
}

/** Writes a short text of ASCII alone; undefined where it is another. */
function writeShort(out: Buffer, at: number, text: string): number | undefined {
  const { length } = text;
  if (length > SHORT) return undefined;
  for (let i = 0; i < length; i++) {
    const unit = text.charCodeAt(i);
    if (unit > 127) return undefined;
    out[at + i] = unit;
  }
  return length;
}
