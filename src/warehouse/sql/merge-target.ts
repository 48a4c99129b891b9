/** Where a merge goes, and how what waits is put in. */

import type { TableSchema } from "../../core/shape/table-shape.js";
import type { LoadOptions } from "../warehouse.js";
import { insertStatement } from "./merge-plan.js";
import type { Slot } from "./slot.js";
import type { SqlWork } from "./work.js";

/** The tables of a stream, its own first, where they are built, and what every row gets. */
export interface MergeTarget
  extends Pick<LoadOptions, "write" | "deletes" | "run" | "loadedAtMs" | "notOver"> {
  readonly tables: readonly TableSchema[];
  /** the full name of the table that rows go into */
  nameOf(table: string): string;
  /** whether it is there by now */
  isThere(table: string): boolean;
  /** tables that what waits for them has turned into */
  readonly become: ReadonlySet<string>;
}

/** Copies all that waits into its tables. */
export async function insertRows(work: SqlWork, { rows }: Slot, target: MergeTarget): Promise<void> {
  for (const table of target.tables) {
    const stage = target.become.has(table.name) ? undefined : rows.get(table.name);
    const name = target.nameOf(table.name);
    if (stage !== undefined) await work.run([insertStatement(work.sql, name, stage.sqlName, table, target)]);
  }
}
