/** A DuckDB file while it is open. */

import { stat } from "node:fs/promises";
import { availableParallelism } from "node:os";
import { dirname, resolve } from "node:path";
import type { DuckDBConnection, DuckDBInstance } from "@duckdb/node-api";
import pLimit, { type LimitFunction } from "p-limit";
import { BridgeError, isBridgeError } from "../../core/errors.js";
import type { UserTable } from "../../core/into/user-table.js";
import type { NameRules } from "../../core/shape/naming.js";
import type { SqlConnection } from "../sql/dialect.js";
import { SqlLedger } from "../sql/ledger.js";
import { SqlLoad } from "../sql/load.js";
import type { LoadPorts } from "../sql/load-ports.js";
import type { StageSet } from "../sql/stage.js";
import { standingOf } from "../sql/standing.js";
import { NEXT_PREFIX } from "../sql/swap.js";
import { transaction } from "../sql/transaction.js";
import { UserLoad } from "../sql/user-load.js";
import { checkViews, makeViews } from "../sql/views.js";
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
import { Ahead, type AheadConnection } from "./ahead.js";
import { BlockCache, memoryShare } from "./block-cache.js";
import { Catalog } from "./catalog.js";
import { connectionOf, type Upkeep, withUpkeep } from "./connections.js";
import { driver } from "./driver.js";
import { openError } from "./open-errors.js";
import { RowGroups, widestRow } from "./row-groups.js";
import { type StagePlace, StageTable } from "./stage.js";
import { StageFolder } from "./stage-folder.js";
import { STAGE_SIZES } from "./stage-sizes.js";
import { DUCKDB, DUCKDB_DECLARING, DUCKDB_KEYED, FILE_DATABASE, quoteText, tableName } from "./types.js";
import { userTable } from "./user-tables.js";

/** DuckDB itself has no limit; this one keeps names readable. */
const NAMES: NameRules = Object.freeze({ maxBytes: 120 });

/** `storageVersion`: the form that the file is written in, as DuckDB names them. */
interface FileOptions extends OpenOptions {
  readonly storageVersion?: string | undefined;
}

/**
 * Opens a DuckDB file.
 * @throws BridgeError WAREHOUSE_LOCKED, WAREHOUSE_NOT_OURS, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER, WAREHOUSE_EMPTY
 */
export async function openFile(
  path: string,
  { readOnly = false, withoutLedger = false, storageVersion }: FileOptions,
  upkeep?: Upkeep,
): Promise<DuckSession> {
  if (readOnly && upkeep === undefined && !(await exists(path))) {
    throw new BridgeError("WAREHOUSE_EMPTY", `There is no DuckDB file ${path} yet.`, {
      hint: "Run a bridge first: it makes the file.",
    });
  }
  const instance = await driver.DuckDBInstance.create(":memory:", SAFE);
  const writing = await instance.connect();
  try {
    const folder = dirname(resolve(path));
    const waiting = new StageFolder(path);
    // what is made anew each time is read by nobody else
    const mayWrite = !readOnly || upkeep !== undefined;
    await writing.run(`SET temp_directory = ${quoteText(mayWrite ? waiting.spilled : waiting.folder)}`);
    const folders = [folder, ...(upkeep === undefined ? [] : [resolve(upkeep.folder)])];
    await writing.run(`SET allowed_directories = [${folders.map(quoteText).join(", ")}]`);
    await writing.run("SET enable_external_access = false");
    await writing.run(`SET memory_limit = '${memoryShare()}B'`);
    // rows are read and shaped on a thread of ours meanwhile
    await writing.run(`SET threads = ${Math.max(1, availableParallelism() - 1)}`);
    // a group of rows is packed when it is full; DuckDB holds five of them otherwise
    await writing.run("SET write_buffer_row_group_count = 1");
    // the ledger's and the samples' times do not depend on where the process runs
    await writing.run("SET TimeZone = 'UTC'");
    // rows that wait are read once
    await writing.run("SET enable_external_file_cache = false");
    const version = upkeep === undefined ? storageVersion : "latest";
    const form = version === undefined ? "" : `, STORAGE_VERSION ${quoteText(version)}`;
    const mode = mayWrite ? form : ", READ_ONLY";
    const groups = await RowGroups.attach(writing, resolve(path), `TYPE duckdb${mode}`);
    if (mayWrite) await waiting.prepare();
    const turns = pLimit(1);
    const catalog = new Catalog((sql, values) =>
      turns(async () => (await writing.runAndReadAll(sql, values)).getRowObjectsJS()),
    );
    const connection = withUpkeep(catalog.keptBy(connectionOf(writing, groups)), upkeep);
    await upkeep?.bringIn(connection);
    if (mayWrite)
      await groups.suit(await (upkeep?.widestRow(connection) ?? widestRow(writing, resolve(path))));
    const ledger = new SqlLedger(DUCKDB, connection, (work) => turns(work));
    if (!withoutLedger) await ledger.prepare(readOnly);
    return new DuckSession({
      instance,
      writing,
      connection,
      groups,
      catalog,
      ledger,
      turns,
      readOnly,
      waiting,
      upkeep,
    });
  } catch (error) {
    // else the file would stay attached, and locked, for as long as the process lives
    writing.closeSync();
    instance.closeSync();
    // what the other warehouse tells has its own place
    throw upkeep !== undefined && isBridgeError(error) ? error : await openError(error, path);
  }
}

/** Nothing is fetched, and no file outside of the warehouse's own folder is touched, whatever a file claims to be. */
const SAFE = {
  autoinstall_known_extensions: "false",
  autoload_known_extensions: "false",
  allow_community_extensions: "false",
};

/** What a session is made of. */
interface Parts {
  readonly instance: DuckDBInstance;
  readonly writing: DuckDBConnection;
  /** the same connection, for transactions */
  readonly connection: SqlConnection;
  readonly groups: RowGroups;
  readonly catalog: Catalog;
  readonly ledger: SqlLedger;
  readonly turns: LimitFunction;
  readonly readOnly: boolean;
  /** for rows on their way */
  readonly waiting: StageFolder;
  readonly upkeep: Upkeep | undefined;
}

export class DuckSession implements WarehouseSession, StagePlace {
  readonly names = NAMES;
  readonly cache: BlockCache;
  private stages = 0;
  private readonly cleaned = new Set<string>();
  /** loads open one after the other: what a broken-off one left aside is dropped before any other builds its own */
  private readonly opening = pLimit(1);
  /** rows of one load go into their tables ahead */
  private isAhead = false;

  readonly ledger: SqlLedger;
  readonly waiting: StageFolder;
  readonly groups: RowGroups;
  private readonly catalog: Catalog;

  constructor(private readonly parts: Parts) {
    this.catalog = parts.catalog;
    this.ledger = parts.ledger;
    this.waiting = parts.waiting;
    this.groups = parts.groups;
    this.cache = new BlockCache(parts.writing);
  }

  async openLoad(options: LoadOptions, declaresKeys = false): Promise<StreamLoad> {
    if (this.parts.readOnly) throw new BridgeError("INTERNAL", "the file is open for reading only");
    const isKeyed = await this.catalog.isKeyed(options.schema, options.rootTable);
    const ports: LoadPorts = {
      sql: declaresKeys ? DUCKDB_DECLARING : isKeyed ? DUCKDB_KEYED : DUCKDB,
      writing: this.parts.connection,
      notes: this.ledger.notes,
      openStages: () => this.openStages(),
      inTurn: (work) =>
        this.parts.turns(async () => {
          const result = await work();
          await this.cache.trim();
          return result;
        }),
      writeOut: this.parts.upkeep?.writeOut,
      goesAhead: this.mayGoAhead,
    };
    if (options.into !== undefined) return new UserLoad({ ...options, into: options.into }, ports);
    return this.opening(async () => {
      await this.dropLeftovers(options.schema);
      const describe = () => this.catalog.columnsOf(options.schema);
      return new SqlLoad(options, ports, await standingOf(this.ledger, options, describe));
    });
  }

  userTable(schema: string, table: string): Promise<UserTable | undefined> {
    return this.onFile((on) => userTable(DUCKDB, on, schema, table));
  }

  /** What another warehouse takes from the file it takes from the connection that writes. */
  private get mayGoAhead(): boolean {
    return this.parts.upkeep === undefined;
  }

  /** DuckDB runs one query of a connection at a time: stages have one of their own. */
  private async openStages(): Promise<StageSet> {
    const { instance, connection: writing } = this.parts;
    const connection = await instance.connect();
    const stages: StageTable[] = [];
    const ahead = new Ahead({
      connect: () => this.connectAhead(),
      inTurn: (work) => this.parts.turns(work),
      giveMemoryBack: () => this.cache.release(),
      claim: () => this.claimAhead(),
    });
    return {
      get connection() {
        return ahead.committing ?? writing;
      },
      stage: (table, use) => {
        const name = `${table}_${++this.stages}`;
        const stage = new StageTable(connection, this, name, table, ahead, use.ahead);
        stages.push(stage);
        return stage;
      },
      get isHeavy() {
        return stages.some(({ longBytes }) => longBytes >= STAGE_SIZES.groupBytes);
      },
      settleAhead: (areNew) => ahead.settle(areNew && stages.every(({ isAhead }) => isAhead)),
      close: async () => {
        await ahead.close();
        connection.closeSync();
      },
    };
  }

  private async connectAhead(): Promise<AheadConnection> {
    const connection = await this.parts.instance.connect();
    await connection.run("SET TimeZone = 'UTC'");
    const kept = this.catalog.keptAtCommit(connectionOf(connection, this.groups));
    return { ...kept, close: () => connection.closeSync() };
  }

  private claimAhead(): (() => void) | undefined {
    if (this.isAhead) return undefined;
    this.isAhead = true;
    return () => {
      this.isAhead = false;
    };
  }

  /** Works on the file while nobody else does, outside of transactions. */
  onFile<T>(work: (on: SqlConnection) => Promise<T>): Promise<T> {
    return this.parts.turns(() => work(this.parts.connection));
  }

  async close(): Promise<void> {
    await this.parts.turns(async () => {
      this.parts.writing.closeSync();
      this.parts.instance.closeSync();
      await this.waiting.close();
    });
  }

  async dropStream(of: StreamPlace): Promise<void> {
    const known = await this.ledger.columns(of.schema, of.bridge, of.stream);
    const names = new Set(known.map(({ table }) => table));
    const { connection, upkeep, turns } = this.parts;
    await turns(() =>
      transaction(
        (statement) => connection.run(statement),
        async () => {
          for (const name of names)
            await connection.run(`DROP TABLE IF EXISTS ${tableName(of.schema, name)}`);
          await upkeep?.dropped(connection, of);
          await this.ledger.forgetStream(of);
        },
      ),
    );
  }

  async about(): Promise<WarehouseFacts> {
    const [row] = await this.read("SELECT version() AS version");
    return { program: `DuckDB ${String(row?.version).replace(/^v/, "")}`, way: "file" };
  }

  async tryWriting(schema: string): Promise<void> {
    const table = tableName(schema, `${NEXT_PREFIX}probe`);
    await this.parts.turns(async () => {
      await this.parts.writing.run("BEGIN");
      try {
        await this.parts.writing.run(DUCKDB.makeSchema(schema));
        await this.parts.writing.run(`CREATE TABLE ${table} (id BIGINT)`);
        await this.parts.writing.run(`INSERT INTO ${table} VALUES (1)`);
      } catch (cause) {
        const message = cause instanceof Error ? cause.message : String(cause);
        throw new BridgeError(
          "WAREHOUSE_FAILED",
          `A table cannot be written in schema ${schema}: ${message}`,
          { cause },
        );
      } finally {
        await this.parts.writing.run("ROLLBACK");
      }
    });
  }

  makeViews(of: ViewPlace, queries: ViewQueries, atMs: number): Promise<ViewOutcome[]> {
    return this.inFile((connection) => makeViews(DUCKDB, connection, of, queries, atMs));
  }

  checkViews(of: Omit<ViewPlace, "run">, queries: ViewQueries): Promise<Map<string, string>> {
    return this.inFile((connection) => checkViews(DUCKDB, connection, of, queries));
  }

  /** Works on a connection to which the file is all there is: tables have no name before that of their schema. */
  private inFile<T>(work: (connection: SqlConnection) => Promise<T>): Promise<T> {
    return this.parts.turns(async () => {
      const connection = await this.parts.instance.connect();
      try {
        await connection.run(`USE ${FILE_DATABASE}.main`);
        return await work(this.catalog.keptBy(connectionOf(connection)));
      } finally {
        connection.closeSync();
      }
    });
  }

  async describeTables(schema: string): Promise<TableView[]> {
    const views: TableView[] = [];
    for (const [name, names] of await this.catalog.columnsOf(schema)) {
      const table = tableName(schema, name);
      const types = await this.read(
        `SELECT column_name, data_type FROM information_schema.columns
         WHERE table_schema = $1 AND table_name = $2 AND table_catalog = '${FILE_DATABASE}' ORDER BY ordinal_position`,
        [schema, name],
      );
      const [count] = await this.read(`SELECT count(*) AS rows FROM ${table}`);
      const columns = types.map((row) => ({ name: String(row.column_name), type: String(row.data_type) }));
      if (names.size > 0) views.push({ name, rows: Number(count?.rows), columns });
    }
    return views;
  }

  async sampleRows(schema: string, table: string, limit: number): Promise<SampleRow[]> {
    const sql = `SELECT COLUMNS(*)::VARCHAR FROM ${tableName(schema, table)} LIMIT ${Math.floor(limit)}`;
    return (await this.read(sql)) as SampleRow[];
  }

  private read(sql: string, values: string[] = []): Promise<Record<string, unknown>[]> {
    return this.parts.turns(async () =>
      (await this.parts.writing.runAndReadAll(sql, values)).getRowObjectsJS(),
    );
  }

  /** Drops what a broken-off `replace` left aside; once, before any load of this session builds its own. */
  private async dropLeftovers(schema: string): Promise<void> {
    if (this.cleaned.has(schema)) return;
    this.cleaned.add(schema);
    for (const name of (await this.catalog.columnsOf(schema)).keys()) {
      if (!name.startsWith(NEXT_PREFIX)) continue;
      await this.onFile((on) => on.run(`DROP TABLE ${tableName(schema, name)}`));
    }
  }
}

async function exists(path: string): Promise<boolean> {
  return stat(path).then(
    () => true,
    () => false,
  );
}
