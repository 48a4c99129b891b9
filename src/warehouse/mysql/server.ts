/** A warehouse in a server that speaks the protocol of MariaDB and MySQL. */

import { createHash } from "node:crypto";
import type { WarehouseNeeds } from "../../core/into/warehouse-needs.js";
import type { SqlDialect } from "../sql/dialect.js";
import { LEDGER_SCHEMA, ledgerSchema } from "../sql/ledger-schema.js";
import { openServer, type ServerKind } from "../sql/server-session.js";
import { StraightRows, StraightTable } from "../sql/straight-table.js";
import { NEXT_PREFIX } from "../sql/swap.js";
import type { Warehouse, WarehouseFacts } from "../warehouse.js";
import { connectTo, type MysqlConnection, placeOf } from "./connection.js";
import { mysqlDialect } from "./dialect.js";
import type { ServerMake } from "./make.js";
import { columnsOf, makeDue, primaryKeyOf, tablePlaces, tidyTables } from "./places.js";
import { type LoadWay, StageTable } from "./stage.js";
import { straightFeed } from "./straight-feed.js";
import { userTable } from "./user-tables.js";

/** @throws BridgeError when opened: URL_INVALID, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER */
export function serverAt(make: ServerMake, url: string): Warehouse {
  return {
    title: placeOf(make, url),
    grants: (needs) => grantsFor(needs, url),
    open: (options = {}) => openServer(kindOf(make, url), options),
  };
}

/** What the address puts before the names of databases. */
function prefixOf(url: string): string {
  const name = URL.canParse(url) ? decodeURIComponent(new URL(url).pathname.slice(1)) : "";
  return name === "" ? "" : `${name}_`;
}

const PRIVILEGES =
  "SELECT, INSERT, UPDATE, DELETE, CREATE, ALTER, DROP, INDEX, CREATE TEMPORARY TABLES, CREATE VIEW, SHOW VIEW";

function grantsFor({ schema, userTables }: WarehouseNeeds, url: string): string {
  const user = (URL.canParse(url) && decodeURIComponent(new URL(url).username)) || "bridge";
  const role = `'${user.replaceAll("'", "''")}'@'%'`;
  const databases = [LEDGER_SCHEMA, ...(schema === undefined ? [] : [schema])].map(
    (each) => prefixOf(url) + each,
  );
  return [
    "-- as an administrator of the server",
    ...databases.map((each) => `CREATE DATABASE IF NOT EXISTS \`${each}\` CHARACTER SET utf8mb4;`),
    // a name in a grant is a pattern
    ...databases.map((each) => `GRANT ${PRIVILEGES} ON \`${each.replaceAll("_", "\\_")}\`.* TO ${role};`),
    ...userTables.map(
      (each) =>
        `GRANT ${each.rights.join(", ")} ON \`${prefixOf(url)}${each.schema}\`.\`${each.table.replaceAll("`", "``")}\` TO ${role};`,
    ),
  ].join("\n");
}

/** Names of locks have up to 64 signs; they are the server's, whatever the database. */
function lockName(prefix: string, of: string): string {
  return `early_bridge ${createHash("sha256").update(`${prefix} ${of}`).digest("hex").slice(0, 32)}`;
}

function kindOf(make: ServerMake, url: string): ServerKind<MysqlConnection> {
  const prefix = prefixOf(url);
  const sql = mysqlDialect(make, prefix);
  const way: LoadWay = { make, isRefused: false };
  const ledgerLock = lockName(prefix, "ledger");
  const bridgeLock = (bridge: string) => lockName(prefix, `bridge ${bridge}`);
  return {
    sql,
    connect: (readOnly) => connectTo(make, url, readOnly),
    // all names are whole; the server wants a database to be chosen for some statements all the same
    settle: (on) => on.run(`USE ${ledgerSchema(sql)}`),
    locks: {
      take: `SELECT get_lock('${ledgerLock}', 60)`,
      release: `SELECT release_lock('${ledgerLock}')`,
      releaseAll: "DO release_all_locks()",
    },
    claim: async (on, bridge) => {
      const [row] = await on.rows("SELECT get_lock($1, 0) AS is_free", [bridgeLock(bridge)]);
      return String(row?.is_free) === "1";
    },
    release: (on, bridge) => on.run("SELECT release_lock($1)", [bridgeLock(bridge)]),
    prepare: (on) => on.run(makeDue(sql)),
    stagesOn: (on) => {
      const group = new StraightRows(on, (into, schema) => straightFeed(sql, on, into, schema));
      return (number, table, { straight }) => {
        const stage = new StageTable(sql, on, way, sql.tableName(LEDGER_SCHEMA, `stage_${number}`), table);
        return new StraightTable(group, stage, straight);
      };
    },
    straight: {
      // by stages each row is written twice: it is soon to be known whether it has to
      learnsSoon: true,
      primaryKey: async (on, schema, table) =>
        way.isRefused ? undefined : primaryKeyOf(sql, on, schema, table),
    },
    tidy: (on, of) => tidyTables(sql, on, of),
    places: tablePlaces(sql),
    columns: (on, schema, wanted) => columnsOf(sql, on, schema, wanted),
    userTable: (on, schema, name) => userTable(sql, on, schema, name),
    asText: (column) => `CAST(${column} AS CHAR)`,
    about: (on) => about(make, on, url),
    tryWriting: (on, schema) => tryWriting(sql, on, schema),
  };
}

async function about({ title }: ServerMake, on: MysqlConnection, url: string): Promise<WarehouseFacts> {
  const [row] = await on.rows("SELECT version() AS version");
  const [tls] = await on.rows("SHOW SESSION STATUS LIKE 'Ssl_version'");
  const { hostname, searchParams } = new URL(url);
  const isHere = /^(?:|localhost|127\.[\d.]+|\[::1\])$/.test(hostname);
  const plain = searchParams.has("socket") ? "socket" : isHere ? "loopback" : undefined;
  const program = `${title} ${String(row?.version).split("-")[0]}`;
  return { program, way: String(tls?.Value ?? "") || plain };
}

async function tryWriting(sql: SqlDialect, on: MysqlConnection, schema: string): Promise<void> {
  const table = sql.tableName(schema, `${NEXT_PREFIX}probe`);
  const stage = sql.tableName(LEDGER_SCHEMA, "stage_probe");
  for (const statement of [
    sql.makeSchema(schema),
    `DROP TABLE IF EXISTS ${table}`,
    `CREATE TABLE ${table} (id BIGINT)`,
    `INSERT INTO ${table} VALUES (1)`,
    `CREATE TEMPORARY TABLE ${stage} (id BIGINT)`,
    `DROP TEMPORARY TABLE ${stage}`,
    `DROP TABLE ${table}`,
  ])
    await on.run(statement);
}
