/** The shape of a compiled stream. */

import type { NameRules } from "../shape/naming.js";
import { Shape } from "../shape/shape.js";
import type { KnownColumn } from "../shape/shaped.js";
import type { CompiledStream } from "./compile-stream.js";

/** Where its tables stand: what names may be, which are taken, and the columns that are there already. */
export interface ShapePlace {
  readonly names: NameRules;
  readonly takenTables?: ReadonlySet<string>;
  readonly known?: readonly KnownColumn[];
}

/** Names as long as they like: for where no warehouse is there to limit them. */
export const ANY_NAMES: NameRules = Object.freeze({ maxBytes: Number.MAX_SAFE_INTEGER });

export function shapeOf(
  stream: CompiledStream,
  { names, takenTables = new Set(), known }: ShapePlace,
): Shape {
  const { name, description, key, columns, isRemoval, isControl, isWanted } = stream;
  const own = { description, key, columns, isRemoval, isControl, isWanted };
  return new Shape({ stream: name, names, takenTables, ...own }, known);
}
