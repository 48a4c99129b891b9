/**
 * A session with a database server, whatever its kind: one connection for the ledger, others for stages, each kept for
 * the next checkpoint. A kind says how it connects, locks, stages and describes.
 */

import pLimit, { type LimitFunction } from "p-limit";
import { BridgeError } from "../../core/errors.js";
import type { UserTable } from "../../core/into/user-table.js";
import type { NameRules } from "../../core/shape/naming.js";
import type {
  LoadOptions,
  OpenOptions,
  SampleRow,
  StreamLoad,
  StreamPlace,
  TableView,
  ViewOutcome,
  ViewPlace,
  ViewQueries,
  WarehouseFacts,
  WarehouseSession,
} from "../warehouse.js";
import type { SqlConnection, SqlDialect, SqlRow } from "./dialect.js";
import { type BridgeClaims, SqlLedger } from "./ledger.js";
import { ledgerSchema } from "./ledger-schema.js";
import { SqlLoad } from "./load.js";
import type { LoadPorts, TablePlaces } from "./load-ports.js";
import type { Stage, StageSet, StageUse } from "./stage.js";
import { standingOf } from "./standing.js";
import { transaction } from "./transaction.js";
import { UserLoad } from "./user-load.js";
import { checkViews, makeViews } from "./views.js";

const NAMES: NameRules = { maxBytes: 63 };
/** so many connections are kept for the next checkpoints */
const MOST_KEPT = 8;

/** A connection that may be lost. */
export interface ServerConnection extends SqlConnection {
  /** nothing can be done with it any more */
  readonly isLost: boolean;
  /** a transaction is open */
  readonly isOpen?: boolean;
  close(): Promise<void>;
}

/** A column as a server describes it. */
export interface DescribedColumn {
  readonly table: string;
  readonly name: string;
  /** in the server's own words */
  readonly type: string;
}

/** Which tables of a schema are asked for. */
export interface WantedTables {
  /** default: tables alone */
  readonly withViews?: boolean | undefined;
  /** default: all that are there */
  readonly tables?: readonly string[] | undefined;
}

/** How servers of a kind are used. */
export interface ServerKind<C extends ServerConnection> {
  readonly sql: SqlDialect;
  /** @throws BridgeError WAREHOUSE_UNREACHABLE */
  connect(readOnly: boolean): Promise<C>;
  /** What a new connection for stages, or one whose ledger is ready, needs beside. */
  settle?(on: C): Promise<void>;
  /** statements that take and give back a lock for the whole ledger, and one that gives back all of a connection */
  readonly locks: { readonly take: string; readonly release: string; readonly releaseAll: string };
  /** Takes a lock for a bridge, which lasts as long as the connection: false where another one has it. */
  claim(on: C, bridge: string): Promise<boolean>;
  release(on: C, bridge: string): Promise<void>;
  /** Makes what this kind keeps beside the ledger's tables. */
  prepare?(on: C): Promise<void>;
  /** Makes the stages of a connection, each with a number of its own. */
  stagesOn(on: C): (number: number, table: string, use: StageUse) => Stage;
  /** how rows may go straight into tables */
  readonly straight: {
    /** the first checkpoint had better come soon */
    readonly learnsSoon: boolean;
    /** The columns of a table's primary key, if it has one; undefined: rows have to go by stages. */
    primaryKey(on: C, schema: string, table: string): Promise<readonly string[] | undefined>;
  };
  /** Puts right what earlier runs of a stream have left, broken off or not. */
  tidy?(on: C, of: LoadOptions): Promise<void>;
  readonly places?: TablePlaces | undefined;
  /** what stands in a schema, in order */
  columns(on: C, schema: string, wanted: WantedTables): Promise<readonly DescribedColumn[]>;
  /** A table that is not ours; undefined: it is not there, or may not be seen. */
  userTable(on: C, schema: string, name: string): Promise<UserTable | undefined>;
  /** a column as a text */
  asText(column: string): string;
  about(on: C): Promise<WarehouseFacts>;
  /** Makes a table in a schema, writes into it, and takes all of it back. */
  tryWriting(on: C, schema: string): Promise<void>;
}

/** Opens a session; the ledger is made or brought up to date where it may be written. */
export async function openServer<C extends ServerConnection>(
  kind: ServerKind<C>,
  { readOnly = false, withoutLedger = false }: OpenOptions,
): Promise<WarehouseSession> {
  const writing = await kind.connect(readOnly);
  const turns = pLimit(1);
  const claims: BridgeClaims = {
    claim: (bridge) => turns(() => kind.claim(writing, bridge)),
    release: (bridge) => {
      // a connection that is lost holds nothing
      turns(() => kind.release(writing, bridge)).catch(() => {});
    },
  };
  const ledger = new SqlLedger(kind.sql, writing, (work) => turns(work), claims);
  try {
    if (!withoutLedger) {
      await writing.run(kind.locks.take);
      await ledger.prepare(readOnly);
      if (!readOnly) await kind.prepare?.(writing);
      await writing.run(kind.locks.release);
      await kind.settle?.(writing);
    }
  } catch (error) {
    await writing.close();
    throw error;
  }
  return new ServerSession(kind, readOnly, writing, ledger, turns);
}

class ServerSession<C extends ServerConnection> implements WarehouseSession {
  readonly names = NAMES;
  private stages = 0;
  private readonly free: C[] = [];

  constructor(
    private readonly kind: ServerKind<C>,
    private readonly readOnly: boolean,
    private readonly writing: C,
    readonly ledger: SqlLedger,
    private readonly turns: LimitFunction,
  ) {}

  async openLoad(options: LoadOptions): Promise<StreamLoad> {
    if (this.readOnly) throw new BridgeError("INTERNAL", "the server is open for reading only");
    const { kind } = this;
    const { learnsSoon, primaryKey } = kind.straight;
    const ports: LoadPorts = {
      sql: kind.sql,
      writing: this.writing,
      notes: this.ledger.notes,
      openStages: () => this.openStages(),
      inTurn: (work) => this.turns(work),
      places: kind.places,
      straight: {
        learnsSoon,
        primaryKey: (table) => this.turns(() => primaryKey(this.writing, options.schema, table)),
      },
      hasCommitted: (of, number) => this.hasCommitted(of, number),
    };
    if (options.into !== undefined) return new UserLoad({ ...options, into: options.into }, ports);
    await this.turns(async () => kind.tidy?.(this.writing, options));
    const describe = (tables: readonly string[]) =>
      this.turns(async () => byTable(await kind.columns(this.writing, options.schema, { tables })));
    return new SqlLoad(options, ports, await standingOf(this.ledger, options, describe));
  }

  userTable(schema: string, table: string): Promise<UserTable | undefined> {
    return this.turns(() => this.kind.userTable(this.writing, schema, table));
  }

  private async openStages(): Promise<StageSet> {
    const connection = this.free.pop() ?? (await this.connect());
    const newStage = this.kind.stagesOn(connection);
    return {
      connection,
      stage: (table, use) => newStage(++this.stages, table, use),
      close: async () => {
        // what turned into nothing, or went nowhere, goes with its transaction
        if (connection.isOpen === true && !connection.isLost)
          await connection.run("ROLLBACK").catch(() => {});
        if (connection.isLost || this.free.length >= MOST_KEPT) await connection.close();
        else this.free.push(connection);
      },
    };
  }

  private async connect(): Promise<C> {
    const connection = await this.kind.connect(false);
    await this.kind.settle?.(connection);
    return connection;
  }

  /** Looks by a connection of its own: that of the commit is lost. */
  private async hasCommitted({ run, stream }: LoadOptions, number: number): Promise<boolean> {
    const connection = await this.kind.connect(true);
    try {
      const found = await connection.rows(
        `SELECT 1 AS one FROM ${ledgerSchema(this.kind.sql)}.checkpoints WHERE run = $1 AND stream = $2 AND number = $3`,
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
      await this.writing.run(this.kind.locks.releaseAll).catch(() => {});
      await Promise.all([this.writing, ...this.free].map((connection) => connection.close()));
    });
  }

  /** The ledger forgets the stream last: until then a broken-off try can be made again. */
  async dropStream(of: StreamPlace): Promise<void> {
    const known = await this.ledger.columns(of.schema, of.bridge, of.stream);
    const names = new Set(known.map(({ table }) => table));
    const drop = async () => {
      for (const name of names)
        await this.writing.run(`DROP TABLE IF EXISTS ${this.kind.sql.tableName(of.schema, name)}`);
      await this.ledger.forgetStream(of);
    };
    const isApart = this.kind.sql.tablesApart === true;
    await this.turns(() =>
      isApart ? drop() : transaction((statement) => this.writing.run(statement), drop),
    );
  }

  about(): Promise<WarehouseFacts> {
    return this.turns(() => this.kind.about(this.writing));
  }

  tryWriting(schema: string): Promise<void> {
    return this.turns(async () => {
      try {
        await this.kind.tryWriting(this.writing, schema);
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
    return this.turns(() => makeViews(this.kind.sql, this.writing, of, queries, atMs));
  }

  checkViews(of: Omit<ViewPlace, "run">, queries: ViewQueries): Promise<Map<string, string>> {
    return this.turns(() => checkViews(this.kind.sql, this.writing, of, queries));
  }

  async describeTables(schema: string): Promise<TableView[]> {
    const columns = await this.turns(() => this.kind.columns(this.writing, schema, { withViews: true }));
    const views: TableView[] = [];
    for (const name of byTable(columns).keys()) {
      const [count] = await this.read(`SELECT count(*) AS n FROM ${this.kind.sql.tableName(schema, name)}`);
      views.push({ name, rows: Number(count?.n), columns: columns.filter(({ table }) => table === name) });
    }
    return views;
  }

  async sampleRows(schema: string, table: string, limit: number): Promise<SampleRow[]> {
    const { sql } = this.kind;
    const columns = await this.turns(() => this.kind.columns(this.writing, schema, { withViews: true }));
    const own = columns.filter((column) => column.table === table).map(({ name }) => sql.quoteName(name));
    const texts = own.map((name) => `${this.kind.asText(name)} AS ${name}`);
    const query = `SELECT ${texts.join(", ")} FROM ${sql.tableName(schema, table)} LIMIT ${Math.floor(limit)}`;
    return (await this.read(query)) as SampleRow[];
  }

  private read(query: string): Promise<readonly SqlRow[]> {
    return this.turns(() => this.writing.rows(query));
  }
}

/** Columns' names by their table. */
export function byTable(columns: readonly DescribedColumn[]): Map<string, ReadonlySet<string>> {
  const tables = new Map<string, Set<string>>();
  for (const { table, name } of columns) {
    const names = tables.get(table) ?? new Set();
    tables.set(table, names.add(name));
  }
  return tables;
}
