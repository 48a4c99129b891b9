/** A table that stands already and belongs to somebody else: what it takes, and why it cannot take a stream. */

import type { ColumnType } from "../shape/column-type.js";

/** A column as the warehouse describes it. */
export interface UserColumn {
  readonly name: string;
  /** its type in the warehouse's own words */
  readonly words: string;
  /** what values of it are read as, where nobody declares another type */
  readonly takes: ColumnType;
  /** texts are put in by a cast to its own type, which only the warehouse knows: a time of day, an address, … */
  readonly isForeign?: boolean | undefined;
  /** times without a zone: those of UTC */
  readonly isLocal?: boolean | undefined;
  /** it takes no NULL */
  readonly isNeeded: boolean;
  /** the warehouse fills it where a row says nothing */
  readonly hasDefault: boolean;
  /** the warehouse alone fills it */
  readonly isGenerated: boolean;
  readonly bounds?: ValueBounds | undefined;
  /** by which texts are compared, where the warehouse has several */
  readonly collation?: string | undefined;
}

/** What a column's type says of its values, beside their kind. */
export interface ValueBounds {
  /** signs of a text (Unicode's code points), at most */
  readonly signs?: number | undefined;
  /** bytes of a text in UTF-8, or of bytes, at most */
  readonly bytes?: number | undefined;
  readonly least?: bigint | undefined;
  readonly greatest?: bigint | undefined;
  /** the only texts that there may be */
  readonly words?: readonly string[] | undefined;
}

/** A table as the warehouse describes it. */
export interface UserTable {
  readonly schema: string;
  readonly name: string;
  readonly columns: readonly UserColumn[];
  /** columns that no two rows have alike, one list for each such rule */
  readonly uniqueKeys: readonly (readonly string[])[];
  /** what keeps it from being written in one transaction with the ledger, in words; undefined: nothing */
  readonly obstacle?: string | undefined;
  /** what we may not do with it: SELECT, INSERT, UPDATE, DELETE */
  readonly lacks: readonly string[];
  /** the sign in which a name stands that is not plain */
  readonly quote: '"' | "`";
}

/** A table's name as messages have it. */
export const nameOfTable = ({ schema, name }: Pick<UserTable, "schema" | "name">) => `${schema}.${name}`;

/** A name as its owner writes it in SQL. */
export function sqlName({ quote }: Pick<UserTable, "quote">, name: string): string {
  return /^[a-z_][a-z0-9_]*$/.test(name) ? name : quote + name.replaceAll(quote, quote + quote) + quote;
}

/** Why a value does not go into a column, in words behind the path; undefined where it does. Of the column's kind. */
export function whyNotHeld({ bounds, isNeeded }: UserColumn, value: unknown): string | undefined {
  if (value === undefined || value === null)
    return isNeeded ? "which takes no NULL, and nothing came" : undefined;
  if (bounds === undefined) return undefined;
  const { signs, bytes, least, greatest, words } = bounds;
  if (least !== undefined || greatest !== undefined) return outside(wholeOf(value), least, greatest);
  if (typeof value !== "string") return undefined;
  if (words !== undefined && !words.includes(value)) return `which takes ${words.join(", ")} alone, seen`;
  if (signs !== undefined && value.length > signs && countSigns(value) > signs)
    return `which takes ${signs} signs, seen ${countSigns(value)}:`;
  if (bytes !== undefined && value.length * 3 > bytes && encoder.encode(value).length > bytes)
    return `which takes ${bytes} bytes, seen more:`;
  return undefined;
}

const encoder = new TextEncoder();

function countSigns(text: string): number {
  let count = 0;
  for (const _ of text) count++;
  return count;
}

function wholeOf(value: unknown): bigint | undefined {
  if (typeof value === "bigint") return value;
  if (typeof value === "number") return Number.isSafeInteger(value) ? BigInt(value) : undefined;
  const text = String(value);
  return /^-?\d+$/.test(text) ? BigInt(text) : undefined;
}

function outside(
  value: bigint | undefined,
  least: bigint | undefined,
  greatest: bigint | undefined,
): string | undefined {
  if (value === undefined) return undefined;
  if (least !== undefined && value < least) return `which takes ${least} at least, seen`;
  return greatest !== undefined && value > greatest ? `which takes ${greatest} at most, seen` : undefined;
}
