/**
 * What these servers do to tables is no part of a transaction. Tables that take the place of others are noted with the
 * commit that says so, and renamed after it: by the run itself, or by the next one where it was broken off. What a run
 * has left that was not committed is taken away.
 */

import { type ColumnType, parseColumnType } from "../../core/shape/column-type.js";
import { LOADED_COLUMN, RUN_COLUMN } from "../../core/shape/own-columns.js";
import type { SqlConnection, SqlDialect } from "../sql/dialect.js";
import { ledgerSchema } from "../sql/ledger-schema.js";
import type { TablePlaces } from "../sql/load-ports.js";
import { byTable, type DescribedColumn, type WantedTables } from "../sql/server-session.js";
import { NEXT_PREFIX } from "../sql/swap.js";
import type { LoadOptions, StreamPlace } from "../warehouse.js";
import { addedIndex, takeWider, WIDER_COLUMN } from "./dialect.js";

/** Under this prefix stands what is dropped next. */
const OLD_PREFIX = "eb_old_";

const tableOf = (sql: SqlDialect) => `${ledgerSchema(sql)}.places_due`;

/** The statement that makes the table of what is due. */
export function makeDue(sql: SqlDialect): string {
  const text = sql.ledger.types!.VARCHAR;
  const columns = ["bridge", "stream", "table_schema", "built", "replaced"].map((name) => `${name} ${text}`);
  return `CREATE TABLE IF NOT EXISTS ${tableOf(sql)} (${columns.join(", ")})`;
}

export function tablePlaces(sql: SqlDialect): TablePlaces {
  return {
    note: (on, { bridge, stream, schema }, { built, replaced }) =>
      on.run(
        `INSERT INTO ${tableOf(sql)} (bridge, stream, table_schema, built, replaced) VALUES ($1, $2, $3, $4, $5)`,
        [...[bridge, stream, schema], JSON.stringify(built), JSON.stringify([...replaced.keys()])],
      ),
    take: (on, of) => takePlaces(sql, on, of),
  };
}

async function takePlaces(
  sql: SqlDialect,
  on: SqlConnection,
  { bridge, stream, schema }: StreamPlace,
): Promise<void> {
  const own = "WHERE bridge = $1 AND stream = $2 AND table_schema = $3";
  const place = [bridge, stream, schema];
  const due = await on.rows(`SELECT built, replaced FROM ${tableOf(sql)} ${own}`, place);
  for (const row of due) {
    const built = JSON.parse(String(row.built)) as string[];
    const replaced = JSON.parse(String(row.replaced)) as string[];
    const tables = built.flatMap((table) => [table, NEXT_PREFIX + table]);
    const there = byTable(await columnsOf(sql, on, schema, { tables }));
    const name = (table: string) => sql.tableName(schema, table);
    const renames = built
      .filter((table) => there.has(NEXT_PREFIX + table))
      .flatMap((table) => [
        ...(there.has(table) ? [`${name(table)} TO ${name(OLD_PREFIX + table)}`] : []),
        `${name(NEXT_PREFIX + table)} TO ${name(table)}`,
      ]);
    // all of them at once, or none
    if (renames.length > 0) await on.run(`RENAME TABLE ${renames.join(", ")}`);
    const gone = replaced.filter((table) => !built.includes(table));
    for (const table of [...gone, ...built.map((each) => OLD_PREFIX + each)])
      await on.run(`DROP TABLE IF EXISTS ${name(table)}`);
  }
  if (due.length > 0) await on.run(`DELETE FROM ${tableOf(sql)} ${own}`, place);
}

/**
 * What stands in a schema; `prefix`: tables whose names begin so as well. MariaDB opens each table that it tells of,
 * unless the names alone leave it out, and takes ten times as long where `information_schema` is joined with itself.
 */
export async function columnsOf(
  sql: SqlDialect,
  on: SqlConnection,
  schema: string,
  { withViews = false, tables, prefix }: WantedTables & { readonly prefix?: string },
): Promise<DescribedColumn[]> {
  if (tables?.length === 0) return [];
  const values = [...(tables ?? []), ...(prefix === undefined ? [] : [prefix])];
  const marks = values.map((_, i) => `$${i + 2}`);
  const begins = prefix === undefined ? [] : [`left(table_name, ${[...prefix].length}) = ${marks.pop()}`];
  const named = tables === undefined ? [] : [`table_name IN (${marks.join(", ")})`];
  const either = [...named, ...begins].join(" OR ");
  const wanted = either === "" ? "table_schema = $1" : `table_schema = $1 AND (${either})`;
  const noViews = `AND table_name IN
    (SELECT table_name FROM information_schema.tables WHERE ${wanted} AND table_type = 'BASE TABLE')`;
  const rows = await on.rows(
    `SELECT table_name AS table_name, column_name AS name, column_type AS type
     FROM information_schema.columns WHERE ${wanted} ${withViews ? "" : noViews}
     ORDER BY table_name, ordinal_position`,
    [sql.ledger.databaseOf!(schema), ...values],
  );
  return rows.map(({ table_name, name, type }) => ({
    table: String(table_name),
    name: String(name),
    type: String(type),
  }));
}

/**
 * The columns of a table's primary key; none where it has one over parts of their values. undefined: what is loaded
 * into the tables of the schema may stand before the commit, for one of them knows no transactions, or a cluster ends
 * those of a LOAD DATA on its own (`wsrep_load_data_splitting`).
 */
export async function primaryKeyOf(
  sql: SqlDialect,
  on: SqlConnection,
  schema: string,
  table: string,
): Promise<string[] | undefined> {
  const database = sql.ledger.databaseOf!(schema);
  const [other] = await on.rows(
    `SELECT engine FROM information_schema.tables
     WHERE table_schema = $1 AND table_type = 'BASE TABLE' AND engine <> 'InnoDB' LIMIT 1`,
    [database],
  );
  const [cluster] = await on.rows("SHOW VARIABLES LIKE 'wsrep_on'");
  if (other !== undefined || cluster?.Value === "ON") return undefined;
  const parts = await on.rows(
    `SELECT column_name AS name, sub_part AS cut FROM information_schema.statistics
     WHERE table_schema = $1 AND table_name = $2 AND index_name = 'PRIMARY'`,
    [database, table],
  );
  return parts.some(({ cut }) => cut !== null) ? [] : parts.map(({ name }) => String(name));
}

/** Ends what is due for a stream, and takes away what a broken-off run of it has left. */
export async function tidyTables(sql: SqlDialect, on: SqlConnection, of: LoadOptions): Promise<void> {
  const { bridge, stream, schema, rootTable } = of;
  await takePlaces(sql, on, of);
  const rows = await on.rows(
    `SELECT DISTINCT table_name FROM ${ledgerSchema(sql)}.columns
     WHERE bridge = $1 AND stream = $2 AND table_schema = $3`,
    [bridge, stream, schema],
  );
  const recorded = new Set(rows.map((row) => String(row.table_name)));
  const own = new Set([rootTable, ...recorded]);
  const tables = [...own].flatMap((table) => [table, NEXT_PREFIX + table, OLD_PREFIX + table]);
  const isKnown = async (table: string) => {
    if (recorded.has(table)) return true;
    const query = `SELECT 1 AS one FROM ${ledgerSchema(sql)}.columns WHERE table_schema = $1 AND table_name = $2 LIMIT 1`;
    return (await on.rows(query, [schema, table])).length > 0;
  };
  const there = byTable(await columnsOf(sql, on, schema, { tables, prefix: `${rootTable}_` }));
  for (const [table, columns] of there) {
    const target = sql.tableName(schema, table);
    const isAside = [NEXT_PREFIX, OLD_PREFIX].some(
      (prefix) => table.startsWith(prefix) && own.has(table.slice(prefix.length)),
    );
    // it was made for rows that were not committed
    const mayBeLeft = table === rootTable || table.startsWith(`${rootTable}_`);
    const isOurs = columns.has(RUN_COLUMN) && columns.has(LOADED_COLUMN);
    if (isAside || (mayBeLeft && isOurs && !(await isKnown(table)) && (await isEmpty(on, target))))
      await on.run(`DROP TABLE ${target}`);
    else if (own.has(table) && columns.has(WIDER_COLUMN)) await settleWider(sql, on, schema, table);
  }
}

async function isEmpty(on: SqlConnection, target: string): Promise<boolean> {
  return (await on.rows(`SELECT 1 AS one FROM ${target} LIMIT 1`)).length === 0;
}

/** A wider column takes its place where the ledger has its type, else it goes. */
async function settleWider(sql: SqlDialect, on: SqlConnection, schema: string, table: string): Promise<void> {
  const target = sql.tableName(schema, table);
  const [row] = await on.rows(
    `SELECT column_comment AS note FROM information_schema.columns
     WHERE table_schema = $1 AND table_name = $2 AND column_name = $3`,
    [sql.ledger.databaseOf!(schema), table, WIDER_COLUMN],
  );
  const { column, type } = JSON.parse(String(row?.note)) as {
    readonly column: string;
    readonly type: string;
  };
  const noted = await on.rows(
    `SELECT 1 AS one FROM ${ledgerSchema(sql)}.columns
     WHERE table_schema = $1 AND table_name = $2 AND column_name = $3 AND type = $4`,
    [schema, table, column, type],
  );
  const to = parseColumnType(type);
  const statement =
    noted.length > 0 && to !== undefined
      ? takeWider(target, column, sql.typeName(to), await indexWith(sql, on, { schema, table, column, to }))
      : `ALTER TABLE ${target} DROP COLUMN ${WIDER_COLUMN}`;
  await on.run(statement);
}

/** What adds the index that a column is in, now that its type is another one. */
async function indexWith(
  sql: SqlDialect,
  on: SqlConnection,
  of: { readonly schema: string; readonly table: string; readonly column: string; readonly to: ColumnType },
): Promise<string | undefined> {
  const parts = await on.rows(
    `SELECT index_name AS index_of, column_name AS name, sub_part IS NOT NULL AS is_cut FROM information_schema.statistics
     WHERE table_schema = $1 AND table_name = $2 AND index_name IN ('eb_key', 'PRIMARY') ORDER BY seq_in_index`,
    [sql.ledger.databaseOf!(of.schema), of.table],
  );
  const columns = parts.map(({ name, is_cut }): { name: string; type: ColumnType } => {
    const was: ColumnType = String(is_cut) === "1" ? { kind: "text" } : { kind: "int64" };
    return { name: String(name), type: name === of.column ? of.to : was };
  });
  const key = columns.map(({ name }) => name);
  return key.includes(of.column) ? addedIndex(key, parts[0]?.index_of === "PRIMARY", columns) : undefined;
}
