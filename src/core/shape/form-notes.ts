/** What is told of data whose form goes beyond what tables have room for. */

import { formatPath } from "./naming.js";
import { MORE_COLUMN, MOST_KEYS, MOST_TABLES } from "./table-shape.js";

export function tooManyKeys(parts: readonly string[]): string {
  return `${formatPath(parts)} has more than ${MOST_KEYS} keys: they are data, so it becomes one json column.`;
}

export function tooManyFields(table: string, parts: readonly string[]): string {
  return `Table ${table} has ${MOST_KEYS} fields: those that come beyond them stand in its column ${MORE_COLUMN}, the first of them is ${formatPath(parts)}.`;
}

export function tooManyTables(parts: readonly string[]): string {
  return `The stream has ${MOST_TABLES} tables: the list ${formatPath(parts)} stands in a json column.`;
}
