/** Databases of a PostgreSQL server. */

import { randomUUID } from "node:crypto";
import pg from "pg";
import { inject } from "vitest";
import { postgres } from "../../src/warehouse/postgres/index.js";
import { TEST_DATABASES } from "./own-postgres.js";
import type { CopiedTable, Query, TestServer } from "./test-server.js";

/** A user who may make databases; tests make their own. */
export const SERVER = inject("server") ?? "";

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

const TYPES: Readonly<Record<string, string>> = {
  "double precision": "DOUBLE",
  text: "VARCHAR",
  "character varying": "VARCHAR",
  "timestamp with time zone": "TIMESTAMPTZ",
  "timestamp without time zone": "TIMESTAMP",
  bytea: "BLOB",
  jsonb: "JSON",
};

async function tables(query: Query): Promise<CopiedTable[]> {
  const found = await query(
    `SELECT n.nspname AS schema, c.relname AS name, c.relkind = 'r' AS has_ctid, a.attname AS column, format_type(a.atttypid, a.atttypmod) AS type
     FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
     JOIN pg_attribute AS a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attname <> 'rowid'
     WHERE c.relkind IN ('r', 'v') AND n.nspname !~ '^(pg_|information_schema)' ORDER BY n.nspname, c.relname, a.attnum`,
  );
  const table = (each: (typeof found)[number]) => `"${each.schema}"."${each.name}"`;
  return [...new Set(found.map(table))].map((full) => {
    const own = found.filter((each) => table(each) === full);
    const columns = own.map(({ column, type }) => ({
      name: String(column),
      type: TYPES[String(type)] ?? String(type).replace("numeric", "DECIMAL"),
    }));
    const [first] = own;
    return {
      schema: String(first!.schema),
      name: String(first!.name),
      columns,
      query: `SELECT ${columns.map(hexBytes).join(", ")} FROM ${full}${first!.has_ctid === true ? " ORDER BY ctid" : ""}`,
    };
  });
}

function hexBytes({ name, type }: CopiedTable["columns"][number]): string {
  const quoted = `"${name.replaceAll('"', '""')}"`;
  return type === "BLOB" ? `encode(${quoted}, 'hex') AS ${quoted}` : quoted;
}

export const POSTGRES_SERVER: TestServer = {
  title: "PostgreSQL",
  key: "postgres",
  warehouse: postgres,
  fresh: freshDatabase,
  connected,
  named: (_, statement) => statement,
  tables,
  // JSONB writes all digits of a number: those of 1e200 are 201. JSON.parse gives the same number for both.
  json: (text) =>
    text.replace(/"(?:[^"\\]|\\.)*"|-?\d+(?:\.\d+)?/g, (part) =>
      part.startsWith('"') || part.length < 25 ? part : String(Number(part)),
    ),
};
