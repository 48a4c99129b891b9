/** Values that a declared type, or the column of a table that stands, cannot hold: their records go to quarantine. */

import { typeName } from "../errors.js";
import { whyNotHeld } from "../into/user-table.js";
import { formatColumnType } from "./column-type.js";
import { encodeColumn, scalarText } from "./encode.js";
import type { Issue } from "./shaped.js";
import type { ColumnShape, TableShape } from "./table-shape.js";

/** Adds to `skip` the records whose values do not fit. */
export function checkDeclared(
  tables: readonly TableShape[],
  records: readonly unknown[],
  skip: Set<number>,
  issues: Issue[],
): void {
  for (const table of tables) {
    for (const column of table.columns) {
      if (column.role !== "data") continue;
      for (const { row, ...found } of [...ofOtherType(column, table.rows), ...notHeld(column, table.rows)]) {
        const index = table.recordOf[row]!;
        if (skip.has(index)) continue;
        skip.add(index);
        issues.push({ ...found, path: column.path, record: records[index] });
      }
    }
  }
}

type Misfit = Pick<Issue, "reason" | "message"> & { readonly row: number };

function ofOtherType(column: ColumnShape, rows: number): Misfit[] {
  const { type, into } = column.rule;
  if (type === undefined || type.kind === "text" || type.kind === "json") return [];
  const { column: encoded, misfits } = encodeColumn(column.name, type, column.values, rows);
  column.encoded = encoded;
  const how = column.standing === type ? "has been" : "is declared";
  const holds =
    into === undefined
      ? `${how} ${formatColumnType(type)}`
      : `goes into ${into.name}, which is ${into.words}`;
  return misfits.map((row) => {
    const value = column.values[row];
    const message = `${column.path} ${holds}, seen ${typeName(value)} ${clip(scalarText(value))}`;
    return { row, reason: "type_mismatch", message };
  });
}

function notHeld(column: ColumnShape, rows: number): Misfit[] {
  const { into, type } = column.rule;
  if (into === undefined || (!into.isNeeded && into.bounds === undefined)) return [];
  const misfits: Misfit[] = [];
  for (let row = 0; row < rows; row++) {
    const value = column.values[row] ?? undefined;
    const held =
      value !== undefined && (type?.kind === "text" || type?.kind === "json") ? scalarText(value) : value;
    const why = whyNotHeld(into, held);
    if (why === undefined) continue;
    const seen = held === undefined ? "" : ` ${clip(scalarText(held))}`;
    misfits.push({
      row,
      reason: "not_held",
      message: `${column.path} goes into ${into.name}, ${why}${seen}`,
    });
  }
  return misfits;
}

function clip(text: string): string {
  return text.length > 60 ? `${text.slice(0, 57)}…` : text;
}
