/** Batches read back into plain values: the independent counterpart of the encoders, for tests. */

import type { ColumnBatch, TableBatch } from "../../src/core/shape/batch.js";
import { formatColumnType } from "../../src/core/shape/column-type.js";
import type { TableSchema } from "../../src/core/shape/table-shape.js";

export type Row = Record<string, unknown>;
export type ReadTables = Record<string, { rows: Row[]; types: Record<string, string> } | undefined>;

/** Rows of several pages by table; types are those of the schema. Missing values are null. */
export function readBatches(
  pages: readonly (readonly TableBatch[])[],
  schema: readonly TableSchema[],
): ReadTables {
  const tables: ReadTables = {};
  for (const { name, columns } of schema) {
    const types = Object.fromEntries(columns.map((column) => [column.name, formatColumnType(column.type)]));
    const rows = pages.flatMap((batches) => {
      const batch = batches.find((each) => each.table === name);
      return batch === undefined
        ? []
        : Array.from({ length: batch.rows }, (_, row) => readRow(batch, row, Object.keys(types)));
    });
    if (columns.length > 0) tables[name] = { rows, types };
  }
  return tables;
}

function readRow(batch: TableBatch, row: number, names: readonly string[]): Row {
  const entries = names.map((name) => {
    const column = batch.columns.find((each) => each.name === name);
    return [name, column === undefined ? null : readValue(column, row)] as const;
  });
  return Object.fromEntries(entries);
}

export function readValue(column: ColumnBatch, row: number): unknown {
  const { type, validity, data, texts } = column;
  if (validity !== undefined && ((validity[row >> 3]! >> (row & 7)) & 1) === 0) return null;
  if (texts !== undefined) return texts[row];
  const view = new DataView(data!);
  switch (type.kind) {
    case "boolean":
      return view.getUint8(row) === 1;
    case "date":
      return new Date(view.getInt32(row * 4, true) * 86_400_000).toISOString().slice(0, 10);
    case "int64":
      return view.getBigInt64(row * 8, true);
    case "float64":
      return view.getFloat64(row * 8, true);
    case "timestamp":
      return `${microsText(view.getBigInt64(row * 8, true))}Z`;
    case "local_timestamp":
      return microsText(view.getBigInt64(row * 8, true));
    case "decimal": {
      const wide = type.precision > 18;
      const low = wide ? view.getBigUint64(row * 16, true) : view.getBigInt64(row * 8, true);
      return decimalText(wide ? (view.getBigInt64(row * 16 + 8, true) << 64n) | low : low, type.scale);
    }
    default: {
      const hex = Buffer.from(data!, row * 16, 16).toString("hex");
      return hex.replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, "$1-$2-$3-$4-$5");
    }
  }
}

function microsText(micros: bigint): string {
  const seconds = micros >= 0n ? micros / 1_000_000n : -((-micros + 999_999n) / 1_000_000n);
  const rest = String(micros - seconds * 1_000_000n)
    .padStart(6, "0")
    .replace(/0+$/, "");
  return new Date(Number(seconds) * 1000).toISOString().slice(0, 19) + (rest === "" ? "" : `.${rest}`);
}

function decimalText(unscaled: bigint, scale: number): string {
  const digits = String(unscaled < 0n ? -unscaled : unscaled).padStart(scale + 1, "0");
  const text = scale === 0 ? digits : `${digits.slice(0, -scale)}.${digits.slice(-scale)}`;
  return unscaled < 0n ? `-${text}` : text;
}
