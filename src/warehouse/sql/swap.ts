/** `replace`: tables built beside the ones that stand take their place, and what that changed is counted. */

import type { TableSchema } from "../../core/shape/table-shape.js";
import { NO_ROWS, type RowCounts } from "../row-counts.js";
import type { SchemaChange } from "../warehouse.js";
import { planTable, readAs, type StandingTable } from "./merge-plan.js";
import { isKeyed, NO_MATCHES, type SqlWork } from "./work.js";

/** Tables of a stream that is replaced are built under this prefix, and renamed at the end. */
export const NEXT_PREFIX = "eb_next_";

export interface Swap {
  readonly schema: string;
  /** the stream's tables, its own first */
  readonly tables: readonly TableSchema[];
  /** those that were built */
  readonly built: readonly string[];
  /** those that stand now */
  readonly replaced: ReadonlyMap<string, StandingTable>;
  /** rows that went into the stream's own table, and removals of such; those that came twice counted */
  readonly builtRows: number;
}

/** Counts what the swap changes, and puts the tables in place. To be called inside of a transaction. */
export async function swapTables(work: SqlWork, swap: Swap): Promise<RowCounts> {
  const counts = await countReplaced(work, swap);
  if (work.sql.tablesApart === true) return counts;
  for (const table of new Set([...swap.replaced.keys(), ...swap.built]))
    await work.run(placeOf(work, swap, table));
  return counts;
}

/** Statements that put a table in place, or away where none was built. */
function placeOf(work: SqlWork, swap: Swap, table: string): readonly string[] {
  const { sql } = work;
  const [target, next] = [sql.tableName(swap.schema, table), nextName(work, swap, table)];
  const standing = swap.replaced.get(table);
  const rename = `ALTER TABLE ${next} RENAME TO ${sql.quoteName(table)}`;
  if (standing === undefined) return [rename];
  const isBuilt = swap.built.includes(table);
  if (sql.takePlace === undefined) return [`DROP TABLE ${target}`, ...(isBuilt ? [rename] : [])];
  const schema = swap.tables.find(({ name }) => name === table);
  return isBuilt && schema !== undefined
    ? sql.takePlace(target, next, schema, standing)
    : [`DELETE FROM ${target}`];
}

/** What differs from the tables that stood. */
export function changesBySwap(work: SqlWork, tables: readonly TableSchema[], replaced: Swap["replaced"]) {
  return tables
    .filter((table) => table.columns.length > 0)
    .flatMap(
      (table): readonly SchemaChange[] => planTable(work.sql, "", table, replaced.get(table.name)).changes,
    );
}

function nextName({ sql }: SqlWork, { schema }: Swap, table: string): string {
  return sql.tableName(schema, NEXT_PREFIX + table);
}

async function countReplaced(work: SqlWork, swap: Swap): Promise<RowCounts> {
  const [root] = swap.tables;
  if (root === undefined) return NO_ROWS;
  const old = work.sql.tableName(swap.schema, root.name);
  const next = nextName(work, swap, root.name);
  const isBuilt = swap.built.includes(root.name);
  const now = isBuilt ? await work.countRows(next) : 0;
  const doubled = swap.builtRows - now;
  const before = swap.replaced.get(root.name);
  if (before === undefined) return { ...NO_ROWS, added: now, doubled };
  const was = await work.countRows(old);
  if (!isKeyed(root)) return { ...NO_ROWS, added: now, removed: was, doubled };
  const shared = root.columns.filter((column) => before.has(column.name));
  const isComparable = isBuilt && root.recordKey.every((name) => before.has(name));
  const { matched, unchanged } = isComparable
    ? await work.countMatches(next, readAs(work.sql, old, root, before), { ...root, columns: shared })
    : NO_MATCHES;
  const stillUnchanged = shared.length < root.columns.length ? 0 : unchanged;
  const changed = matched - stillUnchanged;
  return {
    ...NO_ROWS,
    added: now - matched,
    changed,
    unchanged: stillUnchanged,
    removed: was - matched,
    doubled,
  };
}
