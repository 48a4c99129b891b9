/** The dialect of MariaDB and MySQL, with names in double quotes (sql_mode ANSI_QUOTES). */

import { type ColumnType, formatColumnType } from "../../core/shape/column-type.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { KeyColumn, MadeTable, SqlDialect, Widening } from "../sql/dialect.js";
import { NUMBERS } from "../sql/stage.js";
import { isWrittenAsText, listsOf } from "../sql/standard.js";
import { isKeyed, primaryKey } from "../sql/work.js";
import type { ServerMake } from "./make.js";
import { USER_TABLES } from "./user-tables.js";

/** A name as SQL takes it, whatever is in it. */
export function quoteName(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}

/** A text as a value. */
export function quoteText(text: string): string {
  return `'${text.replaceAll("\\", "\\\\").replaceAll("'", "''").replaceAll("\0", "\\0")}'`;
}

/** numbers of records, between two statements of one connection */
const RESULT = "eb_result";
/** a column that a wider type grows in, until it takes the place of the other one */
export const WIDER_COLUMN = "eb_wider";

/** The type of a column. */
export const columnType = (type: ColumnType, { collation }: ServerMake): string =>
  sqlType(type, `LONGTEXT CHARACTER SET utf8mb4 COLLATE ${collation}`);

/** What CAST turns a value into. */
const castType = (type: ColumnType) => sqlType(type, "CHAR");

function sqlType(type: ColumnType, text: string): string {
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
    // a column of type JSON takes no more than 32 levels
    case "json":
      return text;
    case "date":
      return "DATE";
    case "timestamp":
    case "local_timestamp":
      return "DATETIME(6)";
    case "uuid":
      return "CHAR(36) CHARACTER SET ascii COLLATE ascii_bin";
    case "bytes":
      return "LONGBLOB";
  }
}

function widened(column: string, from: ColumnType, to: ColumnType): string {
  const name = quoteName(column);
  if (to.kind === "json")
    return isWrittenAsText(from) ? `json_quote(${asText(name, from)})` : asText(name, from);
  if (to.kind === "text") return asText(name, from);
  if (to.kind === "float64") return `CAST(${name} AS DOUBLE)`;
  if (to.kind === "int64") return `CAST(${name} AS SIGNED)`;
  return `CAST(${name} AS ${castType(to)})`;
}

/** Text as JSON writes the value: times in RFC 3339. */
function asText(name: string, from: ColumnType): string {
  const text = `CAST(${name} AS CHAR CHARACTER SET utf8mb4)`;
  const format = (suffix: string) =>
    `concat(regexp_replace(date_format(${name}, '%Y-%m-%dT%H:%i:%s.%f'), '\\\\.?0*$', ''), '${suffix}')`;
  switch (from.kind) {
    case "boolean":
      return `CASE WHEN ${name} THEN 'true' WHEN NOT ${name} THEN 'false' END`;
    case "timestamp":
      return format("Z");
    case "local_timestamp":
      return format("");
    case "float64":
      // as JSON writes a number: 11.0 and 11.00 are 11
      return `CASE WHEN ${name} = truncate(${name}, 0) AND abs(${name}) < 1e18 THEN CAST(CAST(${name} AS SIGNED) AS CHAR)
        ELSE replace(${text}, 'e', CASE WHEN abs(${name}) >= 1 THEN 'e+' ELSE 'e' END) END`;
    case "decimal":
      return from.scale > 0 ? `regexp_replace(${text}, '\\\\.?0+$', '')` : text;
    case "bytes":
      return `replace(to_base64(${name}), '\\n', '')`;
    case "text":
    case "json":
      return name;
    default:
      return text;
  }
}

/** What a text has to look like, so that a type holds its value. */
const FITTING: Readonly<Record<string, string>> = {
  int64: "^-?[0-9]{1,18}$",
  decimal: "^-?[0-9]+([.][0-9]+)?$",
  float64: "^-?[0-9]+([.][0-9]+)?([eE][-+]?[0-9]+)?$",
  date: "^[0-9]{4}-[0-9]{2}-[0-9]{2}$",
  timestamp: "^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9:.]+Z$",
  local_timestamp: "^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9:.]+$",
  uuid: "^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$",
};

function fitted(column: string, from: ColumnType, to: ColumnType): string {
  if (to.kind === "json" || to.kind === "text") return widened(column, from, to);
  const text = asText(quoteName(column), from);
  if (to.kind === "boolean") return `CASE ${text} WHEN 'true' THEN TRUE WHEN 'false' THEN FALSE END`;
  const pattern = FITTING[to.kind];
  if (pattern === undefined) return `CAST(NULL AS CHAR)`;
  const value = to.kind.endsWith("timestamp") ? `replace(replace(${text}, 'T', ' '), 'Z', '')` : text;
  const type = to.kind === "int64" ? "SIGNED" : to.kind === "uuid" ? "CHAR" : castType(to);
  const cast = `CAST(${value} AS ${type})`;
  if (to.kind !== "decimal") return `CASE WHEN ${text} REGEXP '${pattern}' THEN ${cast} END`;
  // what has more digits is cut, and not the same any more
  const isWhole = `CAST(${value} AS DECIMAL(65,30)) = ${cast}`;
  return `CASE WHEN ${text} REGEXP '${pattern}' AND ${isWhole} THEN ${cast} END`;
}

/** What a statement sends grows with its rows: so many in each. */
const MOST_ROWS = 500;

/** A record is found by its key; child rows by that of their record. */
function indexes(target: string, table: TableSchema): string[] {
  const added = indexOf(table, table.columns);
  return added === undefined ? [] : [`ALTER TABLE ${target} ${added}`];
}

function indexOf(table: TableSchema, columns: readonly KeyColumn[]): string | undefined {
  const isOneEach = primaryKey(table).length > 0;
  return isKeyed(table) ? addedIndex(table.entityKey, isOneEach, columns) : undefined;
}

/** A table's columns before some of them widen. */
function asTheyStand({ columns }: TableSchema, later: readonly Widening[]): KeyColumn[] {
  const types = new Map(later.map(({ column, from }) => [column, from]));
  return columns.map(({ name, type }) => ({ name, type: types.get(name) ?? type }));
}

/** so much of a text is in an index, at most; characters */
const INDEXED_SIGNS = 191;
/** an index has so many columns, and so many bytes, at most (MariaDB, "InnoDB Limitations") */
const INDEXED_COLUMNS = 16;
const INDEXED_BYTES = 3072;
/** a character of a text, what comes with each text, and a value of any other type: at most so many bytes */
const SIGN_BYTES = 4;
const TEXT_BYTES = 3;
const VALUE_BYTES = 40;

/** What adds an index, behind ALTER TABLE: primary where each row has its own values, and an index takes them whole. */
export function addedIndex(
  key: readonly string[],
  isOneEach: boolean,
  columns: readonly KeyColumn[],
): string {
  const parts = indexParts(key, columns, INDEXED_BYTES).join(", ");
  const isWhole = key.length <= INDEXED_COLUMNS && !key.some((name) => isCut(name, columns));
  return isOneEach && isWhole ? `ADD PRIMARY KEY (${parts})` : `ADD INDEX eb_key (${parts})`;
}

/** An index does not take the values of a column whole. */
function isCut(name: string, columns: readonly KeyColumn[]): boolean {
  const kind = columns.find((column) => column.name === name)?.type.kind;
  return kind === "text" || kind === "json" || kind === "bytes";
}

/** A key's columns as an index takes them. */
function indexParts(key: readonly string[], columns: readonly KeyColumn[], mostBytes: number): string[] {
  const names = key.slice(0, INDEXED_COLUMNS);
  const texts = names.filter((name) => isCut(name, columns)).length;
  const bytes = mostBytes - (names.length - texts) * VALUE_BYTES - texts * TEXT_BYTES;
  const signs = Math.min(INDEXED_SIGNS, Math.floor(bytes / SIGN_BYTES / texts));
  return names.map((name) => `${quoteName(name)}${isCut(name, columns) ? `(${signs})` : ""}`);
}

/** Puts the wider column in the place of the other one, in one step with the index over it. */
export function takeWider(target: string, column: string, type: string, added: string | undefined): string {
  const name = quoteName(column);
  const index = added === undefined ? [] : ["DROP INDEX IF EXISTS eb_key", 'DROP INDEX IF EXISTS "PRIMARY"'];
  const place = `DROP COLUMN ${name}, CHANGE COLUMN ${WIDER_COLUMN} ${name} ${type}`;
  return `ALTER TABLE ${target} ${[...index, place, ...(added === undefined ? [] : [added])].join(", ")}`;
}

function notedType(columns: string, { schema, table }: MadeTable, column: string, to: ColumnType): string {
  return `UPDATE ${columns} SET type = ${quoteText(formatColumnType(to))}
    WHERE table_schema = ${quoteText(schema)} AND table_name = ${quoteText(table.name)} AND column_name = ${quoteText(column)}`;
}

const epochMicros = (moment: string) => `timestampdiff(MICROSECOND, '1970-01-01', ${moment})`;

const commentText = (text: string, most: number) => quoteText([...text].slice(0, most).join(""));

/** Of a server whose databases have a prefix of their own. */
export function mysqlDialect(make: ServerMake, prefix: string): SqlDialect {
  const typeName = (type: ColumnType) => columnType(type, make);
  const text = typeName({ kind: "text" });
  // joins of texts are looked up row by row, too (MariaDB), and those of a DELETE or an UPDATE (MySQL)
  const findable = (stage: string, columns: readonly KeyColumn[]) => {
    const index = columns === NUMBERS ? "eb_numbers" : "eb_key";
    const key = columns.map(({ name }) => name);
    const parts = indexParts(key, columns, make.stageIndexBytes).join(", ");
    return [`CREATE INDEX IF NOT EXISTS ${index} ON ${stage} (${parts})`];
  };
  const schemaName = (schema: string) => quoteName(prefix + schema);
  const tableName = (schema: string, table: string) => `${schemaName(schema)}.${quoteName(table)}`;
  return Object.freeze({
    title: make.title,
    quoteName,
    schemaName,
    makeSchema: (schema: string) =>
      `CREATE DATABASE IF NOT EXISTS ${schemaName(schema)} CHARACTER SET utf8mb4 COLLATE ${make.collation}`,
    tableName,
    comment: (table: string, column: string | undefined, text: string, type: ColumnType | undefined) =>
      column === undefined || type === undefined
        ? `ALTER TABLE ${table} COMMENT ${commentText(text, 2048)}`
        : `ALTER TABLE ${table} MODIFY COLUMN ${quoteName(column)} ${typeName(type)} COMMENT ${commentText(text, 1024)}`,
    text: quoteText,
    typeName,
    // what is known of a table that was filled just now has to be right by the next statement, or a join has no index
    tableOptions: " STATS_PERSISTENT = 0",
    instant: (ms: number) => `CAST('${momentText(new Date(ms).toISOString())}' AS DATETIME(6))`,
    widened,
    fitted,
    same: (left: string, right: string) => `${left} <=> ${right}`,
    // the source first: the target has an index, which is taken even where the server believes the target to be all but
    // empty, and would read all of it for each row of the source
    deleteFrom: (target: string, alias: string, source: string | undefined, where: string) =>
      `DELETE /*+ INDEX(${alias}) */ ${alias} FROM ${source === undefined ? "" : `${source} STRAIGHT_JOIN `}${target} AS ${alias} WHERE ${where}`,
    updateFrom: (
      target: string,
      alias: string,
      set: Readonly<Record<string, string>>,
      source: string,
      where: string,
    ) => {
      const changes = Object.entries(set).map(([column, value]) => `${alias}.${column} = ${value}`);
      return `UPDATE /*+ INDEX(${alias}) */ ${source} STRAIGHT_JOIN ${target} AS ${alias} SET ${changes.join(", ")} WHERE ${where}`;
    },
    addColumn: (target: string, column: string, type: ColumnType) => [
      // one that a broken-off run has left is empty, and may be of another type
      `ALTER TABLE ${target} ADD COLUMN IF NOT EXISTS ${quoteName(column)} ${typeName(type)}`,
      `ALTER TABLE ${target} MODIFY COLUMN ${quoteName(column)} ${typeName(type)}`,
    ],
    // one after the other: in between each stands as the ledger has it
    widen: (target: string, columns: readonly Widening[], of?: MadeTable) =>
      columns.flatMap(({ column, from, to }, i) => {
        const [name, type] = [quoteName(column), typeName(to)];
        const note = commentText(JSON.stringify({ column, type: formatColumnType(to) }), 1024);
        const isIndexed = of?.table.entityKey.includes(column) === true;
        const added = isIndexed ? indexOf(of.table, asTheyStand(of.table, columns.slice(i + 1))) : undefined;
        return [
          `ALTER TABLE ${target} ADD COLUMN ${WIDER_COLUMN} ${type} COMMENT ${note} AFTER ${name}`,
          `UPDATE ${target} SET ${WIDER_COLUMN} = ${widened(column, from, to)}`,
          // from here on the wider one counts, also where the process ends before it has its place
          ...(of?.isNoted !== true ? [] : [notedType(tableName("early_bridge", "columns"), of, column, to)]),
          takeWider(target, column, type, added),
        ];
      }),
    indexes,
    findable,
    // in MySQL a temporary table stands but once in a statement; a condition over a subquery is looked up row by row
    overNumbers: (query: string, statements: (source: string) => readonly string[]) => [
      `DROP TEMPORARY TABLE IF EXISTS ${RESULT}`,
      `CREATE TEMPORARY TABLE ${RESULT} AS ${query}`,
      ...findable(RESULT, NUMBERS),
      ...statements(RESULT),
      `DROP TEMPORARY TABLE ${RESULT}`,
    ],
    tablesApart: true,
    userTables: USER_TABLES,
    ledger: {
      catalog: "'def'",
      types: { VARCHAR: text, JSON: text, TIMESTAMPTZ: "DATETIME(6)" },
      databaseOf: (schema: string) => prefix + schema,
      momentValue: momentText,
      moment: (mark: string) => `CAST(replace(replace(${mark}, 'T', ' '), 'Z', '') AS DATETIME(6))`,
      whole: (sum: string) => `CAST(${sum} AS SIGNED)`,
      listed: (text: string, condition: string, order: string) =>
        `group_concat(CASE WHEN ${condition} THEN ${text} END ORDER BY ${order} SEPARATOR ', ')`,
      firstOf: (text: string, order: string) =>
        `substring_index(group_concat(${text} ORDER BY ${order} SEPARATOR '\\0'), '\\0', 1)`,
      epochMs: (moment: string) => `${epochMicros(moment)} DIV 1000`,
      epochMicros,
      textsOf: (list: string) =>
        `SELECT item FROM json_table(${list}, '$[*]' COLUMNS (item ${text} PATH '$')) AS texts`,
      rowsOf: listsOf(() => MOST_ROWS, make.rowWord),
      rowId: "rowid BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY",
      // one row, in which all runs meet
      lockRuns: (table: string) =>
        `SELECT version FROM ${table.replace(/runs$/, "ledger_version")} FOR UPDATE`,
    },
  });
}

/** RFC 3339 in UTC as a literal of the server. */
function momentText(text: string): string {
  return text.replace("T", " ").replace("Z", "");
}
