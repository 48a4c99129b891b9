/** Databases of a MariaDB or MySQL server: each test's have a prefix of their own. */

import { randomUUID } from "node:crypto";
import driver from "mysql2/promise";
import { inject } from "vitest";
import { mysql } from "../../src/warehouse/mysql/index.js";
import { mariadb } from "../../src/warehouse/mysql/mariadb.js";
import { TEST_DATABASES } from "./own-postgres.js";
import type { CopiedTable, Query, TestServer } from "./test-server.js";

/** A user who may do everything. */
export const SERVER = inject("server") ?? "";

/** An address whose databases are its own. */
export async function freshPrefix() {
  return Object.assign(new URL(SERVER), { pathname: `/${TEST_DATABASES}${randomUUID().slice(0, 8)}` }).href;
}

const prefixOf = (url: string) => `${new URL(url).pathname.slice(1)}_`;

const named = (url: string, statement: string) =>
  statement.replace(/\b(huts|house|early_bridge)\./g, `"${prefixOf(url)}$1".`);

/** Values are texts; `huts.s` in a statement is a table of the test's own. */
async function connected<T>(url: string, work: (query: Query) => Promise<T>): Promise<T> {
  const { hostname, port, username, password } = new URL(url);
  const connection = await driver.createConnection({
    ...{ host: hostname, port: Number(port || 3306), user: username, password },
    charset: "utf8mb4_bin",
    typeCast: (field) => {
      const text = field.string();
      return field.type === "TINY" && field.length === 1 && text !== null ? text === "1" : text;
    },
  });
  await connection.query("SET sql_mode = 'ANSI_QUOTES,PIPES_AS_CONCAT', time_zone = '+00:00'");
  try {
    return await work(async (statement) => {
      const [rows] = await connection.query(named(url, statement));
      return Array.isArray(rows) ? (rows as Record<string, unknown>[]) : [];
    });
  } finally {
    await connection.end();
  }
}

/** Runs a statement on the server. */
export const onMysql = (url: string, statement: string) => connected(url, (query) => query(statement));

/** By the ledger's types, for the server has one type for several of them. */
function copiedType(type: string, known: string | undefined): string {
  if (type === "tinyint(1)") return "BOOLEAN";
  if (type === "longblob") return "BLOB";
  if (type === "char(36)") return "UUID";
  if (type.startsWith("datetime")) return known === "local_timestamp" ? "TIMESTAMP" : "TIMESTAMPTZ";
  if (type.endsWith("text")) return known === "json" ? "JSON" : "VARCHAR";
  return type.replace(/^(bigint|int)\(\d+\)$/, "$1").toUpperCase();
}

async function tables(query: Query, url: string): Promise<CopiedTable[]> {
  const prefix = prefixOf(url);
  const found = await query(
    `SELECT c.table_schema AS "schema", c.table_name AS name, c.column_name AS "column", c.column_type AS type
     FROM information_schema.columns AS c WHERE c.table_schema LIKE '${prefix.replaceAll("_", "\\_")}%'
       AND c.table_name <> 'places_due' ORDER BY c.table_schema, c.table_name, c.ordinal_position`,
  );
  const hasLedger = found.some(
    ({ schema, name }) => schema === `${prefix}early_bridge` && name === "columns",
  );
  const known = hasLedger
    ? await query(
        "SELECT concat(table_schema, '.', table_name, '.', column_name) AS id, type FROM early_bridge.columns",
      )
    : [];
  const types = new Map(known.map(({ id, type }) => [id, String(type)]));
  const table = (each: (typeof found)[number]) => `"${each.schema}"."${each.name}"`;
  return [...new Set(found.map(table))].map((full) => {
    const all = found.filter((each) => table(each) === full);
    const schema = String(all[0]!.schema).slice(prefix.length);
    const name = String(all[0]!.name);
    const columns = all
      .filter(({ column }) => column !== "rowid")
      .map(({ column, type }) => ({
        name: String(column),
        type: copiedType(String(type), types.get(`${schema}.${name}.${column}`)),
      }));
    const order = all.some(({ column }) => column === "rowid") ? " ORDER BY rowid" : "";
    return {
      schema,
      name,
      columns,
      query: `SELECT ${columns.map(hexBytes).join(", ")} FROM ${full}${order}`,
    };
  });
}

function hexBytes({ name, type }: CopiedTable["columns"][number]): string {
  const quoted = `"${name.replaceAll('"', '""')}"`;
  return type === "BLOB" ? `hex(${quoted}) AS ${quoted}` : quoted;
}

const serverOf = (title: string, key: string, warehouse: TestServer["warehouse"]): TestServer => ({
  title,
  key,
  warehouse,
  fresh: freshPrefix,
  connected,
  named,
  tables,
  json: (text) => text,
});

export const MARIADB_SERVER = serverOf("MariaDB", "mariadb", mariadb);
export const MYSQL_SERVER = serverOf("MySQL", "mysql", mysql);
