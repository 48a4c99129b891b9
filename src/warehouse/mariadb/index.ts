/** The MariaDB warehouse: `mariadb("mariadb://user@host")`. */

import { createHash } from "node:crypto";
import pLimit, { type LimitFunction } from "p-limit";
import { BridgeError } from "../../core/errors.js";
import type { NameRules } from "../../core/shape/naming.js";
import type { SqlDialect } from "../sql/dialect.js";
import { type BridgeClaims, SqlLedger } from "../sql/ledger.js";
import { LEDGER_SCHEMA, ledgerSchema } from "../sql/ledger-schema.js";
import { type LoadPorts, SqlLoad } from "../sql/load.js";
import type { StageSet } from "../sql/stage.js";
import { standingOf } from "../sql/standing.js";
import { NEXT_PREFIX } from "../sql/swap.js";
import { checkViews, makeViews } from "../sql/views.js";
import type {
  LoadOptions,
  SampleRow,
  StreamLoad,
  StreamPlace,
  TableView,
  ViewOutcome,
  ViewPlace,
  ViewQueries,
  Warehouse,
  WarehouseSession,
} from "../warehouse.js";
import { connectTo, type MariaConnection, placeOf } from "./connection.js";
import { mariadbDialect, quoteName } from "./dialect.js";
import { makeDue, tablePlaces, tablesOf, tidySchema } from "./places.js";
import { type LoadWay, StageTable } from "./stage.js";

const NAMES: NameRules = { maxBytes: 63 };
/** so many connections are kept for the next checkpoints */
const MOST_KEPT = 8;

/**
 * Tables in a MariaDB server, from version 10.6 on; a schema is a database there. A name in the address is put before
 * those of the databases: `mariadb://bridge@db.huts.example/team` makes `team_early_bridge`, `team_bookings`, ….
 * `ssl-mode=verify_identity` has the server's certificate checked.
 * @throws BridgeError when opened: URL_INVALID, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER
 */
export function mariadb(url: string): Warehouse {
  return {
    title: placeOf(url),
    grants: (schema) => grantsFor(schema, url),
    open: ({ readOnly = false } = {}) => openServer(url, readOnly),
  };
}

/** What the address puts before the names of databases. */
function prefixOf(url: string): string {
  const name = URL.canParse(url) ? decodeURIComponent(new URL(url).pathname.slice(1)) : "";
  return name === "" ? "" : `${name}_`;
}

function grantsFor(schema: string, url: string): string {
  const user = (URL.canParse(url) && decodeURIComponent(new URL(url).username)) || "bridge";
  const role = `'${user.replaceAll("'", "''")}'@'%'`;
  const databases = [LEDGER_SCHEMA, schema].map((each) => prefixOf(url) + each);
  return [
    "-- as an administrator of the server",
    ...databases.map((each) => `CREATE DATABASE IF NOT EXISTS \`${each}\` CHARACTER SET utf8mb4;`),
    // a name in a grant is a pattern
    ...databases.map((each) => `GRANT ${PRIVILEGES} ON \`${each.replaceAll("_", "\\_")}\`.* TO ${role};`),
  ].join("\n");
}

const PRIVILEGES =
  "SELECT, INSERT, UPDATE, DELETE, CREATE, ALTER, DROP, INDEX, CREATE TEMPORARY TABLES, CREATE VIEW, SHOW VIEW";

async function openServer(url: string, readOnly: boolean): Promise<WarehouseSession> {
  const sql = mariadbDialect(prefixOf(url));
  const writing = await connectTo(url, readOnly);
  const turns = pLimit(1);
  const ledger = new SqlLedger(sql, writing, (work) => turns(work), claimsOf(writing, turns, prefixOf(url)));
  const lock = lockName(prefixOf(url), "ledger");
  try {
    await writing.run("SELECT get_lock($1, 60)", [lock]);
    await ledger.prepare(readOnly);
    if (!readOnly) await writing.run(makeDue(sql));
    await writing.run("SELECT release_lock($1)", [lock]);
    await writing.run(useLedger(sql));
  } catch (error) {
    await writing.close();
    throw error;
  }
  return new MariaSession({ url, readOnly }, sql, writing, ledger, turns);
}

/** All names are whole; the server wants a database to be chosen for some statements all the same. */
const useLedger = (sql: SqlDialect) => `USE ${ledgerSchema(sql)}`;

/** Names of locks have up to 64 signs. */
function lockName(prefix: string, of: string): string {
  return `early_bridge ${createHash("sha256").update(`${prefix} ${of}`).digest("hex").slice(0, 32)}`;
}

/** A lock of the connection: it is gone with the process, however that ends. */
function claimsOf(connection: MariaConnection, turns: LimitFunction, prefix: string): BridgeClaims {
  const name = (bridge: string) => lockName(prefix, `bridge ${bridge}`);
  return {
    claim: (bridge) =>
      turns(async () => {
        const [row] = await connection.rows("SELECT get_lock($1, 0) AS is_free", [name(bridge)]);
        return String(row?.is_free) === "1";
      }),
    release: (bridge) => {
      // a connection that is lost holds nothing
      turns(() => connection.run("SELECT release_lock($1)", [name(bridge)])).catch(() => {});
    },
  };
}

class MariaSession implements WarehouseSession {
  readonly names = NAMES;
  private stages = 0;
  private readonly free: MariaConnection[] = [];
  private readonly way: LoadWay = { isRefused: false };
  private readonly tidied = new Set<string>();

  constructor(
    private readonly place: { readonly url: string; readonly readOnly: boolean },
    private readonly sql: SqlDialect,
    private readonly writing: MariaConnection,
    readonly ledger: SqlLedger,
    private readonly turns: LimitFunction,
  ) {}

  async openLoad(options: LoadOptions): Promise<StreamLoad> {
    if (this.place.readOnly) throw new BridgeError("INTERNAL", "the server is open for reading only");
    const { sql } = this;
    const ports: LoadPorts = {
      sql,
      writing: this.writing,
      notes: this.ledger.notes,
      openStages: () => this.openStages(),
      inTurn: (work) => this.turns(work),
      places: tablePlaces(sql),
      hasCommitted: (of, number) => this.hasCommitted(of, number),
    };
    const there = await this.turns(async () => {
      // once, before any load of this session builds its own
      if (!this.tidied.has(options.schema)) await tidySchema(sql, this.writing, options.schema);
      this.tidied.add(options.schema);
      return tablesOf(sql, this.writing, options.schema);
    });
    return new SqlLoad(options, ports, await standingOf(this.ledger, options, there));
  }

  private async openStages(): Promise<StageSet> {
    const connection = this.free.pop() ?? (await this.connect());
    return {
      connection,
      stage: (table) => {
        const name = this.sql.tableName(LEDGER_SCHEMA, `stage_${++this.stages}`);
        return new StageTable(this.sql, connection, this.way, name, table);
      },
      close: async () => {
        if (connection.isLost || this.free.length >= MOST_KEPT) await connection.close();
        else this.free.push(connection);
      },
    };
  }

  private async connect(): Promise<MariaConnection> {
    const connection = await connectTo(this.place.url, false);
    await connection.run(useLedger(this.sql));
    return connection;
  }

  /** Looks by a connection of its own: that of the commit is lost. */
  private async hasCommitted({ run, stream }: LoadOptions, number: number): Promise<boolean> {
    const connection = await connectTo(this.place.url, true);
    try {
      const found = await connection.rows(
        `SELECT 1 AS one FROM ${ledgerSchema(this.sql)}.checkpoints WHERE run = $1 AND stream = $2 AND number = $3`,
        [run, stream, number],
      );
      return found.length > 0;
    } finally {
      await connection.close();
    }
  }

  async close(): Promise<void> {
    await this.turns(async () => {
      // the server ends a connection some time after it was told to
      await this.writing.run("DO release_all_locks()").catch(() => {});
      await Promise.all([this.writing, ...this.free].map((connection) => connection.close()));
    });
  }

  /** The ledger forgets the stream last: until then a broken-off try can be made again. */
  async dropStream(of: StreamPlace): Promise<void> {
    const known = await this.ledger.columns(of.schema, of.bridge, of.stream);
    const names = new Set(known.map(({ table }) => table));
    await this.turns(async () => {
      for (const name of names)
        await this.writing.run(`DROP TABLE IF EXISTS ${this.sql.tableName(of.schema, name)}`);
      await this.ledger.forgetStream(of);
    });
  }

  async tryWriting(schema: string): Promise<void> {
    const table = this.sql.tableName(schema, `${NEXT_PREFIX}probe`);
    const statements = [
      this.sql.makeSchema(schema),
      `DROP TABLE IF EXISTS ${table}`,
      `CREATE TABLE ${table} (id BIGINT)`,
      `INSERT INTO ${table} VALUES (1)`,
      `CREATE TEMPORARY TABLE ${this.sql.tableName(LEDGER_SCHEMA, "stage_probe")} (id BIGINT)`,
      `DROP TEMPORARY TABLE ${this.sql.tableName(LEDGER_SCHEMA, "stage_probe")}`,
      `DROP TABLE ${table}`,
    ];
    await this.turns(async () => {
      try {
        for (const statement of statements) await this.writing.run(statement);
      } catch (cause) {
        const message = cause instanceof Error ? cause.message : String(cause);
        throw new BridgeError(
          "WAREHOUSE_FAILED",
          `A table cannot be written in schema ${schema}: ${message}`,
          { hint: "Grant what is needed: early-bridge probe --grants prints it.", cause },
        );
      }
    });
  }

  makeViews(of: ViewPlace, queries: ViewQueries, atMs: number): Promise<ViewOutcome[]> {
    return this.turns(() => makeViews(this.sql, this.writing, of, queries, atMs));
  }

  checkViews(of: Omit<ViewPlace, "run">, queries: ViewQueries): Promise<Map<string, string>> {
    return this.turns(() => checkViews(this.sql, this.writing, of, queries));
  }

  async describeTables(schema: string): Promise<TableView[]> {
    const rows = await this.read(
      `SELECT table_name, column_name, column_type FROM information_schema.columns WHERE table_schema = $1
       ORDER BY table_name, ordinal_position`,
      [this.sql.ledger.databaseOf!(schema)],
    );
    const views: TableView[] = [];
    for (const name of new Set(rows.map((row) => String(row.table_name)))) {
      const [count] = await this.read(`SELECT count(*) AS n FROM ${this.sql.tableName(schema, name)}`);
      const own = rows.filter((row) => row.table_name === name);
      const columns = own.map((row) => ({ name: String(row.column_name), type: String(row.column_type) }));
      views.push({ name, rows: Number(count?.n), columns });
    }
    return views;
  }

  async sampleRows(schema: string, table: string, limit: number): Promise<SampleRow[]> {
    const [view] = (await this.describeTables(schema)).filter(({ name }) => name === table);
    const columns = (view?.columns ?? []).map(
      ({ name }) => `CAST(${quoteName(name)} AS CHAR) AS ${quoteName(name)}`,
    );
    const sql = `SELECT ${columns.join(", ")} FROM ${this.sql.tableName(schema, table)} LIMIT ${Math.floor(limit)}`;
    return (await this.read(sql)) as SampleRow[];
  }

  private read(sql: string, values: readonly string[] = []) {
    return this.turns(() => this.writing.rows(sql, values));
  }
}
