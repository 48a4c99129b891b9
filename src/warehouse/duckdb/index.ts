/** The DuckDB warehouse: one file, one writer at a time. */

import { stat } from "node:fs/promises";
import { basename } from "node:path";
import { type DuckDBConnection, DuckDBInstance } from "@duckdb/node-api";
import pLimit, { type LimitFunction } from "p-limit";
import { BridgeError, isBridgeError } from "../../core/errors.js";
import type { ColumnType } from "../../core/shape/column-type.js";
import type { NameRules } from "../../core/shape/naming.js";
import type {
  LoadOptions,
  SampleRow,
  StreamLoad,
  TableView,
  Warehouse,
  WarehouseSession,
} from "../warehouse.js";
import { DuckLedger } from "./ledger.js";
import { ASIDE_PREFIX, DuckLoad, type LoadPorts } from "./load.js";
import type { StandingTable } from "./merge-plan.js";
import { FILE_DATABASE, schemaName, tableName } from "./types.js";

/** DuckDB itself has no limit; this one keeps names readable. */
const NAMES: NameRules = Object.freeze({ maxBytes: 120 });

/**
 * A warehouse in a DuckDB file; the file is made where there is none. Openings at the same time share a session.
 * @throws BridgeError when opened: WAREHOUSE_LOCKED, WAREHOUSE_FOREIGN, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER
 */
export function duckdb(path: string): Warehouse {
  /** the session that is open for writing, with how many use it: the file can be attached once only */
  let shared: { readonly session: Promise<DuckSession>; users: number } | undefined;
  let closing: Promise<void> = Promise.resolve();
  const share = async (): Promise<WarehouseSession> => {
    shared ??= { session: closing.then(() => openFile(path, false)), users: 0 };
    const mine = shared;
    mine.users++;
    const leave = async () => {
      if (--mine.users > 0) return;
      if (shared === mine) shared = undefined;
      closing = mine.session.then((session) => session.close());
      await closing;
    };
    try {
      return leaseOf(await mine.session, leave);
    } catch (error) {
      if (shared === mine) shared = undefined;
      throw error;
    }
  };
  return {
    title: `DuckDB file ${basename(path)}`,
    grants: () =>
      `-- DuckDB has no users: whoever runs the bridge must be able to read and write\n-- the file ${basename(path)} and to make files in its folder.`,
    open: ({ readOnly = false } = {}) => (readOnly ? openFile(path, true) : share()),
  };
}

/** A session as one of its users sees it: closing it twice leaves once. */
function leaseOf(session: DuckSession, leave: () => Promise<void>): WarehouseSession {
  let left: Promise<void> | undefined;
  return {
    names: session.names,
    ledger: session.ledger,
    openLoad: (options) => session.openLoad(options),
    tryWriting: (schema) => session.tryWriting(schema),
    describeTables: (schema) => session.describeTables(schema),
    sampleRows: (schema, table, limit) => session.sampleRows(schema, table, limit),
    close: () => {
      left ??= leave();
      return left;
    },
  };
}

async function openFile(path: string, readOnly: boolean): Promise<DuckSession> {
  if (readOnly && !(await exists(path))) {
    throw new BridgeError("WAREHOUSE_UNREACHABLE", `There is no DuckDB file ${path} yet.`, {
      hint: "Run a bridge first: it makes the file.",
    });
  }
  const instance = await DuckDBInstance.create(":memory:");
  const writing = await instance.connect();
  try {
    // the ledger's and the samples' times do not depend on where the process runs
    await writing.run("SET TimeZone = 'UTC'");
    const mode = readOnly ? " (READ_ONLY)" : "";
    await writing.run(`ATTACH '${path.replaceAll("'", "''")}' AS ${FILE_DATABASE}${mode}`);
    const turns = pLimit(1);
    const ledger = new DuckLedger(writing, (work) => turns(work));
    await ledger.prepare(readOnly);
    return new DuckSession(instance, writing, ledger, turns, readOnly ? undefined : await instance.connect());
  } catch (error) {
    // else the file would stay attached, and locked, for as long as the process lives
    writing.closeSync();
    instance.closeSync();
    throw openError(error, path);
  }
}

class DuckSession implements WarehouseSession {
  readonly names = NAMES;
  private stages = 0;
  private readonly cleaned = new Set<string>();

  constructor(
    private readonly instance: DuckDBInstance,
    private readonly writing: DuckDBConnection,
    readonly ledger: DuckLedger,
    private readonly turns: LimitFunction,
    /** undefined when the file is open for reading only */
    private readonly staging: DuckDBConnection | undefined,
  ) {}

  async openLoad(options: LoadOptions): Promise<StreamLoad> {
    const { staging } = this;
    if (staging === undefined) throw new BridgeError("INTERNAL", "the file is open for reading only");
    const ports: LoadPorts = {
      staging,
      writing: this.writing,
      ledger: this.ledger,
      inTurn: (work) => this.turns(work),
      stageName: (table) => `${table}_${++this.stages}`,
    };
    return this.turns(async () => {
      await this.dropLeftovers(options.schema);
      const standing = await this.standingTables(options);
      const fresh = !standing.has(options.rootTable);
      return options.write === "replace"
        ? new DuckLoad(options, ports, new Map(), standing, fresh)
        : new DuckLoad(options, ports, standing, new Map(), fresh);
    });
  }

  async close(): Promise<void> {
    await this.turns(async () => {
      this.staging?.closeSync();
      this.writing.closeSync();
      this.instance.closeSync();
    });
  }

  async tryWriting(schema: string): Promise<void> {
    const table = tableName(schema, `${ASIDE_PREFIX}probe`);
    await this.turns(async () => {
      await this.writing.run("BEGIN");
      try {
        await this.writing.run(`CREATE SCHEMA IF NOT EXISTS ${schemaName(schema)}`);
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

  private async read(sql: string, values: string[] = []): Promise<Record<string, unknown>[]> {
    return (await this.writing.runAndReadAll(sql, values)).getRowObjectsJS();
  }

  /**
   * The stream's tables that the ledger knows and that are there.
   * @throws BridgeError TABLE_FOREIGN where a table of the same name is not ours
   */
  private async standingTables({
    schema,
    bridge,
    stream,
    rootTable,
  }: LoadOptions): Promise<Map<string, StandingTable>> {
    const there = await this.columnsOf(schema);
    const standing = new Map<string, Map<string, ColumnType>>();
    for (const column of await this.ledger.columns(schema, bridge, stream)) {
      if (there.get(column.table)?.has(column.name) !== true) continue;
      const columns = standing.get(column.table) ?? new Map<string, ColumnType>();
      standing.set(column.table, columns.set(column.name, column.type));
    }
    if (there.has(rootTable) && !standing.has(rootTable)) {
      const others = await this.ledger.otherTables(schema, bridge, stream);
      const owner = others.includes(rootTable) ? "another bridge" : "something else";
      throw new BridgeError(
        "TABLE_FOREIGN",
        `The table ${schema}.${rootTable} is there already and belongs to ${owner}.`,
        {
          where: { bridge, stream, table: `${schema}.${rootTable}` },
        },
      );
    }
    return standing;
  }

  /** Drops what a broken-off `replace` left aside; once, before any load of this session builds its own. */
  private async dropLeftovers(schema: string): Promise<void> {
    if (this.cleaned.has(schema)) return;
    this.cleaned.add(schema);
    for (const name of (await this.columnsOf(schema)).keys()) {
      if (!name.startsWith(ASIDE_PREFIX)) continue;
      await this.writing.run(`DROP TABLE ${tableName(schema, name)}`);
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

async function exists(path: string): Promise<boolean> {
  return stat(path).then(
    () => true,
    () => false,
  );
}

function openError(error: unknown, path: string): BridgeError {
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
  if (/not a valid DuckDB database/i.test(message)) {
    return new BridgeError("WAREHOUSE_FOREIGN", "The file is there, but it is no DuckDB file.", {
      where,
      cause: error,
    });
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
