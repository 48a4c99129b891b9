/** Names of the columns that say where in its lists and maps a child row stands. */

import { type NameRules, nameForPath } from "./naming.js";
import { KEY_COLUMN, POSITION_COLUMN, WITHIN_COLUMN } from "./own-columns.js";
import { isManyStep, MAP_STEP } from "./steps.js";

/** What they are of: its place in a list, its key in a map, or the items of the same table that it lies within. */
export type PlaceKind = "position" | "key" | "within";

const OWN = { position: POSITION_COLUMN, key: KEY_COLUMN, within: WITHIN_COLUMN };

/** A list that is called `eb` has another name for its places: those are taken. */
const TAKEN: ReadonlySet<string> = new Set(Object.values(OWN));

/** Whether the items of a table are told apart by their places in a list, or by their keys in a map. */
export function placeKind(tableSteps: readonly string[]): "position" | "key" {
  return tableSteps.at(-1) === MAP_STEP ? "key" : "position";
}

/** The paths of the tables above a table, the outermost first, and its own. */
export function levelsOf(tableSteps: readonly string[]): string[][] {
  return tableSteps.flatMap((step, i) => (isManyStep(step) ? [tableSteps.slice(0, i + 1)] : []));
}

/** The name, in a table, of a column for the place on one of its levels. */
export function placeName(
  table: readonly string[],
  level: readonly string[],
  kind: PlaceKind,
  names: NameRules,
): string {
  if (level.length === table.length) return OWN[kind];
  return nameForPath([...tableWords(level), kind], TAKEN, names);
}

/** The words of a table's name: a list right within a list has no key of its own. */
export function tableWords(tableSteps: readonly string[]): string[] {
  return tableSteps.flatMap((step, i) => {
    if (!isManyStep(step)) return [step];
    return i > 0 && isManyStep(tableSteps[i - 1]!) ? ["items"] : [];
  });
}
