/** The tables of a stream as they stand when it is opened. */

import { BridgeError } from "../../core/errors.js";
import type { ColumnType } from "../../core/shape/column-type.js";
import type { Ledger, LoadOptions } from "../warehouse.js";
import type { Standing } from "./load.js";

/**
 * The stream's tables that the ledger knows: those that are there, and the names of those that are not. `describe`
 * gives the columns of tables of the schema, of these at least.
 * @throws BridgeError TABLE_NOT_OURS where a table of the same name is not ours
 */
export async function standingOf(
  ledger: Ledger,
  { schema, bridge, stream, rootTable, known }: LoadOptions,
  describe: (tables: readonly string[]) => Promise<ReadonlyMap<string, ReadonlySet<string>>>,
): Promise<Standing> {
  const standing = new Map<string, Map<string, ColumnType>>();
  const missing = new Set<string>();
  const columns = known ?? (await ledger.columns(schema, bridge, stream));
  const there = await describe([...new Set([rootTable, ...columns.map(({ table }) => table)])]);
  for (const column of columns) {
    if (!there.has(column.table)) missing.add(column.table);
    if (there.get(column.table)?.has(column.name) !== true) continue;
    const own = standing.get(column.table) ?? new Map<string, ColumnType>();
    standing.set(column.table, own.set(column.name, column.type));
  }
  if (there.has(rootTable) && !standing.has(rootTable)) {
    const others = await ledger.otherTables(schema, bridge, stream);
    const owner = others.includes(rootTable) ? "another bridge" : "something else";
    throw new BridgeError(
      "TABLE_NOT_OURS",
      `The table ${schema}.${rootTable} is there already and belongs to ${owner}.`,
      { where: { bridge, stream, table: `${schema}.${rootTable}` } },
    );
  }
  return { tables: standing, missing: [...missing] };
}
