/** The PostgreSQL warehouse: `postgres("postgres://user@host/database")`. */

import { randomBytes } from "node:crypto";
import type { WarehouseNeeds } from "../../core/into/warehouse-needs.js";
import type { SqlRow } from "../sql/dialect.js";
import { textOrNothing } from "../sql/ledger-rows.js";
import { LEDGER_SCHEMA } from "../sql/ledger-schema.js";
import { openServer, type ServerKind } from "../sql/server-session.js";
import { StraightRows, StraightTable } from "../sql/straight-table.js";
import { NEXT_PREFIX } from "../sql/swap.js";
import type { Warehouse, WarehouseFacts } from "../warehouse.js";
import { connectTo, type PostgresConnection, placeOf } from "./connection.js";
import { POSTGRES, quoteName } from "./dialect.js";
import { StageTable } from "./stage.js";
import { learnTables } from "./statistics.js";
import { straightFeed } from "./straight-feed.js";
import { userTable } from "./user-tables.js";

/**
 * Tables in a PostgreSQL database, from version 13 on. The address is a connection URI as PostgreSQL has it (libpq,
 * "Connection URIs"); `sslmode=verify-full` has the server's certificate checked.
 * @throws BridgeError when opened: URL_INVALID, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER
 */
export function postgres(url: string): Warehouse {
  return {
    title: placeOf(url),
    grants: (needs) => grantsFor(needs, url),
    open: (options = {}) => openServer(kindOf(url), options),
  };
}

function grantsFor({ schema, userTables }: WarehouseNeeds, url: string): string {
  const user =
    URL.canParse(url) && new URL(url).username !== "" ? decodeURIComponent(new URL(url).username) : "bridge";
  const database = URL.canParse(url) ? decodeURIComponent(new URL(url).pathname.slice(1)) : "warehouse";
  const role = quoteName(user);
  const schemas = [LEDGER_SCHEMA, ...(schema === undefined ? [] : [quoteName(schema)])];
  const inUse = new Set(userTables.map((each) => each.schema).filter((each) => each !== schema));
  return [
    `-- as the owner of the database; ${user} then makes and owns all tables of the bridge`,
    `GRANT CONNECT, TEMPORARY ON DATABASE ${quoteName(database)} TO ${role};`,
    ...schemas.map((each) => `CREATE SCHEMA IF NOT EXISTS ${each} AUTHORIZATION ${role};`),
    ...[...inUse].map((each) => `GRANT USAGE ON SCHEMA ${quoteName(each)} TO ${role};`),
    ...userTables.map(
      (each) =>
        `GRANT ${each.rights.join(", ")} ON ${POSTGRES.tableName(each.schema, each.table)} TO ${role};`,
    ),
  ].join("\n");
}

const LEDGER_LOCK = "hashtextextended('early_bridge ledger', 0)";
const BRIDGE_LOCK = "hashtextextended('early_bridge ' || $1::TEXT, 0)";

const kindOf = (url: string): ServerKind<PostgresConnection> => ({
  sql: POSTGRES,
  connect: (readOnly) => connectTo(url, readOnly),
  locks: {
    take: `SELECT pg_advisory_lock(${LEDGER_LOCK})`,
    release: `SELECT pg_advisory_unlock(${LEDGER_LOCK})`,
    releaseAll: "SELECT pg_advisory_unlock_all()",
  },
  claim: async (on, bridge) => {
    const [row] = await on.rows(`SELECT pg_try_advisory_lock(${BRIDGE_LOCK}) AS is_free`, [bridge]);
    return row?.is_free === true;
  },
  release: (on, bridge) => on.run(`SELECT pg_advisory_unlock(${BRIDGE_LOCK})`, [bridge]),
  stagesOn: (on) => {
    const group = new StraightRows(on, (into, schema) => straightFeed(on, into, schema));
    return (number, table, { mayBecome = false, straight }) => {
      if (!mayBecome)
        return new StraightTable(group, new StageTable(on, `stage_${number}`, table, false), straight);
      // names of what is no temporary table are those of all processes
      return new StageTable(on, `stage_${randomBytes(6).toString("hex")}_${number}`, table, true);
    };
  },
  straight: { learnsSoon: false, primaryKey },
  tidy: learnTables,
  columns: async (on, schema, { withViews = false, tables }) => {
    const kinds = withViews ? "('r', 'p', 'v')" : "('r', 'p')";
    const names = tables?.map((_, i) => `$${i + 2}`).join(", ");
    const rows = await on.rows(
      `SELECT c.relname AS table_name, a.attname AS name, format_type(a.atttypid, a.atttypmod) AS type
       FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
       JOIN pg_attribute AS a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
       WHERE n.nspname = $1 AND c.relkind IN ${kinds} ${names === undefined ? "" : `AND c.relname IN (${names})`}
       ORDER BY c.relname, a.attnum`,
      [schema, ...(tables ?? [])],
    );
    return rows.map(({ table_name, name, type }) => ({
      table: String(table_name),
      name: String(name),
      type: String(type),
    }));
  },
  userTable,
  asText: (column) => `${column}::TEXT`,
  about,
  tryWriting,
});

async function primaryKey(on: PostgresConnection, schema: string, table: string): Promise<string[]> {
  const parts = await on.rows(
    `SELECT a.attname AS name FROM pg_index AS i JOIN pg_class AS c ON c.oid = i.indrelid
     JOIN pg_namespace AS n ON n.oid = c.relnamespace CROSS JOIN unnest(i.indkey) WITH ORDINALITY AS k(number, place)
     JOIN pg_attribute AS a ON a.attrelid = c.oid AND a.attnum = k.number
     WHERE n.nspname = $1 AND c.relname = $2 AND i.indisprimary AND i.indisvalid AND i.indimmediate ORDER BY k.place`,
    [schema, table],
  );
  return parts.map(({ name }) => String(name));
}

async function about(on: PostgresConnection): Promise<WarehouseFacts> {
  const [row] = await on.rows(
    `SELECT current_setting('server_version') AS version, inet_server_addr() IS NULL AS by_socket,
       inet_server_addr() = inet_client_addr() AS is_here,
       (SELECT version FROM pg_stat_ssl WHERE pid = pg_backend_pid() AND ssl) AS tls`,
  );
  // packages write more behind it
  const version = String(row?.version).split(" ")[0];
  return { program: `PostgreSQL ${version}`, way: textOrNothing(row?.tls) ?? plainWay(row) };
}

function plainWay(row: SqlRow | undefined): string | undefined {
  if (row?.by_socket === true) return "socket";
  return row?.is_here === true ? "loopback" : undefined;
}

async function tryWriting(on: PostgresConnection, schema: string): Promise<void> {
  const table = POSTGRES.tableName(schema, `${NEXT_PREFIX}probe`);
  await on.run("BEGIN");
  try {
    await on.run(POSTGRES.makeSchema(schema));
    await on.run(`CREATE TABLE ${table} (id BIGINT)`);
    await on.run(`INSERT INTO ${table} VALUES (1)`);
    await on.run("CREATE TEMPORARY TABLE eb_probe (id BIGINT) ON COMMIT DROP");
  } finally {
    await on.run("ROLLBACK");
  }
}
