/** What a stream says of one path. */

import { formatPath } from "./naming.js";
import type { ShapeSpec } from "./shaped.js";
import type { ColumnRule } from "./table-shape.js";

const NO_RULE: ColumnRule = Object.freeze({});
const NO_COLUMN: ColumnRule = Object.freeze({ skip: true });

/** The rule for a path: what is not wanted, and what says something of the record, becomes no column. */
export function ruleAt(
  { isWanted, isControl, columns }: Pick<ShapeSpec, "isWanted" | "isControl" | "columns">,
  parts: readonly string[],
): ColumnRule {
  if (isWanted?.(parts) === false) return NO_COLUMN;
  return columns.get(formatPath(parts)) ?? (isControl?.(parts.at(-1) ?? "") === true ? NO_COLUMN : NO_RULE);
}
