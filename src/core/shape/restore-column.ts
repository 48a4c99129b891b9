/** Columns that stand, as the ledger knows them. */

import { parsePath } from "./naming.js";
import type { KnownColumn } from "./shaped.js";
import type { FieldNode, TableShape } from "./table-shape.js";

/** Gives a field the column that stands; `keepsType`: what its type cannot hold is a misfit, as if it were declared. */
export function restoreColumn(
  table: TableShape,
  field: FieldNode,
  known: KnownColumn,
  keepsType: boolean,
): void {
  const isFixed = keepsType && field.rule.type === undefined;
  const rule = isFixed ? { ...field.rule, type: known.type } : field.rule;
  field.column ??= table.addDataColumn(parsePath(known.path) ?? [], rule, known.name);
  field.column.standing = known.type;
  field.column.missingRows = known.missingRows ?? 0;
  field.column.hasStopped = known.hasStopped ?? false;
  if (isFixed) field.column.seen = known.seen;
  else if (field.rule.type === undefined) field.column.learn(known.seen);
}
