/** What the ledger knows of tables and their columns. */

import { formatColumnType } from "../../core/shape/column-type.js";
import type { KnownColumn } from "../../core/shape/shaped.js";
import type { ColumnRole, ColumnSchema, TableSchema } from "../../core/shape/table-shape.js";
import type { LoadOptions } from "../warehouse.js";
import type { SqlCell, SqlDialect, SqlRow } from "./dialect.js";
import { knownType, timestamp } from "./ledger-rows.js";
import { ledgerSchema } from "./ledger-schema.js";

export function knownColumn(row: SqlRow): KnownColumn {
  return {
    table: String(row.table_name),
    tablePath: String(row.table_path),
    name: String(row.column_name),
    path: String(row.path),
    role: String(row.role) as ColumnRole,
    type: knownType(String(row.type)),
    isKey: row.is_key === true,
    seen: {
      mask: Number(row.seen_mask),
      intDigits: Number(row.seen_digits),
      scale: Number(row.seen_scale),
    },
    missingRows: Number(row.missing_rows ?? 0),
    hasStopped: row.has_stopped === true,
  };
}

/** When a column was seen first and last, ms since 1970, by `columnId`. */
export type SeenTimes = ReadonlyMap<string, { readonly first: number | null; readonly last: number | null }>;

const columnId = (table: string, column: string) => JSON.stringify([table, column]);

/** A condition: columns of the stream's own tables, or of one that is not ours. */
export const ownOrNot = (isInto: boolean) => (isInto ? "role = 'into'" : "role <> 'into'");

export function seenQuery(sql: SqlDialect): string {
  const { epochMs } = sql.ledger;
  return `SELECT table_name, column_name, ${epochMs("first_seen_at")} AS first, ${epochMs("last_seen_at")} AS last
    FROM ${ledgerSchema(sql)}.columns WHERE table_schema = $1 AND bridge = $2 AND stream = $3`;
}

export function seenTimes(rows: readonly SqlRow[]): SeenTimes {
  const moment = (value: unknown) => (value === null ? null : Number(value));
  return new Map(
    rows.map(({ table_name, column_name, first, last }) => [
      columnId(String(table_name), String(column_name)),
      { first: moment(first), last: moment(last) },
    ]),
  );
}

/** Rows of the ledger's table for all columns of a stream. */
export function columnRows(
  { bridge, stream, schema, run }: LoadOptions,
  tables: readonly TableSchema[],
  times: SeenTimes,
  atMs: number,
): (readonly SqlCell[])[] {
  const moment = (ms: number | null | undefined) => (ms === null || ms === undefined ? null : timestamp(ms));
  return tables.flatMap((table) =>
    table.columns.map((column) => {
      const { name, role, description = null, came = false, missingRows = 0, hasStopped = false } = column;
      const known = times.get(columnId(table.name, name));
      const isPlace = role === "position" || role === "map_key" || role === "within";
      return [
        ...[bridge, stream, schema, table.name, table.path],
        ...columnValues(column),
        run,
        isPlace || table.recordKey.includes(name),
        description,
        moment(known?.first ?? (came ? atMs : null)),
        moment(came ? atMs : known?.last),
        missingRows,
        hasStopped,
      ];
    }),
  );
}

function columnValues({ name, path, role, type, declared, seen }: ColumnSchema): SqlCell[] {
  return [name, path, role, formatColumnType(type), declared, seen.mask, seen.intDigits, seen.scale];
}
