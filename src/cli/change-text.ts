/** Changes of the tables' form, in words. */

import colors from "picocolors";
import type { SchemaChange } from "../warehouse/warehouse.js";

/** A change on one line; the table with its schema, where one is given. */
export function changeText(
  { table, column, change, fromType, toType, path, example }: SchemaChange,
  schema?: string,
): string {
  const name = schema === undefined ? table : `${schema}.${table}`;
  const at = path === undefined || path === "" || path === column ? "" : ` (${path})`;
  const seen = example === undefined ? "" : colors.dim(`, such as ${example}`);
  switch (change) {
    case "column_added":
      return `${name}: new column ${colors.green(column ?? "")} ${toType ?? ""}${at}${seen}`;
    case "type_widened":
      return `${name}: ${colors.yellow(column ?? "")} was ${fromType ?? ""}, is ${toType ?? ""}${at}${seen}`;
    case "column_ignored":
      return `${name}: ${colors.yellow("left out")} the field ${path ?? ""}${seen}`;
    case "column_stopped":
      return `${name}: no value of ${colors.yellow(column ?? "")} comes any more${at}`;
    case "column_returned": {
      const other = fromType === toType ? "" : `, now as ${toType ?? ""}`;
      return `${name}: values of ${colors.green(column ?? "")} come again${other}${at}`;
    }
    case "table_ignored":
      return `${name}: ${colors.yellow("left out")} ${path ?? ""}`;
    case "table_added":
      return `${name}: new table${at}`;
  }
}
