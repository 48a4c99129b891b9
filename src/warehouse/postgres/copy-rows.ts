/**
 * Rows in the form of PostgreSQL's binary COPY (documentation of COPY, "Binary Format"): column batches become rows,
 * and every value is written as the type's own binary input takes it.
 */

import {
  bytesOfText,
  type ColumnBatch,
  hasValue,
  LENGTH_BYTES,
  type TableBatch,
  type Utf8Texts,
} from "../../core/shape/batch.js";
import type { ColumnSchema } from "../../core/shape/table-shape.js";
import type { SentRows } from "../sql/straight-table.js";
import { writeNumeric } from "./numeric.js";
import { storableJson } from "./storable-json.js";

/** What begins a COPY: a signature, no flags, no extension. */
const HEADER = Uint8Array.of(
  0x50,
  0x47,
  0x43,
  0x4f,
  0x50,
  0x59,
  0x0a,
  0xff,
  0x0d,
  0x0a,
  0,
  ...new Array(8).fill(0),
);
const TRAILER = Uint8Array.of(0xff, 0xff);
/** µs from 1970 to 2000, from where PostgreSQL counts, as two words */
const [EPOCH_HIGH, EPOCH_LOW] = [220_417, 993_517_568];
const EPOCH_DAYS = 10_957;
const DAY_MS = 86_400_000;
/** U+2400, the sign for U+0000, which PostgreSQL holds in no text */
const NULL_SIGN = Uint8Array.of(0xe2, 0x90, 0x80);
const encoder = new TextEncoder();

/** Writes the value of a row, with its length before it. */
type Put = (row: number) => void;

/** so many bytes has the number of a record, its length included, and the time behind a row */
const OWN_BYTES = 12;

/** Rows as one COPY. */
export const asCopy = (rows: Uint8Array): Uint8Array[] => [HEADER, rows, TRAILER];

/** Rows for a table as rows for a stage: without the time behind each. */
export function rowsForStage(rows: Uint8Array): Uint8Array {
  const out = new Uint8Array(rows.length);
  const [from, to] = [rows, out].map((bytes) => new DataView(bytes.buffer, bytes.byteOffset)) as [
    DataView,
    DataView,
  ];
  let end = 0;
  for (let start = 0; start < rows.length; ) {
    const fields = from.getInt16(start);
    let at = start + 2;
    for (let i = 1; i < fields; i++) at += 4 + Math.max(0, from.getInt32(at));
    out.set(rows.subarray(start, at), end);
    to.setInt16(end, fields - 1);
    end += at - start;
    start = at + OWN_BYTES;
  }
  return out.subarray(0, end);
}

export class CopyRows {
  /** bytes so far */
  size = 0;
  private bytes = new Uint8Array(64 * 1024);
  private view = new DataView(this.bytes.buffer);

  /** where each begins, for a table */
  private starts: number[] = [];

  /** `loadedAt`: the time that is to stand behind each, in µs since 2000 */
  private constructor(private readonly loadedAt: bigint | undefined) {}

  /** Rows for a stage, each with the number of its record before its columns. */
  static forStage(): CopyRows {
    return new CopyRows(undefined);
  }

  /** Rows for a table: the same, and a time (ms since 1970) behind the columns. */
  static forTable(loadedAtMs: number): CopyRows {
    return new CopyRows(BigInt(Math.round((loadedAtMs - EPOCH_DAYS * DAY_MS) * 1000)));
  }

  add({ rows, recordOf, columns }: TableBatch, firstSeq: number, schema: readonly ColumnSchema[]): void {
    const byName = new Map(columns.map((column) => [column.name, column]));
    const puts = schema.map(({ name }) => this.putOf(byName.get(name)));
    const { loadedAt } = this;
    const fields = puts.length + (loadedAt === undefined ? 1 : 2);
    for (let row = 0; row < rows; row++) {
      if (loadedAt !== undefined) this.starts.push(this.size);
      this.ensure(2);
      this.view.setInt16(this.size, fields);
      this.size += 2;
      this.putLong(BigInt(firstSeq + recordOf[row]!));
      for (const put of puts) put(row);
      if (loadedAt !== undefined) this.putLong(loadedAt);
    }
  }

  /** All rows that were added; then it is empty again. */
  take(): Uint8Array {
    const rows = this.bytes.slice(0, this.size);
    this.size = 0;
    this.starts = [];
    return rows;
  }

  /** The same, and beside it what goes into the table: with a run in the place of the number of the record. */
  takeFor(run: number): SentRows {
    const { starts } = this;
    const kept = this.take();
    const forTable = kept.slice();
    const view = new DataView(forTable.buffer);
    const value = BigInt(run);
    for (const start of starts) view.setBigInt64(start + 6, value);
    return { forTable, kept };
  }

  private putLong(value: bigint): void {
    this.ensure(OWN_BYTES);
    this.view.setInt32(this.size, 8);
    this.view.setBigInt64(this.size + 4, value);
    this.size += OWN_BYTES;
  }

  private putOf(column: ColumnBatch | undefined): Put {
    if (column === undefined) return () => this.putNothing();
    const put = this.putValue(column);
    const { validity } = column;
    if (validity === undefined) return put;
    return (row) => (hasValue(validity, row) ? put(row) : this.putNothing());
  }

  private putValue({ type, data, texts, utf8 }: ColumnBatch): Put {
    switch (type.kind) {
      case "boolean":
        return this.putBytes(new Uint8Array(data!), 1);
      case "uuid":
        return this.putBytes(new Uint8Array(data!), 16);
      case "int64":
        return this.putWords(new Int32Array(data!), 0, 0);
      case "timestamp":
      case "local_timestamp":
        return this.putWords(new Int32Array(data!), EPOCH_HIGH, EPOCH_LOW);
      case "date":
        return this.putDate(new Int32Array(data!));
      case "float64":
        return this.putFloat(new Float64Array(data!));
      case "decimal":
        return this.putDecimal(data!, type);
      case "text":
        return this.putText(texts, utf8);
      case "json":
        return (row) => {
          if (utf8 === undefined || !this.isPutAsItIs(utf8, row)) this.putJson(textAt(texts, utf8, row));
        };
      case "bytes":
        return (row) => this.putBinary(Buffer.from(textAt(texts, utf8, row), "base64"));
    }
  }

  private ensure(room: number): void {
    const needed = this.size + room;
    if (needed <= this.bytes.length) return;
    const longer = new Uint8Array(Math.max(this.bytes.length * 2, needed));
    longer.set(this.bytes.subarray(0, this.size));
    this.bytes = longer;
    this.view = new DataView(longer.buffer);
  }

  private putNothing(): void {
    this.ensure(4);
    this.view.setInt32(this.size, -1);
    this.size += 4;
  }

  private putBytes(from: Uint8Array, width: number): Put {
    return (row) => {
      this.ensure(4 + width);
      this.view.setInt32(this.size, width);
      for (let i = 0; i < width; i++) this.bytes[this.size + 4 + i] = from[row * width + i]!;
      this.size += 4 + width;
    };
  }

  /** 64 bits, less a number of two words. */
  private putWords(words: Int32Array, lessHigh: number, lessLow: number): Put {
    return (row) => {
      this.ensure(12);
      const low = words[row * 2]! >>> 0;
      const isBorrowed = low < lessLow ? 1 : 0;
      this.view.setInt32(this.size, 8);
      this.view.setInt32(this.size + 4, words[row * 2 + 1]! - lessHigh - isBorrowed);
      this.view.setInt32(this.size + 8, low - lessLow);
      this.size += 12;
    };
  }

  private putDate(days: Int32Array): Put {
    return (row) => {
      this.ensure(8);
      this.view.setInt32(this.size, 4);
      this.view.setInt32(this.size + 4, days[row]! - EPOCH_DAYS);
      this.size += 8;
    };
  }

  private putFloat(values: Float64Array): Put {
    return (row) => {
      this.ensure(12);
      this.view.setInt32(this.size, 8);
      this.view.setFloat64(this.size + 4, values[row]!);
      this.size += 12;
    };
  }

  private putDecimal(
    data: ArrayBuffer,
    { precision, scale }: { readonly precision: number; readonly scale: number },
  ): Put {
    const words = new DataView(data);
    const isWide = precision > 18;
    return (row) => {
      this.ensure(64);
      const length = writeNumeric(this.view, this.size + 4, words, row, isWide, scale);
      this.view.setInt32(this.size, length);
      this.size += 4 + length;
    };
  }

  private putText(texts: readonly string[] | undefined, utf8: Utf8Texts | undefined): Put {
    if (utf8 === undefined) return (row) => this.putUtf8(encoder.encode(texts![row]!));
    const { bytes, ends } = utf8;
    return (row) => {
      const from = (row === 0 ? 0 : ends[row - 1]!) + LENGTH_BYTES;
      this.putUtf8(bytes, from, ends[row]!);
    };
  }

  private putUtf8(from: Uint8Array, start = 0, end = from.length): void {
    // each byte may become three
    this.ensure(4 + (end - start) * NULL_SIGN.length);
    const { bytes } = this;
    let at = this.size + 4;
    for (let i = start; i < end; i++) {
      const byte = from[i]!;
      if (byte !== 0) bytes[at++] = byte;
      else for (const sign of NULL_SIGN) bytes[at++] = sign;
    }
    this.view.setInt32(this.size, at - this.size - 4);
    this.size = at;
  }

  private putBinary(value: Uint8Array): void {
    this.ensure(4 + value.length);
    this.view.setInt32(this.size, value.length);
    this.bytes.set(value, this.size + 4);
    this.size += 4 + value.length;
  }

  /** JSON in which nothing can be that JSONB refuses: no escape, no U+0000, no exponent. */
  private isPutAsItIs({ bytes: from, ends }: Utf8Texts, row: number): boolean {
    const start = (row === 0 ? 0 : ends[row - 1]!) + LENGTH_BYTES;
    const end = ends[row]!;
    this.ensure(5 + end - start);
    const { bytes, size } = this;
    for (let i = start, at = size + 5; i < end; i++, at++) {
      const byte = from[i]!;
      if (byte === 92 || byte === 0 || ((byte | 32) === 101 && startsExponent(from[i + 1]!))) return false;
      bytes[at] = byte;
    }
    this.view.setInt32(size, end - start + 1);
    bytes[size + 4] = 1;
    this.size = size + 5 + end - start;
    return true;
  }

  /** JSONB: its version, 1, and the text. */
  private putJson(text: string): void {
    const value = encoder.encode(storableJson(text));
    this.ensure(5 + value.length);
    this.view.setInt32(this.size, value.length + 1);
    this.bytes[this.size + 4] = 1;
    this.bytes.set(value, this.size + 5);
    this.size += 5 + value.length;
  }
}

/** What stands behind the e of a number: a digit or a sign. */
const startsExponent = (byte: number) => (byte >= 48 && byte <= 57) || byte === 43 || byte === 45;

const decoder = new TextDecoder("utf-8", { ignoreBOM: true });

function textAt(texts: readonly string[] | undefined, utf8: Utf8Texts | undefined, row: number): string {
  return texts?.[row] ?? decoder.decode(bytesOfText(utf8!, row));
}
