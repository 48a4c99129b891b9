/** The rows of a stream's tables, read back from files into the DuckDB file. */

import { randomBytes } from "node:crypto";
import { rm } from "node:fs/promises";
import { join } from "node:path";
import { BridgeError } from "../../core/errors.js";
import { sameType } from "../../core/shape/column-type.js";
import type { KnownColumn } from "../../core/shape/shaped.js";
import { DUCKDB, FILE_DATABASE, quoteName, quoteText, sqlType, tableName } from "../duckdb/types.js";
import type { SqlConnection, StandingColumns } from "../sql/dialect.js";
import type { LoadOptions } from "../warehouse.js";
import { filesOf, type TableFile } from "./file-list.js";
import type { Store } from "./store.js";
import { comesBeside, type TableWriter } from "./table-writer.js";
import { withOwn } from "./write-files.js";

/** Drops all that is in the DuckDB file. */
export async function dropSchemas(on: SqlConnection): Promise<void> {
  const rows = await on.rows(
    `SELECT schema_name AS name FROM information_schema.schemata
     WHERE catalog_name = '${FILE_DATABASE}' AND schema_name NOT IN ('main', 'information_schema', 'pg_catalog')`,
  );
  for (const { name } of rows) await on.run(`DROP SCHEMA ${DUCKDB.schemaName(String(name))} CASCADE`);
}

/** A stream's tables as the ledger knows them: types by column, by table. */
export function tablesOf(known: readonly KnownColumn[]): ReadonlyMap<string, StandingColumns> {
  const tables = new Map<string, Map<string, KnownColumn["type"]>>();
  for (const { table, name, type } of known)
    tables.set(table, (tables.get(table) ?? new Map()).set(name, type));
  return tables;
}

/** Makes tables without rows, where they are not there. */
export async function makeEmpty(
  on: SqlConnection,
  schema: string,
  tables: ReadonlyMap<string, StandingColumns>,
): Promise<void> {
  if (tables.size > 0) await on.run(DUCKDB.makeSchema(schema));
  for (const [table, columns] of tables) {
    const named = [...withOwn(columns)].map(([name, type]) => `${quoteName(name)} ${sqlType(type)}`);
    await on.run(`CREATE TABLE IF NOT EXISTS ${tableName(schema, table)} (${named.join(", ")})`);
  }
}

/** What rows are read back from, and into. */
export interface ReadBack {
  readonly store: Store;
  readonly writer: TableWriter;
  /** a folder of this machine */
  readonly scratch: string;
  readonly tables: ReadonlyMap<string, StandingColumns>;
}

/** Reads the rows that a stream's next ones are compared with. @throws BridgeError WAREHOUSE_FAILED */
export async function fill(on: SqlConnection, options: LoadOptions, back: ReadBack): Promise<void> {
  const { writer, tables } = back;
  if (writer.isFilled(options)) return;
  const files = await filesOf(on, options);
  for (const [table, columns] of tables) {
    const own = files.filter((file) => file.table === table);
    const kept = own.filter(({ isKept }) => isKept);
    // what came beside other rows, and has no key, is not looked at again
    const from = kept.length > 0 || comesBeside(options) ? kept : own;
    for (const file of from) await readFile(on, options.schema, columns, file, back);
    writer.stands(
      options,
      table,
      from.reduce((sum, { rows }) => sum + rows, 0),
    );
  }
  writer.fill(options);
}

async function readFile(
  on: SqlConnection,
  schema: string,
  columns: StandingColumns,
  file: TableFile,
  { store, scratch }: ReadBack,
): Promise<void> {
  const { root } = store;
  const fetched = root === undefined ? join(scratch, `${randomBytes(8).toString("hex")}.parquet`) : undefined;
  const path = fetched ?? join(root!, file.path);
  const now = withOwn(columns);
  const cells = [...file.columns].flatMap(([name, was]) => {
    const is = now.get(name);
    if (is === undefined) return [];
    const cell = sameType(was, is) ? quoteName(name) : DUCKDB.widened(name, was, is);
    return [`${cell} AS ${quoteName(name)}`];
  });
  try {
    if (fetched !== undefined) await store.fetch(file.path, fetched);
    const from = `read_parquet(${quoteText(path)})`;
    await on.run(
      `INSERT INTO ${tableName(schema, file.table)} BY NAME SELECT ${cells.join(", ")} FROM ${from}`,
    );
    const [row] = await on.rows(`SELECT count(*) AS n FROM ${from}`);
    if (Number(row?.n) !== file.rows) throw new Error(`it has ${row?.n} rows, and should have ${file.rows}`);
  } catch (cause) {
    const is = cause instanceof Error ? cause.message : String(cause);
    const why = /no files found|ENOENT/i.test(is) ? "it is gone" : is;
    throw new BridgeError("WAREHOUSE_FAILED", `The rows of ${file.path} cannot be read back: ${why}.`, {
      where: { table: `${schema}.${file.table}` },
      hint: `Bring the file back, or let the stream begin anew: early-bridge rewind ${file.bridge} ${file.stream} --anew.`,
      cause,
    });
  } finally {
    if (fetched !== undefined) await rm(fetched, { force: true });
  }
}
