/** The PostgreSQL warehouse: `postgres("postgres://user@host/database")`. */

import pLimit, { type LimitFunction } from "p-limit";
import { BridgeError } from "../../core/errors.js";
import type { NameRules } from "../../core/shape/naming.js";
import { type BridgeClaims, SqlLedger } from "../sql/ledger.js";
import { type LoadPorts, SqlLoad } from "../sql/load.js";
import type { StageSet } from "../sql/stage.js";
import { standingOf } from "../sql/standing.js";
import { NEXT_PREFIX } from "../sql/swap.js";
import { transaction } from "../sql/transaction.js";
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
import { connectTo, type PostgresConnection, placeOf } from "./connection.js";
import { POSTGRES, quoteName } from "./dialect.js";
import { StageTable } from "./stage.js";

const NAMES: NameRules = { maxBytes: 63 };
/** so many connections are kept for the next checkpoints */
const MOST_KEPT = 8;

/**
 * Tables in a PostgreSQL database, from version 13 on. The address is a connection URI as PostgreSQL has it (libpq,
 * "Connection URIs"); `sslmode=verify-full` has the server's certificate checked.
 * @throws BridgeError when opened: URL_INVALID, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER
 */
export function postgres(url: string): Warehouse {
  return {
    title: placeOf(url),
    grants: (schema) => grantsFor(schema, url),
    open: ({ readOnly = false } = {}) => openDatabase(url, readOnly),
  };
}

function grantsFor(schema: string, url: string): string {
  const user =
    URL.canParse(url) && new URL(url).username !== "" ? decodeURIComponent(new URL(url).username) : "bridge";
  const database = URL.canParse(url) ? decodeURIComponent(new URL(url).pathname.slice(1)) : "warehouse";
  const [role, own] = [quoteName(user), quoteName(schema)];
  return [
    `-- as the owner of the database; ${user} then makes and owns all tables`,
    `GRANT CONNECT, TEMPORARY ON DATABASE ${quoteName(database)} TO ${role};`,
    `CREATE SCHEMA IF NOT EXISTS early_bridge AUTHORIZATION ${role};`,
    `CREATE SCHEMA IF NOT EXISTS ${own} AUTHORIZATION ${role};`,
  ].join("\n");
}

async function openDatabase(url: string, readOnly: boolean): Promise<WarehouseSession> {
  const writing = await connectTo(url, readOnly);
  const turns = pLimit(1);
  const ledger = new SqlLedger(POSTGRES, writing, (work) => turns(work), claimsOf(writing, turns));
  try {
    await turns(() => writing.run("SELECT pg_advisory_lock(hashtextextended('early_bridge ledger', 0))"));
    await ledger.prepare(readOnly);
    await turns(() => writing.run("SELECT pg_advisory_unlock(hashtextextended('early_bridge ledger', 0))"));
  } catch (error) {
    await writing.close();
    throw error;
  }
  return new PostgresSession({ url, readOnly }, writing, ledger, turns);
}

/** A lock of the connection: it is gone with the process, however that ends. */
function claimsOf(connection: PostgresConnection, turns: LimitFunction): BridgeClaims {
  const key = "hashtextextended('early_bridge ' || $1::TEXT, 0)";
  return {
    claim: (bridge) =>
      turns(async () => {
        const [row] = await connection.rows(`SELECT pg_try_advisory_lock(${key}) AS is_free`, [bridge]);
        return row?.is_free === true;
      }),
    release: (bridge) => {
      // a connection that is lost holds nothing
      turns(() => connection.run(`SELECT pg_advisory_unlock(${key})`, [bridge])).catch(() => {});
    },
  };
}

class PostgresSession implements WarehouseSession {
  readonly names = NAMES;
  private stages = 0;
  private readonly free: PostgresConnection[] = [];

  constructor(
    private readonly place: { readonly url: string; readonly readOnly: boolean },
    private readonly writing: PostgresConnection,
    readonly ledger: SqlLedger,
    private readonly turns: LimitFunction,
  ) {}

  async openLoad(options: LoadOptions): Promise<StreamLoad> {
    if (this.place.readOnly) throw new BridgeError("INTERNAL", "the database is open for reading only");
    const ports: LoadPorts = {
      sql: POSTGRES,
      writing: this.writing,
      notes: this.ledger.notes,
      openStages: () => this.openStages(),
      inTurn: (work) => this.turns(work),
      hasCommitted: (of, number) => this.hasCommitted(of, number),
    };
    const there = await this.columnsOf(options.schema);
    return new SqlLoad(options, ports, await standingOf(this.ledger, options, there));
  }

  private async openStages(): Promise<StageSet> {
    const connection = this.free.pop() ?? (await connectTo(this.place.url, false));
    return {
      connection,
      stage: (table) => new StageTable(connection, `stage_${++this.stages}`, table),
      close: async () => {
        if (connection.isLost || this.free.length >= MOST_KEPT) await connection.close();
        else this.free.push(connection);
      },
    };
  }

  /** Looks by a connection of its own: that of the commit is lost. */
  private async hasCommitted({ run, stream }: LoadOptions, number: number): Promise<boolean> {
    const connection = await connectTo(this.place.url, true);
    try {
      const found = await connection.rows(
        "SELECT 1 FROM early_bridge.checkpoints WHERE run = $1 AND stream = $2 AND number = $3",
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
      await this.writing.run("SELECT pg_advisory_unlock_all()").catch(() => {});
      await Promise.all([this.writing, ...this.free].map((connection) => connection.close()));
    });
  }

  async dropStream(of: StreamPlace): Promise<void> {
    const known = await this.ledger.columns(of.schema, of.bridge, of.stream);
    const names = new Set(known.map(({ table }) => table));
    await this.turns(() =>
      transaction(
        (statement) => this.writing.run(statement),
        async () => {
          for (const name of names)
            await this.writing.run(`DROP TABLE IF EXISTS ${POSTGRES.tableName(of.schema, name)}`);
          await this.ledger.forgetStream(of);
        },
      ),
    );
  }

  async tryWriting(schema: string): Promise<void> {
    const table = POSTGRES.tableName(schema, `${NEXT_PREFIX}probe`);
    await this.turns(async () => {
      await this.writing.run("BEGIN");
      try {
        await this.writing.run(POSTGRES.makeSchema(schema));
        await this.writing.run(`CREATE TABLE ${table} (id BIGINT)`);
        await this.writing.run(`INSERT INTO ${table} VALUES (1)`);
        await this.writing.run("CREATE TEMPORARY TABLE eb_probe (id BIGINT) ON COMMIT DROP");
      } catch (cause) {
        const message = cause instanceof Error ? cause.message : String(cause);
        throw new BridgeError(
          "WAREHOUSE_FAILED",
          `A table cannot be written in schema ${schema}: ${message}`,
          { hint: "Grant what is needed: early-bridge probe --grants prints it.", cause },
        );
      } finally {
        await this.writing.run("ROLLBACK");
      }
    });
  }

  makeViews(of: ViewPlace, queries: ViewQueries, atMs: number): Promise<ViewOutcome[]> {
    return this.turns(() => makeViews(POSTGRES, this.writing, of, queries, atMs));
  }

  checkViews(of: Omit<ViewPlace, "run">, queries: ViewQueries): Promise<Map<string, string>> {
    return this.turns(() => checkViews(POSTGRES, this.writing, of, queries));
  }

  async describeTables(schema: string): Promise<TableView[]> {
    const views: TableView[] = [];
    const columns = await this.read(
      `SELECT c.relname AS table_name, a.attname AS name, format_type(a.atttypid, a.atttypmod) AS type
       ${COLUMNS_OF} ORDER BY c.relname, a.attnum`,
      [schema],
    );
    for (const name of new Set(columns.map((row) => String(row.table_name)))) {
      const own = columns.filter((row) => row.table_name === name);
      const [count] = await this.read(`SELECT count(*) AS rows FROM ${POSTGRES.tableName(schema, name)}`);
      views.push({
        name,
        rows: Number(count?.rows),
        columns: own.map((row) => ({ name: String(row.name), type: String(row.type) })),
      });
    }
    return views;
  }

  async sampleRows(schema: string, table: string, limit: number): Promise<SampleRow[]> {
    const names = (await this.columnsOf(schema)).get(table) ?? new Set<string>();
    const columns = [...names].map((name) => `${quoteName(name)}::TEXT AS ${quoteName(name)}`);
    const sql = `SELECT ${columns.join(", ")} FROM ${POSTGRES.tableName(schema, table)} LIMIT ${Math.floor(limit)}`;
    return (await this.read(sql)) as SampleRow[];
  }

  private read(sql: string, values: readonly string[] = []) {
    return this.turns(() => this.writing.rows(sql, values));
  }

  /** The tables of a schema, with their columns' names. */
  private async columnsOf(schema: string): Promise<Map<string, ReadonlySet<string>>> {
    const rows = await this.read(
      `SELECT c.relname AS table_name, array_to_json(array_agg(a.attname ORDER BY a.attnum)) AS names
       ${COLUMNS_OF} GROUP BY c.relname`,
      [schema],
    );
    return new Map(
      rows.map((row) => [String(row.table_name), new Set(JSON.parse(String(row.names)) as string[])]),
    );
  }
}

const COLUMNS_OF = `FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
  JOIN pg_attribute AS a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
  WHERE n.nspname = $1 AND c.relkind IN ('r', 'p')`;
