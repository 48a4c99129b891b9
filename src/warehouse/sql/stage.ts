/**
 * Stages: where rows wait between two checkpoints. Filling them is each warehouse's own way, for that is where
 * speed is.
 */

import type { TableBatch } from "../../core/shape/batch.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { KeyColumn, SqlConnection } from "./dialect.js";

/** Beside the target's columns, a stage has the number of the record that a row came from. */
export const SEQUENCE_COLUMN = "eb_seq";
export const NUMBERS: readonly KeyColumn[] = [{ name: SEQUENCE_COLUMN, type: { kind: "int64" } }];

/** Rows are held up to so many bytes, then they are sent to a server; tests make them few. */
export const SENT_AT_ONCE = { bytes: 2 * 1024 * 1024 };

/** One table's stage between two checkpoints. */
export interface Stage {
  readonly table: string;
  /** what stands in it after `flush`, for SQL to read; for SQL to change as well after `writable` */
  readonly sqlName: string;
  readonly rows: number;
  /** its rows are in their table, inside of the transaction that is to be committed */
  readonly isStraight?: boolean;
  /** Makes the stage, or brings it to the schema: columns come at the end, types widen. */
  setSchema(schema: TableSchema): Promise<void>;
  /** Copies a batch in; `firstSeq` is the number of the page's first record. */
  append(batch: TableBatch, firstSeq: number): Promise<void>;
  /** Makes the appended rows visible to the connection that commits. */
  flush(): Promise<void>;
  /** Makes it a table that statements can change. */
  writable(): Promise<void>;
  drop(): Promise<void>;
  /** Takes away, at the end of a commit and inside of it, what would stay. */
  settle?(): Promise<void>;
  /**
   * Statements that make it the table of a name, which is not there, where it can be one: with the columns of the
   * schema in their order, and those of every row. Its rows are that table's then; they go with a transaction that
   * fails.
   */
  become?(place: TablePlace, schema: TableSchema, of: WrittenBy): readonly string[] | undefined;
}

/** A table's name, and that of its schema. */
export interface TablePlace {
  readonly schema: string;
  readonly name: string;
}

/** The run that writes rows, and when. */
export interface WrittenBy {
  readonly run: number;
  readonly loadedAtMs: number;
}

/** A table that rows go straight into. */
export interface StraightTarget extends WrittenBy {
  /** in full */
  readonly sqlName: string;
}

/** A table that rows go into ahead of their checkpoint. */
export interface AheadTarget extends StraightTarget {
  /** where it is not there yet: the statement for its schema, and those that make it */
  readonly make: { readonly schema: string; statements(): readonly string[] } | undefined;
}

/** How a stage is used. */
export interface StageUse {
  /** it may turn into its table */
  readonly mayBecome?: boolean;
  /** the table that rows may go straight into, while nothing speaks against it */
  readonly straight?: StraightTarget | undefined;
  /** Where rows of a schema may go ahead of their checkpoint, when it is known whether they may. */
  readonly ahead?: ((table: TableSchema) => Promise<AheadTarget | undefined>) | undefined;
}

/** The stages that are filled together. */
export interface StageSet {
  /** the connection that commits them */
  readonly connection: SqlConnection;
  stage(table: string, use: StageUse): Stage;
  /** what waits takes much room while it is committed */
  readonly isHeavy?: boolean;
  /** Decides on rows that are in their tables ahead: the commit is theirs where all are new, else they go back. */
  settleAhead?(areNew: boolean): Promise<void>;
  close(): Promise<void>;
}
