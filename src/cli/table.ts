/** Tables for people: a header line, columns as wide as needed, numbers to the right. */

import Table from "cli-table3";
import colors from "picocolors";

export interface TableColumn {
  readonly title: string;
  readonly right?: boolean;
}

const NO_LINES = Object.fromEntries(
  ["top", "top-mid", "top-left", "top-right", "bottom", "bottom-mid", "bottom-left", "bottom-right"]
    .concat(["left", "left-mid", "mid", "mid-mid", "right", "right-mid"])
    .map((part) => [part, ""]),
);

/** The rows under their titles, indented by two. */
export function tableText(columns: readonly TableColumn[], rows: readonly (readonly string[])[]): string {
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
