/** A sweep: what stands and is not among the keys that the API gives is gone. */

import { BridgeError } from "../../core/errors.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import { NO_ROWS, type RowCounts } from "../row-counts.js";
import type { SweepEntry } from "../warehouse.js";
import { countRecordsQuery, missingStatement } from "./life-plan.js";
import { mergeSlot } from "./merge.js";
import type { MergeTarget } from "./merge-target.js";
import type { Slot } from "./slot.js";
import { keyColumns, type SqlWork } from "./work.js";

/** So few may always be gone: a share of a few records says little. */
const FEWEST = 5;

/** Slots with the keys of records that live, and one for those that are gone. */
export interface SweepSlots {
  readonly living: Slot;
  readonly gone: Slot;
}

/**
 * Finds what is gone. The stages may be in another database: this is no part of the commit.
 * @throws BridgeError SWEEP_TOO_MUCH
 */
export async function findGone(
  work: SqlWork,
  { living, gone }: SweepSlots,
  target: MergeTarget,
  { share, newer, only }: SweepEntry,
): Promise<void> {
  const root = target.tables[0]!;
  const kept = await living.openRemoved(root);
  const missing = await gone.openRemoved(root);
  const name = target.nameOf(root.name);
  await work.run(work.sql.findable?.(kept.sqlName, keyColumns(root)) ?? []);
  const stages = { gone: missing.sqlName, living: kept.sqlName };
  const conditions = [
    newer && newerCondition(work, root, newer),
    only && onlyCondition(work, root, only),
  ].filter((each) => each !== undefined);
  const condition = conditions.length === 0 ? undefined : conditions.join(" AND ");
  const standing = await work.count(countRecordsQuery(name, root, condition));
  await work.run([missingStatement(work.sql, stages, name, root, target.run, condition)]);
  const count = await work.countRows(missing.sqlName);
  const isTooMuch = count > Math.max(FEWEST, standing * share) || (kept.rows === 0 && count > 0 && share < 1);
  if (isTooMuch)
    throw new BridgeError(
      "SWEEP_TOO_MUCH",
      `A sweep found ${kept.rows} keys, and ${count} of the ${standing} records that stand are not among them; ${share * 100} % may be gone at once.`,
      { where: { table: root.name } },
    );
}

/** @throws BridgeError CONFIG_INVALID where the column holds no times */
function newerCondition(
  { sql }: SqlWork,
  { name: table, columns }: TableSchema,
  { path, thanMs }: NonNullable<SweepEntry["newer"]>,
): string {
  const column = columns.find((each) => each.path === path && each.role === "data");
  const isTime = column !== undefined && ["timestamp", "local_timestamp", "date"].includes(column.type.kind);
  if (!isTime)
    throw new BridgeError(
      "CONFIG_INVALID",
      `A sweep's reach goes by ${path}, which holds no times in ${table}.`,
      {
        where: { table },
        hint: "Declare its type under columns, with the form in which the API writes it; or leave reach out.",
      },
    );
  return `t.${sql.quoteName(column.name)} > ${sql.instant(thanMs)}`;
}

/** @throws BridgeError CONFIG_INVALID where no column holds what tells the parts */
function onlyCondition(
  { sql }: SqlWork,
  { name: table, columns }: TableSchema,
  { path, values }: NonNullable<SweepEntry["only"]>,
): string {
  if (values.length === 0) return "FALSE";
  const column = columns.find((each) => each.path === path && each.role === "data");
  if (column === undefined || !["int64", "text", "uuid", "boolean", "date"].includes(column.type.kind))
    throw new BridgeError(
      "CONFIG_INVALID",
      `A sweep's parts go by ${path}, which ${table} has not as a column of whole numbers or texts.`,
      {
        where: { table },
        hint: "Name the field that holds the value of each part; add puts one into every record.",
      },
    );
  const value = sql.widened(column.name, column.type, { kind: "text" });
  return `${value} IN (${values.map((each) => sql.text(each)).join(", ")})`;
}

/** Removes or marks what is gone. To be called inside of a transaction. */
export async function takeGone(work: SqlWork, { gone }: SweepSlots, target: MergeTarget): Promise<RowCounts> {
  const { removed } = await mergeSlot(work, gone, target);
  return { ...NO_ROWS, removed };
}
