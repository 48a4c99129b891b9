/**
 * A store of files while it is open. The work is done in a DuckDB file that is made anew each time, beside the files or
 * in a temporary folder; what is kept between two times is in the store alone.
 */

import { createHash, randomBytes } from "node:crypto";
import { mkdir, mkdtemp, rm, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { type FilesInput, type FilesOptions, filesOptions } from "../../core/define/files-schema.js";
import { BridgeError, isBridgeError } from "../../core/errors.js";
import type { NameRules } from "../../core/shape/naming.js";
import { leaseFile, leaseOf } from "../duckdb/open-files.js";
import { type DuckSession, openFile } from "../duckdb/session.js";
import { quoteText } from "../duckdb/types.js";
import type {
  Ledger,
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
import { filesOf, type TableFile } from "./file-list.js";
import { FilesLoad } from "./load.js";
import { OWN_FOLDER } from "./names.js";
import { fill, makeEmpty, type ReadBack, tablesOf } from "./read-back.js";
import type { Store, StorePlace } from "./store.js";
import { FilesUpkeep } from "./upkeep.js";
import { withOwn } from "./write-files.js";

/** A warehouse of files in a place. */
export function filesWarehouse(place: StorePlace, input: FilesInput): Warehouse {
  const options = filesOptions(input);
  return {
    title: place.title,
    hasFiles: true,
    grants: () => place.grants,
    open: async ({ readOnly = false } = {}) => {
      if (readOnly) return openSession(place, options, await mkdtemp(join(tmpdir(), "early-bridge-")), true);
      const working = workingFolder(place);
      const open = () => openSession(place, options, working, false);
      return leaseOf(await leaseFile(databaseIn(working), false, open));
    },
  };
}

/** Where the DuckDB file of a place is while it is written: one process at a time has it. */
function workingFolder({ id, root }: StorePlace): string {
  if (root !== undefined) return join(root, OWN_FOLDER, "working");
  return join(tmpdir(), `early-bridge-${createHash("sha256").update(id).digest("hex").slice(0, 16)}`);
}

const databaseIn = (folder: string) => join(folder, "working.duckdb");

async function openSession(
  place: StorePlace,
  options: FilesOptions,
  working: string,
  readOnly: boolean,
): Promise<FilesSession> {
  await mkdir(working, { recursive: true }).catch((cause: Error) => {
    const message = `The ${place.title} cannot be used: ${cause.message}.`;
    throw new BridgeError("WAREHOUSE_UNREACHABLE", message, { cause });
  });
  const path = databaseIn(working);
  const store = await place.open();
  try {
    const upkeep = new FilesUpkeep(store, options, working, readOnly);
    const inner = await openFile(path, { readOnly }, upkeep).catch(async (error: unknown) => {
      if (isBridgeError(error, "WAREHOUSE_LOCKED")) throw takenBy(place, error);
      // nothing in it counts: one that was damaged is made anew
      if (!isBridgeError(error, "WAREHOUSE_NOT_OURS") || error.where.file !== path) throw error;
      await rm(path, { force: true });
      return openFile(path, { readOnly }, upkeep);
    });
    return new FilesSession({ inner, store, upkeep, place, options, working });
  } catch (error) {
    await store.close();
    throw error;
  }
}

function takenBy({ title }: StorePlace, error: BridgeError): BridgeError {
  const holder = /: (.*)\.$/.exec(error.message)?.[1];
  const by = holder === undefined ? "" : `: ${holder}`;
  return new BridgeError("WAREHOUSE_LOCKED", `Another program writes into the ${title}${by}.`, {
    hint: "Wait until it has ended: early-bridge run --wait. Readers need not wait.",
    cause: error,
  });
}

interface Parts {
  readonly inner: DuckSession;
  readonly store: Store;
  readonly upkeep: FilesUpkeep;
  readonly place: StorePlace;
  readonly options: FilesOptions;
  readonly working: string;
}

class FilesSession implements WarehouseSession {
  readonly names: NameRules;
  readonly ledger: Ledger;

  constructor(private readonly parts: Parts) {
    this.names = parts.inner.names;
    this.ledger = parts.inner.ledger;
  }

  async openLoad(options: LoadOptions): Promise<StreamLoad> {
    const { inner, store, upkeep, working } = this.parts;
    const { schema, bridge, stream } = options;
    const known = options.known ?? (await this.ledger.columns(schema, bridge, stream));
    const tables = tablesOf(known);
    const standing = await inner.onFile(async (on) => {
      await makeEmpty(on, schema, tables);
      return filesOf(on, options);
    });
    const back: ReadBack = { store, writer: upkeep.writer, scratch: working, tables };
    const load = await inner.openLoad({ ...options, known });
    const rows = standing.filter(({ isKept }) => !isKept).reduce((sum, file) => sum + file.rows, 0);
    return new FilesLoad(
      load,
      options,
      () => upkeep.writer.rowsOf(options) ?? rows,
      () => inner.onFile((on) => fill(on, options, back)),
    );
  }

  dropStream(of: StreamPlace): Promise<void> {
    return this.parts.inner.dropStream(of);
  }

  async about(): Promise<WarehouseFacts> {
    const { place, options, inner } = this.parts;
    const { program } = await inner.about();
    const what = { parquet: "Parquet", csv: "CSV", jsonl: "JSON Lines" }[options.format];
    return { program: `${what} files by ${program}`, way: place.way };
  }

  /** Writes a file and takes it away again. */
  async tryWriting(): Promise<void> {
    const { store, working } = this.parts;
    const name = `${OWN_FOLDER}/probe-${randomBytes(6).toString("hex")}`;
    const path = join(working, "probe");
    await writeFile(path, "probe\n");
    await store.put(path, name);
    await store.remove(name);
  }

  async makeViews(_: ViewPlace, queries: ViewQueries): Promise<ViewOutcome[]> {
    return [...queries.keys()].map((view) => ({ view, outcome: "failed", problem: NO_VIEWS }));
  }

  async checkViews(_: Omit<ViewPlace, "run">, queries: ViewQueries): Promise<Map<string, string>> {
    return new Map([...queries.keys()].map((view) => [view, NO_VIEWS]));
  }

  async describeTables(schema: string): Promise<TableView[]> {
    const files = await this.delivered(schema);
    return [...new Set(files.map(({ table }) => table))].sort().map((name) => {
      const own = files.filter(({ table }) => table === name);
      const columns = withOwn(new Map(own.flatMap((file) => [...file.columns])));
      return {
        name,
        rows: own.reduce((sum, { rows }) => sum + rows, 0),
        columns: [...columns].map(([column, type]) => ({ name: column, type: type.kind })),
      };
    });
  }

  async sampleRows(schema: string, table: string, limit: number): Promise<SampleRow[]> {
    const { store, inner, working } = this.parts;
    const [first] = (await this.delivered(schema)).filter((file) => file.table === table);
    if (first === undefined) return [];
    const path = join(working, `sample-${first.path.slice(first.path.lastIndexOf("/") + 1)}`);
    await store.fetch(first.path, path);
    try {
      const read = { parquet: "read_parquet", csv: "read_csv", jsonl: "read_json" }[first.format];
      const query = `SELECT COLUMNS(*)::VARCHAR FROM ${read}(${quoteText(path)}) LIMIT ${Math.floor(limit)}`;
      return await inner.onFile(async (on) => [...(await on.rows(query))] as SampleRow[]);
    } finally {
      await rm(path, { force: true });
    }
  }

  async close(): Promise<void> {
    const { inner, store, working } = this.parts;
    await inner.close();
    await rm(working, { recursive: true, force: true });
    await store.close();
  }

  private delivered(schema: string): Promise<TableFile[]> {
    return this.parts.inner.onFile(async (on) =>
      (await filesOf(on, { schema })).filter(({ isKept }) => !isKept),
    );
  }
}

const NO_VIEWS = "a folder of files holds no views";
