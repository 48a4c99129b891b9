/** Typed column batches: what a page becomes, and what a warehouse takes. */

import type { ColumnType } from "./column-type.js";

/**
 * One column of one batch. Rows are `0 … rows-1`.
 *
 * `validity` has a bit per row (lowest bit first, 1 = has a value), in whole groups of 8 bytes; undefined
 * means that every row has a value. Fixed-width kinds fill `data` (little-endian), others fill `texts`:
 *
 * | kind | data, bytes per row |
 * | --- | --- |
 * | boolean | 1: 0 or 1 |
 * | date | 4: int32, days since 1970-01-01 |
 * | int64 | 8 |
 * | float64 | 8 |
 * | timestamp, local_timestamp | 8: int64, µs since 1970 |
 * | decimal | 8 where precision ≤ 18, else 16: the unscaled integer |
 * | uuid | 16: big-endian, as written |
 * | text, json, bytes (as base64) | `texts`, or `utf8` |
 */
export interface ColumnBatch {
  readonly name: string;
  readonly type: ColumnType;
  readonly validity: Uint8Array<ArrayBuffer> | undefined;
  readonly data: ArrayBuffer | undefined;
  /** one entry per row; where the row has no value, the entry means nothing */
  readonly texts: readonly string[] | undefined;
  /** the same as bytes: a warehouse need not make strings of them */
  readonly utf8?: Utf8Texts | undefined;
}

/** Texts as UTF-8, one behind the other, each with its length in bytes before it (4 bytes, the lowest first). */
export interface Utf8Texts {
  readonly bytes: Uint8Array<ArrayBuffer>;
  /** where the text of each row ends; its length begins where that of the row before ends. No value: no bytes at all */
  readonly ends: Uint32Array<ArrayBuffer>;
}

/** Bytes of a text's length before it. */
export const LENGTH_BYTES = 4;

/** Whether a row has a value. */
export function hasValue(validity: Uint8Array | undefined, row: number): boolean {
  return validity === undefined || (validity[row >> 3]! & (1 << (row & 7))) !== 0;
}

/** The bytes of the text of a row that has one. */
export function bytesOfText({ bytes, ends }: Utf8Texts, row: number): Uint8Array {
  return bytes.subarray((row === 0 ? 0 : ends[row - 1]!) + LENGTH_BYTES, ends[row]!);
}

/** Rows of one table out of one page, column by column. */
export interface TableBatch {
  readonly table: string;
  readonly rows: number;
  /** which record of the page a row came from: children follow their parent by it */
  readonly recordOf: Int32Array<ArrayBuffer>;
  readonly columns: readonly ColumnBatch[];
}

/** Bytes per row of a fixed-width kind; 0 for kinds that are kept as text. */
export function fixedWidth(type: ColumnType): number {
  switch (type.kind) {
    case "boolean":
      return 1;
    case "date":
      return 4;
    case "int64":
    case "float64":
    case "timestamp":
    case "local_timestamp":
      return 8;
    case "decimal":
      return type.precision <= 18 ? 8 : 16;
    case "uuid":
      return 16;
    default:
      return 0;
  }
}
