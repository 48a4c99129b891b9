/** What a stream says of one path. */

import { formatPath } from "./naming.js";
import type { ShapeSpec } from "./shaped.js";
import type { ColumnRule } from "./table-shape.js";

const NO_RULE: ColumnRule = Object.freeze({});
const NO_COLUMN: ColumnRule = Object.freeze({ skip: true });

/** The rule for a path: what is not wanted, and what says something of the record, becomes no column. */
export function ruleAt(
  { isWanted, isControl, columns, into }: Pick<ShapeSpec, "isWanted" | "isControl" | "columns" | "into">,
  parts: readonly string[],
): ColumnRule {
  if (isWanted?.(parts) === false) return NO_COLUMN;
  const rule =
    columns.get(formatPath(parts)) ?? (isControl?.(parts.at(-1) ?? "") === true ? NO_COLUMN : NO_RULE);
  return into === undefined ? rule : into.ruleOf(parts, rule);
}
