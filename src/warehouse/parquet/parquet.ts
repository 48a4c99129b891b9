/**
 * Parquet files of one table: uncompressed, PLAIN, so that writing is hardly more than copying.
 *
 *   batches ─▶ a page for each column ─┐
 *   batches ─▶ a page for each column ─┼─▶ row group: column by column ─▶ file: row groups, then the footer
 *   …                                 ─┘
 *
 * https://parquet.apache.org/docs/file-format/
 */

import { type ColumnBatch, hasValue } from "../../core/shape/batch.js";
import type { ColumnType } from "../../core/shape/column-type.js";
import { type ColumnPiece, plainValues } from "./column-values.js";
import {
  bool,
  type Field,
  i32,
  i64,
  list,
  struct,
  type ThriftValue,
  text,
  thriftBytes,
  varint,
} from "./thrift.js";

/** Numbers of the format's enumerations. */
const PHYSICAL = { boolean: 0, int32: 1, int64: 2, double: 5, bytes: 6, fixed: 7 } as const;
const CONVERTED = { utf8: 0, decimal: 5, date: 6, json: 19 } as const;
const OPTIONAL = 1;
const PLAIN = 0;
const RLE = 3;
const UNCOMPRESSED = 0;
const DATA_PAGE = 0;

const MAGIC: Bytes = new TextEncoder().encode("PAR1");

/** Bytes in memory of their own, not shared between threads: what files can be written from. */
export type Bytes = Uint8Array<ArrayBuffer>;

export interface ParquetColumn {
  readonly name: string;
  readonly type: ColumnType;
}

/** Rows, column by column as their group has them; undefined is a column without values. */
export interface RowBatch {
  readonly columns: readonly (ColumnBatch | undefined)[];
  readonly rows: number;
}

const rowsIn = (pieces: readonly { readonly rows: number }[]) =>
  pieces.reduce((sum, { rows }) => sum + rows, 0);

/** Rows of a table as they stand in a file: the pages of each column. */
export class RowGroup {
  rows = 0;
  bytes = 0;
  private readonly pages: { readonly parts: Bytes[]; bytes: number }[];

  constructor(private readonly columns: readonly ParquetColumn[]) {
    this.pages = columns.map(() => ({ parts: [], bytes: 0 }));
  }

  /** Adds rows as a page of each column. */
  add(batches: readonly RowBatch[]): void {
    for (const [i, page] of this.pages.entries())
      for (const part of dataPage(batches.map(({ columns, rows }) => ({ column: columns[i], rows })))) {
        page.parts.push(part);
        page.bytes += part.length;
        this.bytes += part.length;
      }
    this.rows += rowsIn(batches);
  }

  /** The bytes of the group, and what the footer says of it where it begins at a place of the file. */
  at(offset: number): { readonly parts: Bytes[]; readonly meta: ThriftValue } {
    let from = offset;
    const chunks = this.columns.map(({ name, type }, i) => {
      const { bytes } = this.pages[i]!;
      const meta = columnMeta(name, type, { rows: this.rows, bytes, from });
      from += bytes;
      return meta;
    });
    const parts = this.pages.flatMap((page) => page.parts);
    return { parts, meta: struct([1, list(chunks)], [2, i64(this.bytes)], [3, i64(this.rows)]) };
  }
}

/** A file, as the parts that it is to be written in, one after the other: its groups, then `end`. */
export class ParquetFile {
  private readonly groups: ThriftValue[] = [];
  private offset = 0;
  private rows = 0;

  constructor(private readonly columns: readonly ParquetColumn[]) {}

  group(group: RowGroup): Bytes[] {
    const start = this.offset === 0 ? [MAGIC] : [];
    this.offset ||= MAGIC.length;
    const { parts, meta } = group.at(this.offset);
    this.groups.push(meta);
    this.offset += group.bytes;
    this.rows += group.rows;
    return [...start, ...parts];
  }

  /** The footer, which tells where the groups are. */
  end(): Bytes[] {
    const { columns, rows, groups } = this;
    const root = struct([4, text("rows")], [5, i32(columns.length)]);
    const schema = [root, ...columns.map(schemaElement)];
    const footer = thriftBytes(
      struct([1, i32(1)], [2, list(schema)], [3, i64(rows)], [4, list(groups)], [6, text("early-bridge")]),
    );
    const length = new Uint8Array(4);
    new DataView(length.buffer).setUint32(0, footer.length, true);
    return [footer, length, MAGIC];
  }
}

/** A page: its header, which rows have a value, and the values. */
function dataPage(pieces: readonly ColumnPiece[]): Bytes[] {
  const levels = definitionLevels(pieces);
  const values = plainValues(pieces).filter(({ length }) => length > 0);
  const size = values.reduce((sum, { length }) => sum + length, levels.length);
  const counts = struct([1, i32(rowsIn(pieces))], [2, i32(PLAIN)], [3, i32(RLE)], [4, i32(RLE)]);
  const header = thriftBytes(struct([1, i32(DATA_PAGE)], [2, i32(size)], [3, i32(size)], [5, counts]));
  return [header, levels, ...values];
}

/** Which rows have a value, a bit each: all or none as one run, else the bits of `validity`. */
function definitionLevels(pieces: readonly ColumnPiece[]): Bytes {
  const run: number[] = [];
  const rows = rowsIn(pieces);
  const isFull = pieces.every(({ column }) => column !== undefined && column.validity === undefined);
  if (isFull || pieces.every(({ column }) => column === undefined)) {
    varint(run, rows * 2);
    run.push(isFull ? 1 : 0);
  } else {
    const groups = Math.ceil(rows / 8);
    varint(run, groups * 2 + 1);
    const validity = validityOf(pieces, groups);
    for (let i = 0; i < groups; i++) run.push(validity[i]!);
  }
  const levels = new Uint8Array(4 + run.length);
  new DataView(levels.buffer).setUint32(0, run.length, true);
  levels.set(run, 4);
  return levels;
}

/** The bits of all rows, in so many bytes at least. */
function validityOf(pieces: readonly ColumnPiece[], bytes: number): Uint8Array {
  const [only] = pieces;
  if (pieces.length === 1 && only?.column?.validity !== undefined) return only.column.validity;
  const bits = new Uint8Array(bytes);
  let at = 0;
  for (const { column, rows } of pieces) {
    for (let row = 0; column !== undefined && row < rows; row++)
      if (hasValue(column.validity, row)) bits[(at + row) >> 3]! |= 1 << ((at + row) & 7);
    at += rows;
  }
  return bits;
}

function columnMeta(
  name: string,
  type: ColumnType,
  { rows, bytes, from }: { readonly rows: number; readonly bytes: number; readonly from: number },
): ThriftValue {
  const meta = struct(
    [1, i32(physicalType(type))],
    [2, list([i32(PLAIN), i32(RLE)])],
    [3, list([text(name)])],
    [4, i32(UNCOMPRESSED)],
    [5, i64(rows)],
    [6, i64(bytes)],
    [7, i64(bytes)],
    [9, i64(from)],
  );
  return struct([2, i64(from)], [3, meta]);
}

function physicalType(type: ColumnType): number {
  switch (type.kind) {
    case "boolean":
      return PHYSICAL.boolean;
    case "date":
      return PHYSICAL.int32;
    case "int64":
    case "timestamp":
    case "local_timestamp":
      return PHYSICAL.int64;
    case "float64":
      return PHYSICAL.double;
    case "decimal":
      return type.precision <= 18 ? PHYSICAL.int64 : PHYSICAL.fixed;
    case "uuid":
      return PHYSICAL.fixed;
    default:
      return PHYSICAL.bytes;
  }
}

function schemaElement({ name, type }: ParquetColumn): ThriftValue {
  const physical = physicalType(type);
  const length: Field[] = physical === PHYSICAL.fixed ? [[2, i32(16)]] : [];
  return struct([1, i32(physical)], ...length, [3, i32(OPTIONAL)], [4, text(name)], ...meaningOf(type));
}

/** What the bytes of a column mean: by the older field, the newer one, or both. */
function meaningOf(type: ColumnType): readonly Field[] {
  switch (type.kind) {
    case "text":
      return [
        [6, i32(CONVERTED.utf8)],
        [10, struct([1, struct()])],
      ];
    case "json":
      return [
        [6, i32(CONVERTED.json)],
        [10, struct([12, struct()])],
      ];
    case "date":
      return [
        [6, i32(CONVERTED.date)],
        [10, struct([6, struct()])],
      ];
    case "timestamp":
    case "local_timestamp": {
      const micros = struct([2, struct()]);
      return [[10, struct([8, struct([1, bool(type.kind === "timestamp")], [2, micros])])]];
    }
    case "decimal": {
      const { precision, scale } = type;
      const logical = struct([5, struct([1, i32(scale)], [2, i32(precision)])]);
      return [
        [6, i32(CONVERTED.decimal)],
        [7, i32(scale)],
        [8, i32(precision)],
        [10, logical],
      ];
    }
    case "uuid":
      return [[10, struct([14, struct()])]];
    default:
      return [];
  }
}
