/** Tables for people: a header line, columns as wide as needed, numbers to the right. */

import { stripVTControlCharacters } from "node:util";
import Table from "cli-table3";
import colors from "picocolors";

export interface TableColumn {
  readonly title: string;
  readonly right?: boolean;
  /** the order in which columns are left out where the terminal is too narrow for all; those without one stay */
  readonly leaves?: number;
}

const NO_LINES = Object.fromEntries(
  ["top", "top-mid", "top-left", "top-right", "bottom", "bottom-mid", "bottom-left", "bottom-right"]
    .concat(["left", "left-mid", "mid", "mid-mid", "right", "right-mid"])
    .map((part) => [part, ""]),
);

const INDENT = 2;
const GAP = 2;

/** The columns that there is room for, by their numbers. */
function fitting(
  columns: readonly TableColumn[],
  rows: readonly (readonly string[])[],
  width: number,
): number[] {
  const widths = columns.map(({ title }, i) =>
    Math.max(title.length, ...rows.map((row) => stripVTControlCharacters(row[i] ?? "").length)),
  );
  const kept = new Set(columns.keys());
  const total = () => [...kept].reduce((sum, i) => sum + widths[i]! + GAP, INDENT - GAP);
  const leaving = [...columns.keys()]
    .filter((i) => columns[i]!.leaves !== undefined)
    .sort((a, b) => columns[a]!.leaves! - columns[b]!.leaves!);
  for (const i of leaving) if (total() > width) kept.delete(i);
  return [...kept];
}

/** The rows under their titles, indented by two. `width`: that of the terminal; default: as wide as need be. */
export function tableText(
  allColumns: readonly TableColumn[],
  allRows: readonly (readonly string[])[],
  width = process.stdout.columns ?? Number.POSITIVE_INFINITY,
): string {
  const shown = fitting(allColumns, allRows, width);
  const columns = shown.map((i) => allColumns[i]!);
  const rows = allRows.map((row) => shown.map((i) => row[i] ?? ""));
  const table = new Table({
    chars: { ...NO_LINES, middle: "  " },
    style: { "padding-left": 0, "padding-right": 0, head: [], border: [] },
    colAligns: columns.map((column) => (column.right === true ? "right" : "left")),
    head: columns.map((column) => colors.dim(column.title)),
  });
  for (const row of rows) table.push([...row]);
  return table
    .toString()
    .split("\n")
    .map((line) => `  ${line.trimEnd()}`)
    .join("\n");
}
