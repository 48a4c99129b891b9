/**
 * The small interface between the engine and a warehouse.
 *
 *   Warehouse ── open() ──▶ WarehouseSession ──┬─ ledger      runs, cursors, columns, quarantine
 *                                              └─ openLoad() ─▶ StreamLoad: add … checkpoint … finish
 *
 * A checkpoint commits rows, child rows, schema changes, quarantine, cursor and ledger entry in one transaction.
 */

import type { DeleteMode } from "../core/define/project-schema.js";
import type { WriteMethod } from "../core/define/write-method.js";
import type { ColumnMatch } from "../core/into/match-columns.js";
import type { UserTable } from "../core/into/user-table.js";
import type { WarehouseNeeds } from "../core/into/warehouse-needs.js";
import type { TableBatch } from "../core/shape/batch.js";
import type { NameRules } from "../core/shape/naming.js";
import type { Issue, KnownColumn, SchemaChange, Shaped } from "../core/shape/shaped.js";
import type { TableSchema } from "../core/shape/table-shape.js";
import type { SavedCursor } from "../core/track/cursor.js";
import type { RowCounts } from "./row-counts.js";

export type { SchemaChange };

/** A place for tables, opened for each run. */
export interface Warehouse {
  /** how messages name it, such as `DuckDB file huts.duckdb` */
  readonly title: string;
  /** whether its tables are files, so that none stands which rows of a stream could go into; default: they are not */
  readonly hasFiles?: boolean | undefined;
  /** SQL that gives a user of the warehouse exactly what a bridge needs */
  grants(needs: WarehouseNeeds): string;
  /** @throws BridgeError WAREHOUSE_LOCKED, WAREHOUSE_NOT_OURS, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER */
  open(options?: OpenOptions): Promise<WarehouseSession>;
}

/** How a warehouse is opened. */
export interface OpenOptions {
  readonly readOnly?: boolean | undefined;
  /** only what does not ask the ledger is used: that may be missing */
  readonly withoutLedger?: boolean | undefined;
}

/** A warehouse while it is open. */
export interface WarehouseSession {
  /** What the warehouse says of itself. */
  about(): Promise<WarehouseFacts>;
  /** Tries what a bridge needs in the schema (make it, make a table, write a row) and takes it all back. */
  tryWriting(schema: string): Promise<void>;
  readonly names: NameRules;
  readonly ledger: Ledger;
  openLoad(options: LoadOptions): Promise<StreamLoad>;
  /**
   * A table that stands, as it is; undefined where it is not there or may not be seen. Left out where a warehouse of
   * this kind has none that are not ours: then no load is opened `into` one, and the ledger has no `filledColumns`.
   */
  userTable?(schema: string, table: string): Promise<UserTable | undefined>;
  /** Drops a stream's tables and all that the ledger knows of where it stands; its runs and quarantine stay. */
  dropStream(of: StreamPlace): Promise<void>;
  /**
   * Makes a project's views of a schema, each from its query, and drops those that it had made and that are no longer
   * among them. One that cannot be made keeps no other from it.
   */
  makeViews(of: ViewPlace, queries: ViewQueries, atMs: number): Promise<ViewOutcome[]>;
  /** What keeps views from being made now, in words, by name; changes nothing. */
  checkViews(of: Omit<ViewPlace, "run">, queries: ViewQueries): Promise<Map<string, string>>;
  /** the tables of a schema as the warehouse itself describes them */
  describeTables(schema: string): Promise<TableView[]>;
  /** some rows, every value as the warehouse writes it; times in UTC */
  sampleRows(schema: string, table: string, limit: number): Promise<SampleRow[]>;
  close(): Promise<void>;
}

/** Values by column, each as the warehouse writes it. */
export type SampleRow = Readonly<Record<string, string | null>>;

/** A table as the warehouse describes it. */
export interface TableView {
  readonly name: string;
  readonly rows: number;
  /** types in the warehouse's own words */
  readonly columns: readonly { readonly name: string; readonly type: string }[];
}

/** A stream of a bridge, and where its tables are. */
export interface StreamPlace {
  readonly bridge: string;
  readonly stream: string;
  readonly schema: string;
}

/** A warehouse's program, and the way to it. */
export interface WarehouseFacts {
  /** name and version */
  readonly program: string;
  /** how what is sent is kept from others: `TLSv1.3`; `file`, `socket`, `loopback`: it stays here; none: it is not */
  readonly way?: string | undefined;
}

/** Queries by the name of their view. */
export type ViewQueries = ReadonlyMap<string, string>;

/** The bridge that views belong to, the run that makes them, and where they are. */
export interface ViewPlace {
  readonly bridge: string;
  readonly run: number;
  readonly schema: string;
}

/** What became of a view. */
export interface ViewOutcome {
  readonly view: string;
  readonly outcome: "made" | "dropped" | "failed";
  /** why it failed */
  readonly problem?: string | undefined;
}

/** Rows that a later run than that one wrote; and where it wrote them itself, those that are as far in a column. */
export interface NotOver {
  readonly run: number;
  /** the column of the stream's own table that tells how far a record is */
  readonly column?: string | undefined;
}

/** Which stream is loaded, where to and how. */
export interface LoadOptions extends StreamPlace {
  readonly run: number;
  readonly rootTable: string;
  readonly write: WriteMethod;
  /** what happens to the rows of records that are gone */
  readonly deletes: DeleteMode;
  /** the table that stands already, which rows go into; its schema and name are those above */
  readonly into?: LoadInto | undefined;
  /** the time that goes into `eb_loaded_at`, ms since 1970 */
  readonly loadedAtMs: number;
  /** which rows are newer than what comes, and not to be replaced; default: none */
  readonly notOver?: NotOver | undefined;
  /** what the ledger knows of the stream's columns, where it was read just now */
  readonly known?: readonly KnownColumn[] | undefined;
}

/** How a stream goes into a table that is not ours. */
export interface LoadInto {
  readonly match: ColumnMatch;
  /** rows of records that are told to be gone are deleted */
  readonly removes: boolean;
  /** columns that earlier runs have filled; none: this is the first one */
  readonly filled: readonly KnownColumn[];
}

/** A change as the journal has it. */
export interface JournaledChange extends SchemaChange {
  readonly run: number;
  readonly bridge: string | undefined;
  readonly stream: string | undefined;
  readonly schema: string;
  readonly changedAtMs: number;
}

/** What a checkpoint has changed. */
export interface Committed {
  readonly counts: RowCounts;
  readonly changes: readonly SchemaChange[];
}

/** What requests cost in an account's limits since the last entry, by group; "" is for those of no group. */
export interface Spent {
  readonly account: string;
  readonly byGroup: ReadonlyMap<string, number>;
}

/** What is committed with a checkpoint's rows. */
export interface CheckpointEntry {
  readonly number: number;
  /** the cursors that have moved, by part; "" is a stream without parts */
  readonly cursors: ReadonlyMap<string, SavedCursor>;
  readonly atMs: number;
  readonly spent: Spent;
  /** records of the quarantine that this checkpoint settles */
  readonly settled?: readonly Settled[] | undefined;
}

/** What is committed with a sweep. */
export interface SweepEntry extends Pick<CheckpointEntry, "atMs"> {
  /** what may be gone at once, of the records that stand */
  readonly share: number;
  /** only records whose field at this path tells a later time: the others were not asked for */
  readonly newer?: { readonly path: string; readonly thanMs: number } | undefined;
  /** only records whose field at this path has one of these values: all that came whole */
  readonly only?: { readonly path: string; readonly values: readonly string[] } | undefined;
  /** some parts did not come whole: the next run is to sweep again */
  readonly isPartial?: boolean | undefined;
}

/** A record that did not fit, as the ledger keeps it. */
export interface Quarantined extends Issue {
  /** 12 hexadecimal digits: the begin of the record's digest */
  readonly id: string;
  readonly run: number;
  readonly bridge: string;
  readonly stream: string;
  readonly quarantinedAtMs: number;
}

/** Which open records of a bridge's quarantine. */
export interface QuarantineFilter {
  readonly bridge: string;
  readonly stream?: string | undefined;
  /** by which they came */
  readonly run?: number | undefined;
  readonly reason?: string | undefined;
  readonly path?: string | undefined;
  readonly id?: string | undefined;
}

/** What is wrong with open records that came by one run. */
export interface QuarantineFault extends Pick<Quarantined, "bridge" | "stream" | "run" | "reason" | "path"> {
  /** how many they are */
  readonly records: number;
  /** of the last of them */
  readonly id: string;
  readonly message: string;
  readonly quarantinedAtMs: number;
}

/** What became of records in quarantine. */
export interface Settled {
  readonly ids: readonly string[];
  /** mended: it, or something newer, is in the tables; left_out: by a rule; discarded: by a person */
  readonly how: "mended" | "left_out" | "discarded";
  readonly why?: string | undefined;
  readonly run?: number | undefined;
}

/** One stream's way into its tables, in one run. */
export interface StreamLoad {
  /** whether the stream's own table is not there yet: a cursor kept for it means nothing */
  readonly fresh: boolean;
  /** tables of the stream that the ledger knows and that are gone: somebody has dropped them */
  readonly missing: readonly string[];
  /** rows of all tables waiting for the next checkpoint */
  readonly waitingRows: number;
  /** what waits in memory takes as much room as it may: a checkpoint is due, whatever speaks for waiting */
  readonly isFull?: boolean | undefined;
  /** what waits takes much room while it is committed: a checkpoint is due, however few the rows */
  readonly isHeavy?: boolean | undefined;
  /** a checkpoint now would cost more than what waits is worth: one that falls due may come later */
  readonly mayWait?: boolean | undefined;
  /** the next checkpoint had better come after so many rows: what it finds decides on a faster way */
  readonly firstRows?: number | undefined;
  /**
   * Takes a page. `schema` is given when it has changed since the last call. Rows are copied. Of a record that came and
   * is also among those removed, what was told of it last counts.
   */
  add(shaped: Shaped, schema: readonly TableSchema[] | undefined): Promise<void>;
  /** Commits what is waiting. Rows may be added while it is under way; they belong to the next one. */
  checkpoint(entry: CheckpointEntry): Promise<Committed>;
  /** The last checkpoint of a stream that was read to its end; `replace` swaps its tables in. */
  finish(entry: CheckpointEntry): Promise<Committed>;
  /** Takes keys of records that live, as columns of the stream's own table: after `finish`, before `sweep`. */
  addLiving(keys: TableBatch): Promise<void>;
  /**
   * Removes or marks the records that stand and are not among those that live, but for those that this run wrote; and
   * notes the sweep.
   * @throws BridgeError SWEEP_TOO_MUCH where that is more than the share, or all: then nothing is changed
   */
  sweep(entry: SweepEntry): Promise<Committed>;
  /** Drops what is not committed. May be called at any time, also after `finish`. */
  close(): Promise<void>;
}

/**
 * incomplete: rows may be missing, and the cursor stayed; paused: the API's limit is used up; stopped: on request;
 * broken off: the process is gone
 */
export type RunOutcome = "running" | "done" | "incomplete" | "paused" | "stopped" | "failed" | "broken_off";

/** A run that begins. */
export interface RunStart {
  readonly bridge: string;
  readonly startedAtMs: number;
}

/** A failure as the ledger keeps it. */
export interface ErrorRecord {
  readonly code: string;
  readonly message: string;
  /** the place, on one line */
  readonly where: string;
  readonly hint: string;
}

/**
 * A stream's part in a run, as the ledger keeps it. Times are in ms. Of a stream that was read to its end, `received`
 * is the sum of what was added, changed, unchanged, removed on being told (not by `replace` or a sweep), left out,
 * quarantined, doubled and passed over.
 */
export interface StreamRecord extends RowCounts {
  readonly stream: string;
  readonly outcome: RunOutcome;
  /** records that the API gave */
  readonly received: number;
  /** those that rules left out: `where`, or older than the cursor */
  readonly leftOut: number;
  /** those that were kept */
  readonly records: number;
  readonly quarantined: number;
  readonly pages: number;
  readonly checkpoints: number;
  readonly requests: number;
  readonly retries: number;
  readonly waitedMs: number;
  readonly bytes: number;
  readonly askMs: number;
  readonly shapeMs: number;
  readonly loadMs: number;
}

/** The same with the stream's failure, where there is one. */
export interface StreamEnd extends StreamRecord {
  readonly failure?: ErrorRecord | undefined;
}

/** The same with what changed in the form of its tables. */
export interface StreamOutcome extends StreamEnd {
  readonly changes: readonly SchemaChange[];
}

/** A run as the ledger keeps it. Times are ms since 1970. */
export interface RunRecord {
  readonly run: number;
  readonly bridge: string;
  readonly outcome: RunOutcome;
  readonly startedAtMs: number;
  readonly endedAtMs: number | undefined;
  readonly errorCode: string | undefined;
  readonly errorMessage: string | undefined;
  readonly streams: readonly StreamOutcome[];
}

/** How a run ended. */
export interface RunEnd {
  readonly run: number;
  readonly outcome: RunOutcome;
  readonly endedAtMs: number;
  readonly errorCode?: string | undefined;
  readonly errorMessage?: string | undefined;
  readonly streams: readonly StreamEnd[];
  readonly spent: Spent;
}

/** What a warehouse keeps of runs, cursors and columns. */
export interface Ledger {
  /** a sealed text kept under a name: tokens of accounts that share the warehouse */
  readSealed(name: string): Promise<string | undefined>;
  /** undefined removes it */
  writeSealed(name: string, sealed: string | undefined): Promise<void>;
  /**
   * Numbers a run and notes it; runs of the bridge that never ended are marked as broken off.
   * @throws BridgeError BRIDGE_RUNNING where this process runs the bridge already
   */
  startRun(start: RunStart): Promise<number>;
  /** The run of a bridge is over, however it ended: the next one may start. */
  letGo(bridge: string): void;
  endRun(end: RunEnd): Promise<void>;
  /** the cursors of a stream's parts; "" is a stream without parts */
  cursors(bridge: string, stream: string): Promise<Map<string, SavedCursor>>;
  /** Sets the cursors of some parts; undefined takes one away. */
  setCursors(
    of: StreamPlace,
    cursors: ReadonlyMap<string, SavedCursor | undefined>,
    atMs: number,
  ): Promise<void>;
  /** when a stream was swept last, ms since 1970; undefined: never */
  lastSweep(bridge: string, stream: string): Promise<number | undefined>;
  /** what is wrong with records in quarantine that nobody has settled, by stream and run */
  faults(filter: QuarantineFilter): Promise<QuarantineFault[]>;
  /** those of one stream, oldest first, some at a time */
  quarantined(filter: QuarantineFilter & { readonly stream: string }): AsyncIterable<readonly Quarantined[]>;
  /** Notes what became of some of them. */
  settle(of: StreamPlace, settled: Settled, atMs: number): Promise<void>;
  /** what has changed in the tables' form, oldest first */
  changes(filter: { readonly bridge?: string | undefined }): Promise<JournaledChange[]>;
  /** what all runs of an account have spent after a moment, up to two days back */
  spentSince(
    account: string,
    atMs: number,
  ): Promise<{ readonly atMs: number; readonly group: string; readonly cost: number }[]>;
  /** the columns that are known of a stream's tables */
  columns(schema: string, bridge: string, stream: string): Promise<KnownColumn[]>;
  /** the columns of a table that is not ours, `rootTable`, that a stream's fields have filled so far */
  filledColumns?(of: StreamPlace, rootTable: string): Promise<KnownColumn[]>;
  /** tables in the schema that belong to other streams */
  otherTables(schema: string, bridge: string, stream: string): Promise<string[]>;
  /** newest first */
  runs(filter: {
    readonly bridge?: string | undefined;
    readonly run?: number | undefined;
    readonly limit: number;
  }): Promise<RunRecord[]>;
}
