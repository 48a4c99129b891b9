/** Values that a declared type cannot hold: their records go to quarantine. */

import { typeName } from "../errors.js";
import { formatColumnType } from "./column-type.js";
import { encodeColumn, scalarText } from "./encode.js";
import type { Issue } from "./shaped.js";
import type { TableShape } from "./table-shape.js";

/** Adds to `skip` the records whose values do not fit a declared type. */
export function checkDeclared(
  tables: readonly TableShape[],
  records: readonly unknown[],
  skip: Set<number>,
  issues: Issue[],
): void {
  for (const table of tables) {
    for (const column of table.columns) {
      const { type } = column.rule;
      if (type === undefined || column.role !== "data" || type.kind === "text" || type.kind === "json")
        continue;
      const { column: encoded, misfits } = encodeColumn(column.name, type, column.values, table.rows);
      column.encoded = encoded;
      for (const row of misfits) {
        const index = table.recordOf[row]!;
        if (skip.has(index)) continue;
        skip.add(index);
        const seen = clip(scalarText(column.values[row]));
        const how = column.standing === type ? "has been" : "is declared";
        const message = `${column.path} ${how} ${formatColumnType(type)}, seen ${typeName(column.values[row])} ${seen}`;
        issues.push({ reason: "type_mismatch", path: column.path, message, record: records[index] });
      }
    }
  }
}

function clip(text: string): string {
  return text.length > 60 ? `${text.slice(0, 57)}…` : text;
}
