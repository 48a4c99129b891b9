/** What a load needs of the session that it belongs to, and what it tells it. */

import type { TableSchema } from "../../core/shape/table-shape.js";
import type { RowCounts } from "../row-counts.js";
import type { CheckpointEntry, LoadOptions, SchemaChange, StreamPlace, SweepEntry } from "../warehouse.js";
import type { SqlConnection, SqlDialect } from "./dialect.js";
import type { Misfits } from "./ledger-quarantine.js";
import type { StandingTable } from "./merge-plan.js";
import type { StageSet } from "./stage.js";
import type { StraightPorts } from "./straight.js";
import type { Swap } from "./swap.js";
import type { SqlWork } from "./work.js";

/** What became of a sweep. */
export interface SweepNote extends SweepEntry {
  readonly living: number;
  readonly gone: number;
}

/** What a load notes in the ledger, inside the transaction of its checkpoint. */
export interface LoadNotes {
  /** @throws BridgeError BRIDGE_RUNNING where another process has taken the bridge over */
  checkOwner(on: SqlConnection, options: LoadOptions): Promise<void>;
  noteColumns(
    on: SqlConnection,
    options: LoadOptions,
    tables: readonly TableSchema[],
    atMs: number,
  ): Promise<void>;
  noteChanges(
    on: SqlConnection,
    options: LoadOptions,
    changes: readonly SchemaChange[],
    atMs: number,
  ): Promise<void>;
  /** whether records of the stream wait in quarantine */
  hasQuarantined(on: SqlConnection, options: LoadOptions): Promise<boolean>;
  noteMisfits(on: SqlConnection, options: LoadOptions, misfits: Misfits, atMs: number): Promise<void>;
  noteCheckpoint(
    on: SqlConnection,
    options: LoadOptions,
    entry: CheckpointEntry,
    rows: number,
  ): Promise<void>;
  noteSweep(on: SqlConnection, options: LoadOptions, sweep: SweepNote): Promise<void>;
}

/** What a load needs of the session that it belongs to. */
export interface LoadPorts {
  readonly sql: SqlDialect;
  /** for commits of what has no stage */
  readonly writing: SqlConnection;
  readonly notes: LoadNotes;
  /** stages for the time between two checkpoints */
  openStages(): Promise<StageSet>;
  inTurn<T>(work: () => Promise<T>): Promise<T>;
  /** where tables change apart from transactions: what has to happen to them after one */
  readonly places?: TablePlaces | undefined;
  /** Takes what a commit leaves in the stream's tables, inside of its transaction. */
  readonly writeOut?: ((work: SqlWork, left: LeftTables) => Promise<void>) | undefined;
  /** rows may go into their tables ahead of their checkpoint */
  readonly goesAhead?: boolean | undefined;
  /** undefined: rows go by stages */
  readonly straight?: StraightPorts | undefined;
  /** whether a checkpoint is in the ledger: asked where the answer to its commit was lost */
  hasCommitted?: ((options: LoadOptions, number: number) => Promise<boolean>) | undefined;
}

/** A stream's tables as a commit leaves them. */
export interface LeftTables {
  readonly options: LoadOptions;
  /** the columns of those that are there; the two of every row, its run and time, come after them */
  readonly tables: ReadonlyMap<string, StandingTable>;
  /** of the stream's own table */
  readonly counts: RowCounts;
  /** those whose form is another one now */
  readonly changed: ReadonlySet<string>;
}

/** Tables that were built and wait to take the place of others, when the commit that says so stands. */
export interface TablePlaces {
  /** Notes it, inside of the transaction. */
  note(on: SqlConnection, options: LoadOptions, swap: Pick<Swap, "built" | "replaced">): Promise<void>;
  /** Does what was noted for a stream. */
  take(on: SqlConnection, of: StreamPlace): Promise<void>;
}
