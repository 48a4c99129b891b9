/**
 * Stages: where rows wait between two checkpoints. Filling them is each warehouse's own way, for that is where
 * speed is.
 */

import type { TableBatch } from "../../core/shape/batch.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { SqlConnection } from "./dialect.js";

/** Beside the target's columns, a stage has the number of the record that a row came from. */
export const SEQUENCE_COLUMN = "eb_seq";

/** One table's stage between two checkpoints. */
export interface Stage {
  readonly table: string;
  /** what stands in it after `flush`, for SQL to read; for SQL to change as well after `writable` */
  readonly sqlName: string;
  readonly rows: number;
  /** Makes the stage, or brings it to the schema: columns come at the end, types widen. */
  setSchema(schema: TableSchema): Promise<void>;
  /** Copies a batch in; `firstSeq` is the number of the page's first record. */
  append(batch: TableBatch, firstSeq: number): Promise<void>;
  /** Makes the appended rows visible to the connection that commits. */
  flush(): Promise<void>;
  /** Makes it a table that statements can change. */
  writable(): Promise<void>;
  drop(): Promise<void>;
}

/** The stages that are filled together. */
export interface StageSet {
  /** the connection that commits them */
  readonly connection: SqlConnection;
  stage(table: string): Stage;
  close(): Promise<void>;
}
