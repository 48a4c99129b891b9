/** Records that are kept in several states: appended as they come, or as versions with the times when they held. */

import type { TableSchema } from "../../core/shape/table-shape.js";
import { NO_ROWS, type RowCounts } from "../row-counts.js";
import {
  collapseStatement,
  countNewQuery,
  countSameQuery,
  followStatement,
  goneEarlierStatement,
  untilStatement,
  withoutVersion,
} from "./life-plan.js";
import { deleteStatement } from "./merge-plan.js";
import { insertRows, type MergeTarget } from "./merge-target.js";
import type { Slot } from "./slot.js";
import type { SqlWork } from "./work.js";

interface Merge {
  readonly slot: Slot;
  readonly target: MergeTarget;
  readonly root: TableSchema;
  /** what waits for the stream's own table, without what stands already */
  readonly stage: string;
}

/** Adds the states that waited; what stands is left alone. */
export async function mergeStates(work: SqlWork, { slot, target, root, stage }: Merge): Promise<RowCounts> {
  const name = target.nameOf(root.name);
  const rows = await work.countRows(stage);
  const added = await work.count(countNewQuery(work.sql, stage, name, root.entityKey));
  await insertRows(work, slot, target);
  return { ...NO_ROWS, added, changed: rows - added };
}

/** Puts versions in their places by time; what is as the one before it makes none. */
export async function mergeVersions(work: SqlWork, { slot, target, root, stage }: Merge): Promise<RowCounts> {
  const { sql } = work;
  const name = target.nameOf(root.name);
  const rows = await work.countRows(stage);
  const added = await work.count(countNewQuery(sql, stage, name, root.entityKey));
  if (added === rows) {
    // one version each, of records that have none: nothing comes before or behind it
    await insertRows(work, slot, target);
    return { ...NO_ROWS, added };
  }
  const tables = target.tables.filter((table) => target.isThere(table.name));
  await work.run([goneEarlierStatement(sql, name, stage, root)]);
  // the API has corrected what held since that very time
  for (const table of tables)
    await work.run([deleteStatement(sql, target.nameOf(table.name), table.recordKey, stage, root.recordKey)]);
  await insertRows(work, slot, target);
  const unchanged = await work.count(countSameQuery(sql, name, stage, root));
  await work.run([collapseStatement(sql, name, stage, root), untilStatement(sql, name, stage, root)]);
  const own = { target: name, table: root };
  for (const table of tables.slice(1)) {
    const child = { target: target.nameOf(table.name), table };
    if (unchanged > 0) await work.run([withoutVersion(sql, child, own, stage)]);
    await work.run([followStatement(sql, child, own, stage)]);
  }
  return { ...NO_ROWS, added, changed: rows - added - unchanged, unchanged };
}
