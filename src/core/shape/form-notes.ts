/** What is told of data whose form is not quite that of tables. */

import { formatPath } from "./naming.js";
import { KEY_COLUMN, MORE_COLUMN } from "./own-columns.js";
import { MAP_STEP } from "./steps.js";

export function keysAreData(table: string, parts: readonly string[]): string {
  return `Keys of ${formatPath(parts)} are data: each is a row of ${table}, its key in ${KEY_COLUMN}; as: columns makes columns of them.`;
}

export function tooManyFields(table: string, parts: readonly string[], most: number): string {
  return `Table ${table} has ${most} fields: those that come beyond them stand in its column ${MORE_COLUMN}, the first of them is ${formatPath(parts)}.`;
}

export function tooManyTables(parts: readonly string[], most: number): string {
  const what = parts.at(-1) === MAP_STEP ? "map" : "list";
  return `The stream has ${most} tables: the ${what} ${formatPath(parts.slice(0, -1))} stands in a json column.`;
}

export function twoForms(table: string, parts: readonly string[]): string {
  return `${formatPath(parts)} comes as an object and as a list: the one is columns, the other rows of ${table}; as: table or as: columns makes one of them.`;
}
