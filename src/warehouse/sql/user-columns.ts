/** What columns of tables that are not ours take, for all dialects. */

import type { ValueBounds } from "../../core/into/user-table.js";
import { type ColumnType, MAX_DECIMAL_DIGITS } from "../../core/shape/column-type.js";

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
