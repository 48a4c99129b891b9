/**
 * The warehouse that the conformance suite runs over: DuckDB files, with declared keys or without, databases of a
 * server, or folders of Parquet files.
 * A test names a path; what it reads is always the DuckDB file there, made anew of the other one's tables where these
 * are meant.
 */

import { existsSync, rmSync } from "node:fs";
import { DuckDBInstance } from "@duckdb/node-api";
import pLimit from "p-limit";
import { duckdb } from "../../src/warehouse/duckdb/index.js";
import { folder } from "../../src/warehouse/files/index.js";
import type { Warehouse } from "../../src/warehouse/warehouse.js";
import { readFolder } from "./files.js";
import { MARIADB_SERVER, MYSQL_SERVER } from "./mysql.js";
import { POSTGRES_SERVER } from "./postgres.js";
import type { CopiedTable, Query, TestServer } from "./test-server.js";

const SERVERS: Readonly<Record<string, TestServer>> = {
  postgres: POSTGRES_SERVER,
  mariadb: MARIADB_SERVER,
  mysql: MYSQL_SERVER,
};

const meant = process.env.EARLY_BRIDGE_TEST_WAREHOUSE ?? "";
/** undefined: files */
const server = SERVERS[meant];
export const isFolders = meant === "files";
const declareKeys = meant === "keys";
export const theServer = server ?? POSTGRES_SERVER;
export const isServer = server !== undefined;
export const isPostgres = server === POSTGRES_SERVER;
const folderOf = (path: string) => `${path}.files`;
const made = new Map<string, Promise<string>>();

function addressOf(path: string): Promise<string> {
  const url = made.get(path) ?? server!.fresh();
  made.set(path, url);
  return url;
}

/** The warehouse for a path. */
export function warehouseAt(path: string): Warehouse {
  if (isFolders) return folder(folderOf(path));
  if (server === undefined) return duckdb(path, { declareKeys });
  return {
    title: server.title,
    grants: () => "",
    open: async (options) => server.warehouse(await addressOf(path)).open(options),
  };
}

/** Runs a statement in the database for a path. */
export const onWarehouse = async (path: string, statement: string) =>
  server!.connected(await addressOf(path), (query) => query(statement));

/** A query over `huts` as it is written for the warehouse of a path. */
export const namedFor = async (path: string, query: string) =>
  server === undefined ? query : server.named(await addressOf(path), query);

/** The warehouse for a path as a project names it, and what stands in the project's .env for it. */
export async function warehouseEntry(path: string) {
  if (isFolders) return { entry: { folder: folderOf(path) }, env: "" };
  if (server === undefined)
    return { entry: { duckdb: path, ...(declareKeys && { declare_keys: true }) }, env: "" };
  return { entry: { [server.key]: "$WAREHOUSE_URL" }, env: `WAREHOUSE_URL=${await addressOf(path)}\n` };
}

const turns = pLimit(1);

/** Reads the file at a path, with the server's tables for the path in it, where these are meant. */
export async function upToDate<T>(path: string, read: () => Promise<T>): Promise<T> {
  const url = await made.get(path);
  if (isFolders && existsSync(folderOf(path)))
    return turns(async () => {
      await readFolder(folderOf(path), path);
      return read();
    });
  if (url === undefined) return read();
  return turns(async () => {
    await server!.connected(url, async (query) => copyTables(await server!.tables(query, url), query, path));
    return read();
  });
}

async function copyTables(tables: readonly CopiedTable[], query: Query, path: string): Promise<void> {
  rmSync(path, { force: true });
  rmSync(`${path}.wal`, { force: true });
  const instance = await DuckDBInstance.create(path);
  const connection = await instance.connect();
  await connection.run("SET TimeZone = 'UTC'");
  for (const { schema, name, columns, query: rowsQuery } of tables) {
    const table = `"${schema}"."${name}"`;
    const named = columns.map((column) => `"${column.name.replaceAll('"', '""')}" ${column.type}`);
    await connection.run(`CREATE SCHEMA IF NOT EXISTS "${schema}"`);
    await connection.run(`CREATE TABLE ${table} (${named.join(", ")})`);
    const cells = columns.map(({ type }, i) =>
      type === "BLOB" ? `unhex(each[${i + 1}])` : `each[${i + 1}]`,
    );
    const texts = (await query(rowsQuery)).map((row) =>
      columns.map((column) => {
        const value = row[column.name] ?? null;
        return column.type === "JSON" && typeof value === "string" ? server!.json(value) : value;
      }),
    );
    await connection.run(
      `INSERT INTO ${table} SELECT ${cells.join(", ")} FROM (SELECT unnest(from_json($1::JSON, '[["VARCHAR"]]')) AS each)`,
      [JSON.stringify(texts)],
    );
  }
  connection.closeSync();
  instance.closeSync();
}
