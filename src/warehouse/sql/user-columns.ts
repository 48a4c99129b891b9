/** What columns of tables that are not ours take, for all dialects. */

import type { UserColumn, ValueBounds } from "../../core/into/user-table.js";
import { type ColumnType, MAX_DECIMAL_DIGITS } from "../../core/shape/column-type.js";

/** What a column's type means. */
export interface ColumnKind {
  /** undefined: only the warehouse knows the type */
  readonly type?: ColumnType | undefined;
  readonly bounds?: ValueBounds | undefined;
  /** times without a zone */
  readonly isLocal?: boolean;
}

/** A type without bounds. */
export const plainKind = (kind: Exclude<ColumnType["kind"], "decimal">): ColumnKind => ({ type: { kind } });

/** Only some texts: those of a list in single quotes, as SQL writes them. */
export function wordsKind(list: string): ColumnKind {
  const texts = list.match(/'(?:[^']|'')*'/g) ?? [];
  return { bounds: { words: texts.map((text) => text.slice(1, -1).replaceAll("''", "'")) } };
}

/** A column of a kind. */
export function userColumn(
  column: Pick<UserColumn, "name" | "words" | "isNeeded" | "hasDefault" | "isGenerated" | "collation">,
  { type, bounds, isLocal }: ColumnKind,
): UserColumn {
  return { ...column, takes: type ?? { kind: "text" }, isForeign: type === undefined, isLocal, bounds };
}

/** What a whole number of so many bits holds. */
export function intBounds(bits: number, isUnsigned = false): ValueBounds {
  const half = 2n ** BigInt(bits - 1);
  return isUnsigned ? { least: 0n, greatest: half * 2n - 1n } : { least: -half, greatest: half - 1n };
}

/** A decimal of any digits: as many before the point as behind it, or nearly so. */
export const anyDecimal: ColumnType = { kind: "decimal", precision: MAX_DECIMAL_DIGITS, scale: 18 };

/** A decimal with so many digits; undefined where no column of ours has as many. */
export function decimalOf(precision: number, scale: number): ColumnType | undefined {
  if (scale < 0 || scale > precision) return undefined;
  return {
    kind: "decimal",
    precision: Math.min(precision, MAX_DECIMAL_DIGITS),
    scale: Math.min(scale, MAX_DECIMAL_DIGITS),
  };
}
