/** Tables of a DuckDB file that are not ours. */

import type { UserColumn, UserTable } from "../../core/into/user-table.js";
import type { SqlConnection, SqlDialect, SqlRow, UserTableSql } from "../sql/dialect.js";
import {
  type ColumnKind,
  decimalOf,
  intBounds,
  plainKind,
  userColumn,
  wordsKind,
} from "../sql/user-columns.js";

/** Values are cast to a column's type: what that would cut has gone to quarantine. */
export const USER_TABLES: UserTableSql = {
  assigned: (value, from, { words, isLocal }) =>
    `CAST(${isLocal === true && from.kind === "timestamp" ? `(${value} AT TIME ZONE 'UTC')` : value} AS ${words})`,
};

/** Undefined where the table is not there. */
export async function userTable(
  { ledger }: SqlDialect,
  on: SqlConnection,
  schema: string,
  name: string,
): Promise<UserTable | undefined> {
  const of = [schema, name];
  const inFile = `database_name = ${ledger.catalog} AND schema_name = $1`;
  const columns = await on.rows(
    `SELECT column_name AS name, data_type AS words, NOT is_nullable AS needed, column_default IS NOT NULL AS filled
     FROM duckdb_columns() WHERE ${inFile} AND table_name = $2 ORDER BY column_index`,
    of,
  );
  if (columns.length === 0) return undefined;
  const views = await on.rows(`SELECT 1 AS one FROM duckdb_views() WHERE ${inFile} AND view_name = $2`, of);
  const constraints = await on.rows(
    `SELECT to_json(constraint_column_names)::VARCHAR AS names FROM duckdb_constraints()
     WHERE ${inFile} AND table_name = $2 AND constraint_type IN ('PRIMARY KEY', 'UNIQUE')`,
    of,
  );
  const indexes = await on.rows(
    `SELECT expressions::VARCHAR AS names FROM duckdb_indexes() WHERE ${inFile} AND table_name = $2 AND is_unique`,
    of,
  );
  return {
    schema,
    name,
    columns: columns.map(columnOf),
    uniqueKeys: [
      ...constraints.map((row) => JSON.parse(String(row.names)) as string[]),
      ...indexes.map((row) => indexedNames(String(row.names))),
    ],
    obstacle: views.length === 0 ? undefined : "it is a view",
    lacks: [],
    quote: '"',
  };
}

/** `[id, '"External Id"']`: what is no plain name stands in quotes, once or twice. */
function indexedNames(expressions: string): string[] {
  const items = expressions.slice(1, -1).match(/'(?:[^']|'')*'|"(?:[^"]|"")*"|[^,\s][^,]*/g) ?? [];
  return items.map((item) => item.trim().replace(/^'|'$/g, "").replace(/^"|"$/g, "").replaceAll('""', '"'));
}

function columnOf(row: SqlRow): UserColumn {
  const words = String(row.words);
  const column = { name: String(row.name), words, isNeeded: row.needed === true, isGenerated: false };
  return userColumn({ ...column, hasDefault: row.filled === true }, kindOf(words));
}

const whole = (bits: number, isUnsigned = false): ColumnKind => ({
  type: bits < 64 || !isUnsigned ? { kind: "int64" } : decimalOf(20, 0),
  bounds: intBounds(bits, isUnsigned),
});

const KINDS: Readonly<Record<string, ColumnKind>> = {
  BOOLEAN: plainKind("boolean"),
  TINYINT: whole(8),
  SMALLINT: whole(16),
  INTEGER: whole(32),
  BIGINT: plainKind("int64"),
  HUGEINT: { type: decimalOf(38, 0) },
  UTINYINT: whole(8, true),
  USMALLINT: whole(16, true),
  UINTEGER: whole(32, true),
  UBIGINT: whole(64, true),
  FLOAT: plainKind("float64"),
  DOUBLE: plainKind("float64"),
  VARCHAR: plainKind("text"),
  DATE: plainKind("date"),
  "TIMESTAMP WITH TIME ZONE": plainKind("timestamp"),
  TIMESTAMP: { ...plainKind("timestamp"), isLocal: true },
  TIMESTAMP_S: { ...plainKind("timestamp"), isLocal: true },
  TIMESTAMP_MS: { ...plainKind("timestamp"), isLocal: true },
  TIMESTAMP_NS: { ...plainKind("timestamp"), isLocal: true },
  UUID: plainKind("uuid"),
  BLOB: plainKind("bytes"),
  JSON: plainKind("json"),
};

function kindOf(words: string): ColumnKind {
  const known = KINDS[words];
  if (known !== undefined) return known;
  const digits = /^DECIMAL\((\d+),(\d+)\)$/.exec(words);
  if (digits !== null) return { type: decimalOf(Number(digits[1]), Number(digits[2])) };
  const labels = /^ENUM\((.*)\)$/s.exec(words);
  return labels === null ? {} : wordsKind(labels[1]!);
}
