/** PostgreSQL's dialect. */

import type { ColumnType } from "../../core/shape/column-type.js";
import { LOADED_COLUMN, RUN_COLUMN } from "../../core/shape/own-columns.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { SqlDialect, StandingColumns, Widening } from "../sql/dialect.js";
import { isWrittenAsText, listsOf, STANDARD, STANDARD_LEDGER, widenColumn } from "../sql/standard.js";
import { isKeyed, primaryKey } from "../sql/work.js";
import { USER_TABLES } from "./user-tables.js";

/** A name as SQL takes it, whatever is in it. */
export function quoteName(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}

/** A text as a value, also where backslashes mean something to the server. */
export function quoteText(text: string): string {
  const quoted = `'${text.replaceAll("'", "''").replaceAll("\\", "\\\\").replaceAll("\0", "\u2400")}'`;
  return text.includes("\\") ? ` E${quoted}` : quoted;
}

export function sqlType(type: ColumnType): string {
  switch (type.kind) {
    case "boolean":
      return "BOOLEAN";
    case "int64":
      return "BIGINT";
    case "float64":
      return "DOUBLE PRECISION";
    case "decimal":
      return `NUMERIC(${type.precision},${type.scale})`;
    case "text":
      return "TEXT";
    case "date":
      return "DATE";
    case "timestamp":
      return "TIMESTAMPTZ";
    case "local_timestamp":
      return "TIMESTAMP";
    case "uuid":
      return "UUID";
    case "bytes":
      return "BYTEA";
    case "json":
      return "JSONB";
  }
}

function widened(column: string, from: ColumnType, to: ColumnType): string {
  const name = quoteName(column);
  if (to.kind === "json")
    return isWrittenAsText(from) ? `to_jsonb(${asText(name, from)})` : `to_jsonb(${name})`;
  if (to.kind === "text") return asText(name, from);
  if (from.kind === "date" && to.kind === "timestamp") return `(${name}::TIMESTAMP AT TIME ZONE 'UTC')`;
  return `${name}::${sqlType(to)}`;
}

/** Text as JSON writes the value: times in RFC 3339. */
function asText(name: string, from: ColumnType): string {
  const format = (moment: string, suffix: string) =>
    `regexp_replace(to_char(${moment}, 'YYYY-MM-DD"T"HH24:MI:SS.US'), '\\.?0*$', '') || '${suffix}'`;
  switch (from.kind) {
    case "timestamp":
      return format(`${name} AT TIME ZONE 'UTC'`, "Z");
    case "local_timestamp":
      return format(name, "");
    case "float64":
      // as JSON writes a number: 11.0 and 11.00 are 11
      return `CASE WHEN ${name} = trunc(${name}) AND abs(${name}) < 1e18 THEN ${name}::BIGINT::TEXT
        ELSE regexp_replace(${name}::TEXT, 'e([+-])0', 'e\\1') END`;
    case "decimal":
      return from.scale > 0 ? `regexp_replace(${name}::TEXT, '\\.?0+$', '')` : `${name}::TEXT`;
    case "bytes":
      return `replace(encode(${name}, 'base64'), E'\\n', '')`;
    default:
      return `${name}::TEXT`;
  }
}

/** Makes the function that `fitted` calls, for one connection: no cast of PostgreSQL gives NULL where it fails. */
export const MAKE_FITTING = `CREATE OR REPLACE FUNCTION pg_temp.eb_fitted(value TEXT, type TEXT, kind ANYELEMENT) RETURNS ANYELEMENT
  LANGUAGE plpgsql AS $$
  DECLARE fitted kind%TYPE;
  BEGIN
    EXECUTE format('SELECT %L::%s', value, type) INTO fitted;
    RETURN fitted;
  EXCEPTION WHEN OTHERS THEN RETURN NULL;
  END $$`;

function fitted(column: string, from: ColumnType, to: ColumnType): string {
  if (to.kind === "json" || to.kind === "text") return widened(column, from, to);
  const type = sqlType(to);
  return `pg_temp.eb_fitted(${asText(quoteName(column), from)}, '${type}', NULL::${type})`;
}

/** A server takes 65,535 values in a statement. */
const MOST_VALUES = 60_000;

/** A record is found by its key; child rows by that of their record. */
function indexes(target: string, table: TableSchema): string[] {
  const list = (names: readonly string[]) => names.map(quoteName).join(", ");
  if (!isKeyed(table)) return [];
  const key = primaryKey(table);
  return key.length > 0
    ? [`ALTER TABLE ${target} ADD PRIMARY KEY (${list(key)})`]
    : [`CREATE INDEX ON ${target} (${list(table.entityKey)})`];
}

/** Rows of a table that was built aside take the place of those that stand: views and grants stay with the table. */
function takePlace(target: string, next: string, table: TableSchema, standing: StandingColumns): string[] {
  const wanted = table.columns.map(({ name, type }) => ({
    name: quoteName(name),
    type,
    was: standing.get(name),
  }));
  const columns = [...wanted.map(({ name }) => name), RUN_COLUMN, LOADED_COLUMN].join(", ");
  const changed = wanted.flatMap(({ name, type, was }) => {
    if (was === undefined) return [`ALTER TABLE ${target} ADD COLUMN ${name} ${sqlType(type)}`];
    if (sqlType(was) === sqlType(type)) return [];
    // no row is there
    return [`ALTER TABLE ${target} ALTER COLUMN ${name} TYPE ${sqlType(type)} USING NULL::${sqlType(type)}`];
  });
  return [
    `TRUNCATE ${target}`,
    ...changed,
    `INSERT INTO ${target} (${columns}) SELECT ${columns} FROM ${next}`,
    `DROP TABLE ${next}`,
  ];
}

/** Who may use a schema that is there need not be allowed to make others. */
function makeSchema(schema: string): string {
  const make = `CREATE SCHEMA ${quoteName(schema)}`;
  const isThere = `EXISTS (SELECT FROM pg_namespace WHERE nspname = ${quoteText(schema)})`;
  return `DO ${quoteText(`BEGIN IF NOT ${isThere} THEN ${make}; END IF; END`)}`;
}

/** Rounded, for a float comes near it alone before PostgreSQL 14. */
const epochMicros = (moment: string) => `round(extract(epoch FROM ${moment}) * 1000000)::BIGINT`;

const NAMES = { quoteName, typeName: sqlType, widened };

export const POSTGRES: SqlDialect = Object.freeze({
  ...STANDARD,
  ...NAMES,
  title: "PostgreSQL",
  schemaName: quoteName,
  makeSchema,
  tableName: (schema: string, table: string) => `${quoteName(schema)}.${quoteName(table)}`,
  comment: (table: string, column: string | undefined, text: string) =>
    `COMMENT ON ${column === undefined ? `TABLE ${table}` : `COLUMN ${table}.${quoteName(column)}`} IS ${quoteText(text)}`,
  text: quoteText,
  instant: (ms: number) => `to_timestamp(${ms / 1000})`,
  // rows are written anew once for all columns
  widen: (target: string, columns: readonly Widening[]) => [
    `ALTER TABLE ${target} ${columns.map((column) => widenColumn(NAMES, column)).join(", ")}`,
  ],
  fitted,
  indexes,
  takePlace,
  viewsHoldTypes: true,
  userTables: USER_TABLES,
  ledger: {
    ...STANDARD_LEDGER,
    catalog: "current_database()",
    epochMs: (moment: string) => `${epochMicros(moment)} / 1000`,
    epochMicros,
    textsOf: (list: string) => `SELECT json_array_elements_text(${list}::JSON) AS item`,
    rowsOf: listsOf((width) => Math.floor(MOST_VALUES / width)),
    rowId: "rowid BIGINT GENERATED ALWAYS AS IDENTITY",
    lockRuns: (table: string) => `LOCK TABLE ${table} IN SHARE ROW EXCLUSIVE MODE`,
  },
});
