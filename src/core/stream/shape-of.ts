/** The shape of a compiled stream. */

import type { ColumnMatch } from "../into/match-columns.js";
import type { DriftPolicy } from "../shape/drift-policy.js";
import type { NameRules } from "../shape/naming.js";
import { Shape } from "../shape/shape.js";
import type { KnownColumn, RecordLife } from "../shape/shaped.js";
import type { CompiledStream } from "./compile-stream.js";

/** Where its tables stand: what names may be, which are taken, and the columns that are there already. */
export interface ShapePlace {
  readonly names: NameRules;
  readonly takenTables?: ReadonlySet<string>;
  readonly known?: readonly KnownColumn[];
  /** what rows say of their record's life; default: nothing */
  readonly life?: RecordLife;
  /** what happens to what is new in tables that stand; default: it is taken in */
  readonly drift?: DriftPolicy | undefined;
  /** the table that stands already, which rows go into */
  readonly into?: ColumnMatch | undefined;
  /** tells this load from others */
  readonly load?: string | undefined;
}

/** Names as long as they like: for where no warehouse is there to limit them. */
export const ANY_NAMES: NameRules = Object.freeze({ maxBytes: Number.MAX_SAFE_INTEGER });

export function shapeOf(stream: CompiledStream, place: ShapePlace): Shape {
  const { takenTables = new Set(), known, ...rest } = place;
  const { name, description, key, columns, isRemoval, isControl, isTelling, isWanted, room } = stream;
  const own = { description, key, columns, isRemoval, isControl, isTelling, isWanted, room };
  return new Shape({ stream: name, takenTables, ...rest, ...own }, known);
}
