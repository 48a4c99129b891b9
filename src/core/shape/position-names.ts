/** Names of the columns that hold a child row's places in its lists. */

import { type NameRules, nameForPath } from "./naming.js";
import { POSITION_COLUMN } from "./shaped.js";
import type { TableShape } from "./table-shape.js";

/** Those of a table below another: the outermost list first, its own last. */
export function positionNames(parent: TableShape, names: NameRules): string[] {
  const plain = parent.parts.filter((part) => part !== "[*]");
  const outer = parent.positions.map(({ name }) =>
    name === POSITION_COLUMN ? nameForPath([...plain, "position"], new Set(), names) : name,
  );
  return [...outer, POSITION_COLUMN];
}
