/** Rules of columns from two sources. */

import type { ColumnRule } from "../shape/table-shape.js";

/** Of one path, what the second says goes before what the first does, word by word. */
export function mergedRules(
  rules: ReadonlyMap<string, ColumnRule>,
  own: ReadonlyMap<string, ColumnRule>,
): ReadonlyMap<string, ColumnRule> {
  const all = new Map(rules);
  for (const [path, rule] of own) {
    const said = Object.entries(rule).filter(([, value]) => value !== undefined);
    all.set(path, { ...rules.get(path), ...Object.fromEntries(said) });
  }
  return all;
}
