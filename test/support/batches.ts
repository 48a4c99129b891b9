/** Batches of several pages as rows by table, for tests. */

import type { TableBatch } from "../../src/core/shape/batch.js";
import { batchValue } from "../../src/core/shape/batch-rows.js";
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
    return [name, column === undefined ? null : batchValue(column, row)] as const;
  });
  return Object.fromEntries(entries);
}
