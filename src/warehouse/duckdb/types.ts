/** DuckDB's dialect: names, column types in SQL, and as its vectors hold them. */

import type { DuckDBType } from "@duckdb/node-api";
import type { ColumnType } from "../../core/shape/column-type.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { MadeTable, SqlCell, SqlDialect, Widening } from "../sql/dialect.js";
import { commentsOn } from "../sql/merge-plan.js";
import { STANDARD, STANDARD_LEDGER, widenColumn } from "../sql/standard.js";
import { primaryKey } from "../sql/work.js";
import { driver } from "./driver.js";
import { USER_TABLES } from "./user-tables.js";

/** The type in SQL. An instant is kept with its zone known: TIMESTAMPTZ. */
export function sqlType(type: ColumnType): string {
  switch (type.kind) {
    case "boolean":
      return "BOOLEAN";
    case "int64":
      return "BIGINT";
    case "float64":
      return "DOUBLE";
    case "decimal":
      return `DECIMAL(${type.precision},${type.scale})`;
    case "text":
      return "VARCHAR";
    case "date":
      return "DATE";
    case "timestamp":
      return "TIMESTAMPTZ";
    case "local_timestamp":
      return "TIMESTAMP";
    case "uuid":
      return "UUID";
    case "bytes":
      return "BLOB";
    case "json":
      return "JSON";
  }
}

/** The type of a vector in a data chunk; json travels as text. */
export function vectorType(type: ColumnType): DuckDBType {
  switch (type.kind) {
    case "boolean":
      return driver.BOOLEAN;
    case "int64":
      return driver.BIGINT;
    case "float64":
      return driver.DOUBLE;
    case "decimal":
      return driver.DECIMAL(type.precision, type.scale);
    case "text":
    case "json":
      return driver.VARCHAR;
    case "date":
      return driver.DATE;
    case "timestamp":
      return driver.TIMESTAMPTZ;
    case "local_timestamp":
      return driver.TIMESTAMP;
    case "uuid":
      return driver.UUID;
    case "bytes":
      return driver.BLOB;
  }
}

/** A name as SQL takes it, whatever is in it. */
export function quoteName(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}

/** The file's name inside DuckDB, whatever the file is called: a schema of the file's name would else be ambiguous. */
export const FILE_DATABASE = "eb_file";
/** The memory database that every instance has: stages live there. */
export const STAGE_DATABASE = "memory";

/** A schema of the file, in full. */
export function schemaName(schema: string): string {
  return `${FILE_DATABASE}.${quoteName(schema)}`;
}

/** A table of the file, in full. */
export function tableName(schema: string, table: string): string {
  return `${schemaName(schema)}.${quoteName(table)}`;
}

/** The expression that turns a column of one type into a wider one, every value kept. */
export function quoteText(text: string): string {
  return `'${text.replaceAll("'", "''")}'`;
}

function widenExpression(column: string, from: ColumnType, to: ColumnType): string {
  const name = quoteName(column);
  if (to.kind === "json")
    return from.kind === "text" || isTimeLike(from) ? `to_json(${asText(name, from)})` : `to_json(${name})`;
  if (to.kind === "text") return asText(name, from);
  if (from.kind === "date" && to.kind === "timestamp") return `(${name}::TIMESTAMP AT TIME ZONE 'UTC')`;
  return `${name}::${sqlType(to)}`;
}

function isTimeLike(type: ColumnType): boolean {
  return (
    type.kind === "timestamp" ||
    type.kind === "local_timestamp" ||
    type.kind === "date" ||
    type.kind === "uuid"
  );
}

/** Text as JSON writes the value: times in RFC 3339. */
function asText(name: string, from: ColumnType): string {
  const format = (suffix: string) =>
    `regexp_replace(strftime(${from.kind === "timestamp" ? `${name} AT TIME ZONE 'UTC'` : name}, '%Y-%m-%dT%H:%M:%S.%f'), '\\.?0*$', '') || '${suffix}'`;
  if (from.kind === "timestamp") return format("Z");
  if (from.kind === "local_timestamp") return format("");
  // as JSON writes a number: 11.0 and 11.00 are 11
  if (from.kind === "float64")
    return `CASE WHEN ${name} = trunc(${name}) AND abs(${name}) < 1e18 THEN ${name}::HUGEINT::VARCHAR
      ELSE regexp_replace(${name}::VARCHAR, 'e([+-])0', 'e\\1') END`;
  if (from.kind === "decimal" && from.scale > 0) return `regexp_replace(${name}::VARCHAR, '\\.?0+$', '')`;
  return `${name}::VARCHAR`;
}

const NAMES = { quoteName, typeName: sqlType, widened: widenExpression };

export const DUCKDB: SqlDialect = Object.freeze({
  ...STANDARD,
  ...NAMES,
  title: "DuckDB",
  schemaName,
  makeSchema: (schema: string) => `CREATE SCHEMA IF NOT EXISTS ${schemaName(schema)}`,
  tableName,
  comment: (table: string, column: string | undefined, text: string) =>
    `COMMENT ON ${column === undefined ? `TABLE ${table}` : `COLUMN ${table}.${quoteName(column)}`} IS ${quoteText(text)}`,
  text: quoteText,
  instant: (ms: number) => `to_timestamp(${ms / 1000})`,
  widen: (target: string, columns: readonly Widening[]) =>
    columns.map((column) => `ALTER TABLE ${target} ${widenColumn(NAMES, column)}`),
  fitted: (column: string, from: ColumnType, to: ColumnType) => `TRY(${widenExpression(column, from, to)})`,
  // 64 bits; of a billion pairs of unlike rows, one in ten billion readings takes one for alike
  digestOf: (columns: readonly string[]) => `hash(${columns.join(", ")})`,
  userTables: USER_TABLES,
  ledger: {
    ...STANDARD_LEDGER,
    catalog: `'${FILE_DATABASE}'`,
    epochMs: (moment: string) => `epoch_ms(${moment})::BIGINT`,
    epochMicros: (moment: string) => `epoch_us(${moment})::BIGINT`,
    textsOf: (list: string) => `SELECT unnest(from_json(${list}::JSON, '["VARCHAR"]')) AS item`,
    rowsOf,
    rowId: undefined,
  },
});

/** The same over tables whose key is declared: where a column of it is to hold more, the table is made anew. */
export const DUCKDB_KEYED: SqlDialect = Object.freeze({
  ...DUCKDB,
  widen: (target: string, columns: readonly Widening[], of?: MadeTable) =>
    of !== undefined && widensKey(columns, of) ? rebuilt(of, target, columns) : DUCKDB.widen(target, columns),
});

/** The same, and the key of a stream's own table is declared. */
export const DUCKDB_DECLARING: SqlDialect = Object.freeze({
  ...DUCKDB,
  indexes: declareKey,
  widen: (target: string, columns: readonly Widening[], of?: MadeTable) => [
    ...DUCKDB_KEYED.widen(target, columns, of),
    ...(of !== undefined && widensKey(columns, of) ? declareKey(target, of.table) : []),
  ],
});

function declareKey(target: string, table: TableSchema): string[] {
  const key = primaryKey(table);
  return key.length === 0 ? [] : [`ALTER TABLE ${target} ADD PRIMARY KEY (${key.map(quoteName).join(", ")})`];
}

function widensKey(columns: readonly Widening[], { table }: MadeTable): boolean {
  return columns.some(({ column }) => primaryKey(table).includes(column));
}

function rebuilt({ schema, name, table }: MadeTable, target: string, columns: readonly Widening[]): string[] {
  const wider = tableName(schema, `eb_wider_${name}`);
  const values = columns.map(
    ({ column, from, to }) => `${widenExpression(column, from, to)} AS ${quoteName(column)}`,
  );
  return [
    `CREATE TABLE ${wider} AS SELECT * REPLACE (${values.join(", ")}) FROM ${target}`,
    `DROP TABLE ${target}`,
    `ALTER TABLE ${wider} RENAME TO ${quoteName(name)}`,
    ...commentsOn(DUCKDB, target, table),
  ];
}

/** Few short cells are planned sooner as literals, others as a list. */
const MOST_LITERALS = 400;
const MOST_SIGNS = 65_536;

/** In one statement: few rows stand in it, others travel as texts in JSON. */
function rowsOf(rows: readonly (readonly SqlCell[])[]) {
  const texts = rows.map((row) => row.map((cell) => (cell === null ? null : String(cell))));
  const width = rows[0]!.length;
  if (areFew(texts.flat())) {
    const literal = (text: string | null) => (text === null ? "NULL" : quoteText(text));
    const lists = texts.map((row) => `(${row.map(literal).join(", ")})`);
    return [{ query: `VALUES ${lists.join(", ")}`, values: [] }];
  }
  const cells = Array.from({ length: width }, (_, i) => `each[${i + 1}]`).join(", ");
  const query = `SELECT ${cells} FROM (SELECT unnest(from_json($1::JSON, '[["VARCHAR"]]')) AS each)`;
  return [{ query, values: [JSON.stringify(texts)] }];
}

function areFew(texts: readonly (string | null)[]): boolean {
  const signs = texts.reduce((sum, text) => sum + (text?.length ?? 0), 0);
  // a statement ends at a NUL
  return texts.length <= MOST_LITERALS && signs <= MOST_SIGNS && !texts.some((text) => text?.includes("\0"));
}
