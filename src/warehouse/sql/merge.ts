/** Carries what waits in a slot into its tables: doubles away, what is gone deleted, the rest put in. */

import type { TableSchema } from "../../core/shape/table-shape.js";
import { addCounts, NO_ROWS, type RowCounts } from "../warehouse.js";
import { dedupeStatements, deleteStatement, insertStatement, lastWordStatements } from "./merge-plan.js";
import type { Slot } from "./slot.js";
import { isKeyed, NO_MATCHES, type SqlWork } from "./work.js";

/** The tables of a stream, its own first, where they are built, and what every row gets. */
export interface MergeTarget {
  readonly tables: readonly TableSchema[];
  /** the full name of the table that rows go into */
  nameOf(table: string): string;
  /** whether it is there by now */
  isThere(table: string): boolean;
  readonly run: number;
  readonly loadedAtMs: number;
}

/**
 * Leaves the last of what came of each record, a row or its removal; tells how many went. The stages may be in another
 * database: their clean-up is a transaction of its own, before the commit.
 */
export async function dedupe(work: SqlWork, slot: Slot, root: TableSchema): Promise<number> {
  if (!isKeyed(root)) return 0;
  const { recordKey: key } = root;
  const came = slot.rows.get(root.name)?.sqlName;
  const gone = slot.removed?.sqlName;
  const children = [...slot.rows.values()].filter(({ table }) => table !== root.name);
  const withChildren = children.map(({ sqlName }) => sqlName);
  let doubled = 0;
  for (const stages of [
    came === undefined ? [] : [came, ...withChildren],
    gone === undefined ? [] : [gone],
  ]) {
    const [first] = stages;
    const again = first === undefined ? 0 : await work.countDoubled(first, key);
    if (again > 0) await work.run(dedupeStatements(work.sql, stages, key));
    doubled += again;
  }
  if (came === undefined || gone === undefined) return doubled;
  doubled += await work.countShared(came, gone, key);
  await work.run(lastWordStatements(work.sql, came, withChildren, gone, key));
  return doubled;
}

/** What the merge of a slot changed in the stream's own table. To be called inside of a transaction, after `dedupe`. */
export async function mergeSlot(work: SqlWork, slot: Slot, target: MergeTarget): Promise<RowCounts> {
  const gone = await mergeRemoved(work, slot, target);
  return addCounts(gone, await mergeRows(work, slot, target));
}

async function mergeRows(work: SqlWork, slot: Slot, target: MergeTarget): Promise<RowCounts> {
  const [root] = target.tables;
  const staged = root && slot.rows.get(root.name);
  if (root === undefined || staged === undefined) return NO_ROWS;
  const { matched, unchanged } = isKeyed(root)
    ? await work.countMatches(staged.sqlName, target.nameOf(root.name), root)
    : NO_MATCHES;
  if (matched > 0) await deleteRecords(work, staged.sqlName, target);
  for (const table of target.tables) {
    const stage = slot.rows.get(table.name);
    const name = target.nameOf(table.name);
    if (stage !== undefined) await work.run([insertStatement(work.sql, name, stage.sqlName, table, target)]);
  }
  const added = (await work.countRows(staged.sqlName)) - matched;
  return { ...NO_ROWS, added, changed: matched - unchanged, unchanged };
}

/** Removes the records that are gone, children as well; one that does not stand there changes nothing. */
async function mergeRemoved(work: SqlWork, { removed }: Slot, target: MergeTarget): Promise<RowCounts> {
  const [root] = target.tables;
  if (root === undefined || removed === undefined) return NO_ROWS;
  const told = await work.countRows(removed.sqlName);
  const stood = target.isThere(root.name)
    ? await work.countShared(target.nameOf(root.name), removed.sqlName, root.recordKey)
    : 0;
  if (stood > 0) await deleteRecords(work, removed.sqlName, target);
  return { ...NO_ROWS, removed: stood, unchanged: told - stood };
}

/** Deletes the rows of all records whose keys are in a stage. */
async function deleteRecords(work: SqlWork, stage: string, target: MergeTarget): Promise<void> {
  const { recordKey } = target.tables[0]!;
  for (const table of target.tables) {
    if (!target.isThere(table.name)) continue;
    const name = target.nameOf(table.name);
    await work.run([deleteStatement(work.sql, name, table.recordKey, stage, recordKey)]);
  }
}
