/**
 * The warehouse that the conformance suite runs over: DuckDB files, or databases of a PostgreSQL server. A test names a
 * path; what it reads is always the DuckDB file there, made anew of the server's tables where these are meant.
 */

import { randomUUID } from "node:crypto";
import { rmSync } from "node:fs";
import { DuckDBInstance } from "@duckdb/node-api";
import pLimit from "p-limit";
import pg from "pg";
import { inject } from "vitest";
import { duckdb } from "../../src/warehouse/duckdb/index.js";
import { postgres } from "../../src/warehouse/postgres/index.js";
import type { Warehouse } from "../../src/warehouse/warehouse.js";
import { TEST_DATABASES } from "./own-postgres.js";

/** A user who may make databases; tests make their own. */
export const SERVER = inject("postgres") ?? "";
export const isServer = process.env.EARLY_BRIDGE_TEST_WAREHOUSE === "postgres";
const made = new Map<string, Promise<string>>();

type Query = (statement: string) => Promise<Record<string, unknown>[]>;

/** Works on the server by one connection; values are texts, booleans as such. */
async function connected<T>(url: string, work: (query: Query) => Promise<T>): Promise<T> {
  const types = { getTypeParser: (oid: number) => (text: string) => (oid === 16 ? text === "t" : text) };
  const client = new pg.Client({ connectionString: url, types: types as pg.CustomTypesConfig });
  await client.connect();
  try {
    return await work(async (statement) => (await client.query(statement)).rows);
  } finally {
    await client.end();
  }
}

/** Runs a statement on the server. */
export const onServer = (url: string, statement: string) => connected(url, (query) => query(statement));

/** An empty database of its own. */
export async function freshDatabase() {
  const database = `${TEST_DATABASES}${randomUUID().replaceAll("-", "")}`;
  await connected(SERVER, async (query) => {
    await query(`CREATE DATABASE ${database}`);
    // a test need not outlive its machine
    await query(`ALTER DATABASE ${database} SET synchronous_commit = off`);
  });
  const url = new URL(SERVER);
  url.pathname = `/${database}`;
  return url.href;
}

function databaseOf(path: string): Promise<string> {
  const url = made.get(path) ?? freshDatabase();
  made.set(path, url);
  return url;
}

/** The warehouse for a path. */
export function warehouseAt(path: string): Warehouse {
  if (!isServer) return duckdb(path);
  return {
    title: "PostgreSQL",
    grants: (schema) => postgres(SERVER).grants(schema),
    open: async (options) => postgres(await databaseOf(path)).open(options),
  };
}

/** Runs a statement in the database for a path. */
export const onWarehouse = async (path: string, statement: string) =>
  onServer(await databaseOf(path), statement);

/** The warehouse for a path as a project names it, and what stands in the project's .env for it. */
export async function warehouseEntry(path: string) {
  if (!isServer) return { entry: { duckdb: path }, env: "" };
  return { entry: { postgres: "$WAREHOUSE_URL" }, env: `WAREHOUSE_URL=${await databaseOf(path)}\n` };
}

const TYPES: Readonly<Record<string, string>> = {
  boolean: "BOOLEAN",
  bigint: "BIGINT",
  integer: "INTEGER",
  "double precision": "DOUBLE",
  text: "VARCHAR",
  "character varying": "VARCHAR",
  date: "DATE",
  "timestamp with time zone": "TIMESTAMPTZ",
  "timestamp without time zone": "TIMESTAMP",
  uuid: "UUID",
  bytea: "BLOB",
  jsonb: "JSON",
  json: "JSON",
};

/** JSONB writes all digits of a number: those of 1e200 are 201. JSON.parse gives the same number for both. */
function withExponents(json: unknown): unknown {
  if (typeof json !== "string") return json;
  return json.replace(/"(?:[^"\\]|\\.)*"|-?\d+(?:\.\d+)?/g, (part) =>
    part.startsWith('"') || part.length < 25 ? part : String(Number(part)),
  );
}

const turns = pLimit(1);

/** Reads the file at a path, with the server's tables for the path in it, where these are meant. */
export async function upToDate<T>(path: string, read: () => Promise<T>): Promise<T> {
  const url = await made.get(path);
  if (url === undefined) return read();
  return turns(async () => {
    await connected(url, (query) => copyTables(query, path));
    return read();
  });
}

async function copyTables(query: Query, path: string): Promise<void> {
  rmSync(path, { force: true });
  rmSync(`${path}.wal`, { force: true });
  const columns = await query(
    `SELECT n.nspname AS schema, c.relname AS name, c.relkind = 'r' AS has_ctid, a.attname AS column, format_type(a.atttypid, a.atttypmod) AS type
     FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
     JOIN pg_attribute AS a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attname <> 'rowid'
     WHERE c.relkind IN ('r', 'v') AND n.nspname !~ '^(pg_|information_schema)' ORDER BY n.nspname, c.relname, a.attnum`,
  );
  const instance = await DuckDBInstance.create(path);
  const connection = await instance.connect();
  await connection.run("SET TimeZone = 'UTC'");
  for (const table of new Set(columns.map(({ schema, name }) => `"${schema}"."${name}"`))) {
    const own = columns.filter(({ schema, name }) => `"${schema}"."${name}"` === table);
    const typeOf = (type: unknown) => TYPES[String(type)] ?? String(type).replace("numeric", "DECIMAL");
    const named = own.map(({ column, type }) => `"${String(column).replaceAll('"', '""')}" ${typeOf(type)}`);
    await connection.run(`CREATE SCHEMA IF NOT EXISTS "${own[0]!.schema}"`);
    await connection.run(`CREATE TABLE ${table} (${named.join(", ")})`);
    const rows = await query(`SELECT * FROM ${table}${own[0]!.has_ctid === true ? " ORDER BY ctid" : ""}`);
    const cells = own.map(({ type }, i) =>
      type === "bytea" ? `unhex(each[${i + 1}][3:])` : `each[${i + 1}]`,
    );
    const texts = rows.map((row) =>
      own.map(({ column, type }) => {
        const value = row[String(column)] ?? null;
        return type === "jsonb" ? withExponents(value) : value;
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
