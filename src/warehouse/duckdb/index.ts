/** The DuckDB warehouse: one file, one writer at a time. */

import { open, stat } from "node:fs/promises";
import { availableParallelism } from "node:os";
import { basename, dirname, resolve } from "node:path";
import type { DuckDBConnection, DuckDBInstance } from "@duckdb/node-api";
import pLimit, { type LimitFunction } from "p-limit";
import { BridgeError, isBridgeError } from "../../core/errors.js";
import type { NameRules } from "../../core/shape/naming.js";
import type { SqlConnection, SqlValue } from "../sql/dialect.js";
import { SqlLedger } from "../sql/ledger.js";
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
  WarehouseFacts,
  WarehouseSession,
} from "../warehouse.js";
import { BlockCache } from "./block-cache.js";
import { driver } from "./driver.js";
import { type Lease, leaseFile } from "./open-files.js";
import { type StagePlace, StageTable } from "./stage.js";
import { StageFolder, temporaryFolderOf } from "./stage-folder.js";
import { DUCKDB, FILE_DATABASE, quoteText, tableName } from "./types.js";

/** DuckDB itself has no limit; this one keeps names readable. */
const NAMES: NameRules = Object.freeze({ maxBytes: 120 });

/**
 * A warehouse in a DuckDB file; the file is made where there is none. All openings of one file in a process share a
 * session, whatever path leads there.
 * @throws BridgeError when opened: WAREHOUSE_LOCKED, WAREHOUSE_NOT_OURS, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER
 */
export function duckdb(path: string): Warehouse {
  return {
    title: `DuckDB file ${basename(path)}`,
    grants: () =>
      `-- DuckDB has no users: whoever runs the bridge must be able to read and write\n-- the file ${basename(path)} and to make files in its folder.`,
    open: async ({ readOnly = false } = {}) =>
      leaseOf(await leaseFile(path, readOnly, () => openFile(path, readOnly))),
  };
}

/** A session as one of its users sees it. */
function leaseOf({ session, leave }: Lease<DuckSession>): WarehouseSession {
  return {
    names: session.names,
    ledger: session.ledger,
    openLoad: (options) => session.openLoad(options),
    dropStream: (of) => session.dropStream(of),
    about: () => session.about(),
    tryWriting: (schema) => session.tryWriting(schema),
    makeViews: (of, queries, atMs) => session.makeViews(of, queries, atMs),
    checkViews: (of, queries) => session.checkViews(of, queries),
    describeTables: (schema) => session.describeTables(schema),
    sampleRows: (schema, table, limit) => session.sampleRows(schema, table, limit),
    close: leave,
  };
}

async function openFile(path: string, readOnly: boolean): Promise<DuckSession> {
  if (readOnly && !(await exists(path))) {
    throw new BridgeError("WAREHOUSE_EMPTY", `There is no DuckDB file ${path} yet.`, {
      hint: "Run a bridge first: it makes the file.",
    });
  }
  const instance = await driver.DuckDBInstance.create(":memory:", SAFE);
  const writing = await instance.connect();
  try {
    const folder = dirname(resolve(path));
    await writing.run(`SET temp_directory = ${quoteText(temporaryFolderOf(path))}`);
    await writing.run(`SET allowed_directories = [${quoteText(folder)}]`);
    await writing.run("SET enable_external_access = false");
    // rows are read and shaped on a thread of ours meanwhile
    await writing.run(`SET threads = ${Math.max(1, availableParallelism() - 1)}`);
    // the ledger's and the samples' times do not depend on where the process runs
    await writing.run("SET TimeZone = 'UTC'");
    // rows that wait are read once
    await writing.run("SET enable_external_file_cache = false");
    const mode = readOnly ? ", READ_ONLY" : "";
    await writing.run(`ATTACH ${quoteText(resolve(path))} AS ${FILE_DATABASE} (TYPE duckdb${mode})`);
    const turns = pLimit(1);
    const ledger = new SqlLedger(DUCKDB, connectionOf(writing), (work) => turns(work));
    await ledger.prepare(readOnly);
    const waiting = new StageFolder(path);
    if (!readOnly) await waiting.removeLeftovers();
    return new DuckSession(instance, writing, ledger, turns, readOnly, waiting);
  } catch (error) {
    // else the file would stay attached, and locked, for as long as the process lives
    writing.closeSync();
    instance.closeSync();
    throw openError(error, path, await kindOfFile(path));
  }
}

/** Nothing is fetched, and no file outside of the warehouse's own folder is touched, whatever a file claims to be. */
const SAFE = {
  autoinstall_known_extensions: "false",
  autoload_known_extensions: "false",
  allow_community_extensions: "false",
};

/** What a file is by its first bytes, in words; undefined where they say nothing. */
async function kindOfFile(path: string): Promise<string | undefined> {
  const file = await open(path, "r").catch(() => undefined);
  if (file === undefined) return undefined;
  const { buffer, bytesRead } = await file.read(Buffer.alloc(16), 0, 16, 0).catch(() => NO_BYTES);
  await file.close();
  const text = buffer.subarray(0, bytesRead).toString("latin1");
  if (bytesRead === 0) return "it is empty";
  if (text.startsWith("SQLite format 3")) return "it is a database of SQLite";
  if (text.startsWith("PAR1")) return "it is a Parquet file";
  if (text.startsWith("PK")) return "it is a zip file or an office document";
  if (text.startsWith("\u001f\u008b")) return "it is packed by gzip";
  return text.slice(8, 12) === "DUCK" ? "it is damaged" : undefined;
}

const NO_BYTES = { buffer: Buffer.alloc(0), bytesRead: 0 };

class DuckSession implements WarehouseSession, StagePlace {
  readonly names = NAMES;
  readonly cache: BlockCache;
  private stages = 0;
  private readonly cleaned = new Set<string>();
  /** loads open one after the other: what a broken-off one left aside is dropped before any other builds its own */
  private readonly opening = pLimit(1);

  constructor(
    private readonly instance: DuckDBInstance,
    private readonly writing: DuckDBConnection,
    readonly ledger: SqlLedger,
    private readonly turns: LimitFunction,
    private readonly readOnly: boolean,
    /** for rows on their way */
    readonly waiting: StageFolder,
  ) {
    this.cache = new BlockCache((sql) => this.writing.run(sql));
  }

  async openLoad(options: LoadOptions): Promise<StreamLoad> {
    if (this.readOnly) throw new BridgeError("INTERNAL", "the file is open for reading only");
    const ports: LoadPorts = {
      sql: DUCKDB,
      writing: connectionOf(this.writing),
      notes: this.ledger.notes,
      openStages: () => this.openStages(),
      inTurn: (work) =>
        this.turns(async () => {
          const result = await work();
          await this.cache.trim();
          return result;
        }),
    };
    return this.opening(async () => {
      await this.dropLeftovers(options.schema);
      return new SqlLoad(
        options,
        ports,
        await standingOf(this.ledger, options, await this.columnsOf(options.schema)),
      );
    });
  }

  /** DuckDB runs one query of a connection at a time: stages have one of their own. */
  private async openStages(): Promise<StageSet> {
    const connection = await this.instance.connect();
    return {
      connection: connectionOf(this.writing),
      stage: (table) => new StageTable(connection, this, `${table}_${++this.stages}`, table),
      close: async () => connection.closeSync(),
    };
  }

  async close(): Promise<void> {
    await this.turns(async () => {
      this.writing.closeSync();
      this.instance.closeSync();
      if (!this.readOnly) await this.waiting.close();
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
            await this.writing.run(`DROP TABLE IF EXISTS ${tableName(of.schema, name)}`);
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
    await this.turns(async () => {
      await this.writing.run("BEGIN");
      try {
        await this.writing.run(DUCKDB.makeSchema(schema));
        await this.writing.run(`CREATE TABLE ${table} (id BIGINT)`);
        await this.writing.run(`INSERT INTO ${table} VALUES (1)`);
      } catch (cause) {
        const message = cause instanceof Error ? cause.message : String(cause);
        throw new BridgeError(
          "WAREHOUSE_FAILED",
          `A table cannot be written in schema ${schema}: ${message}`,
          { cause },
        );
      } finally {
        await this.writing.run("ROLLBACK");
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
    return this.turns(async () => {
      const connection = await this.instance.connect();
      try {
        await connection.run(`USE ${FILE_DATABASE}.main`);
        return await work(connectionOf(connection));
      } finally {
        connection.closeSync();
      }
    });
  }

  async describeTables(schema: string): Promise<TableView[]> {
    const views: TableView[] = [];
    for (const [name, names] of await this.columnsOf(schema)) {
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
    return this.turns(async () => (await this.writing.runAndReadAll(sql, values)).getRowObjectsJS());
  }

  /** Drops what a broken-off `replace` left aside; once, before any load of this session builds its own. */
  private async dropLeftovers(schema: string): Promise<void> {
    if (this.cleaned.has(schema)) return;
    this.cleaned.add(schema);
    for (const name of (await this.columnsOf(schema)).keys()) {
      if (!name.startsWith(NEXT_PREFIX)) continue;
      await this.turns(() => this.writing.run(`DROP TABLE ${tableName(schema, name)}`));
    }
  }

  /** The tables of a schema as DuckDB knows them, with their columns' names. */
  private async columnsOf(schema: string): Promise<Map<string, Set<string>>> {
    const rows = await this.read(
      `SELECT table_name, column_name FROM information_schema.columns
       WHERE table_schema = $1 AND table_catalog = '${FILE_DATABASE}' ORDER BY table_name`,
      [schema],
    );
    const tables = new Map<string, Set<string>>();
    for (const row of rows) {
      const table = String(row.table_name);
      tables.set(table, (tables.get(table) ?? new Set()).add(String(row.column_name)));
    }
    return tables;
  }
}

function connectionOf(connection: DuckDBConnection): SqlConnection {
  const list = (values: readonly SqlValue[] = []) => values.map((value) => value);
  return {
    run: async (sql, values) => {
      await connection.run(sql, list(values));
    },
    rows: async (sql, values) => (await connection.runAndReadAll(sql, list(values))).getRowObjectsJS(),
  };
}

async function exists(path: string): Promise<boolean> {
  return stat(path).then(
    () => true,
    () => false,
  );
}

function openError(error: unknown, path: string, kind: string | undefined): BridgeError {
  if (isBridgeError(error)) return error.at({ file: path });
  const message = error instanceof Error ? error.message : String(error);
  const where = { file: path };
  if (/lock on file|being used by another process/i.test(message)) {
    const holder = /held in (.*?)(?: by user|\. See|$)/.exec(message)?.[1];
    const by = holder === undefined ? "" : `: ${holder}`;
    return new BridgeError("WAREHOUSE_LOCKED", `The DuckDB file is open in another program${by}.`, {
      where,
      cause: error,
    });
  }
  if (/not a valid DuckDB database|checksum|corrupt|could not read enough bytes|magic/i.test(message)) {
    const what = kind ?? "it is of another program, or damaged";
    return new BridgeError(
      "WAREHOUSE_NOT_OURS",
      `The file is there, but it is no DuckDB file that can be read: ${what}.`,
      {
        where,
        hint: "Choose another path, or bring back a copy of the file.",
        cause: error,
      },
    );
  }
  if (/version number|newer version/i.test(message)) {
    const hint = "Update @duckdb/node-api, or choose another path.";
    return new BridgeError("WAREHOUSE_NEWER", "Another version of DuckDB has written the file.", {
      where,
      hint,
      cause: error,
    });
  }
  const short = message.replace(/^IO Error: /, "");
  return new BridgeError("WAREHOUSE_UNREACHABLE", `The DuckDB file cannot be opened: ${short}`, {
    where,
    cause: error,
  });
}
