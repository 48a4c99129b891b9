/** The types of a column, and the lattice that chooses one from all values seen. */

export type ColumnType =
  | { readonly kind: "boolean" }
  | { readonly kind: "int64" }
  | { readonly kind: "float64" }
  | { readonly kind: "decimal"; readonly precision: number; readonly scale: number }
  | { readonly kind: "text" }
  | { readonly kind: "date" }
  | { readonly kind: "timestamp" }
  | { readonly kind: "local_timestamp" }
  | { readonly kind: "uuid" }
  | { readonly kind: "bytes" }
  | { readonly kind: "json" };

export type TypeKind = ColumnType["kind"];

/** Digits that a decimal column can hold at most, in every warehouse. */
export const MAX_DECIMAL_DIGITS = 38;

const PLAIN_KINDS: ReadonlySet<string> = new Set<TypeKind>([
  "boolean",
  "int64",
  "float64",
  "text",
  "date",
  "timestamp",
  "local_timestamp",
  "uuid",
  "bytes",
  "json",
]);

/** The words a user may write for a type; `decimal(12,2)` stands for every precision and scale. */
export const TYPE_WORDS: readonly string[] = [...PLAIN_KINDS, "decimal(12,2)"];

/** A regular expression that type words match; precision and scale have their limits beside it. */
export const TYPE_PATTERN = `^(?:${[...PLAIN_KINDS].join("|")}|decimal\\(\\s*\\d{1,2}\\s*,\\s*\\d{1,2}\\s*\\))$`;

/** Reads `int64`, `decimal(12,2)`, …; undefined where the text names no type. */
export function parseColumnType(text: string): ColumnType | undefined {
  if (PLAIN_KINDS.has(text)) return { kind: text as Exclude<TypeKind, "decimal"> };
  const match = /^decimal\(\s*(\d{1,2})\s*,\s*(\d{1,2})\s*\)$/.exec(text);
  if (match === null) return undefined;
  const precision = Number(match[1]);
  const scale = Number(match[2]);
  if (precision < 1 || precision > MAX_DECIMAL_DIGITS || scale > precision) return undefined;
  return { kind: "decimal", precision, scale };
}

/** The type as users write it. */
export function formatColumnType(type: ColumnType): string {
  return type.kind === "decimal" ? `decimal(${type.precision},${type.scale})` : type.kind;
}

export function sameType(a: ColumnType | undefined, b: ColumnType | undefined): boolean {
  if (a === undefined || b === undefined) return a === b;
  return formatColumnType(a) === formatColumnType(b);
}

/** Kinds of values seen in a column, as bits. The type is a function of the bits, so no order matters. */
export const SEEN = {
  boolean: 1,
  /** an integer of at most 2^53: exact in a float64 as well */
  smallInt: 2,
  /** an integer that needs int64 */
  wideInt: 4,
  /** a number that fits neither int64 nor float64: every digit is kept */
  exact: 8,
  float: 16,
  text: 32,
  date: 64,
  instant: 128,
  localTime: 256,
  uuid: 512,
  json: 1024,
} as const;

/** All that must be remembered of a column's values to choose its type again later. */
export interface Seen {
  readonly mask: number;
  /** digits before the point, at most, over the `exact` values */
  readonly intDigits: number;
  /** digits behind the point, at most, over the `exact` values */
  readonly scale: number;
}

export const NOTHING_SEEN: Seen = { mask: 0, intDigits: 0, scale: 0 };

export function mergeSeen(a: Seen, b: Seen): Seen {
  return {
    mask: a.mask | b.mask,
    intDigits: Math.max(a.intDigits, b.intDigits),
    scale: Math.max(a.scale, b.scale),
  };
}

export function sameSeen(a: Seen, b: Seen): boolean {
  return a.mask === b.mask && a.intDigits === b.intDigits && a.scale === b.scale;
}

const NUMBERS = SEEN.smallInt | SEEN.wideInt | SEEN.exact | SEEN.float;

/**
 * The narrowest type that holds everything seen without loss; undefined when nothing but null was seen.
 * Widening goes: nothing → anything, int64 → float64 or decimal, date → timestamp, all → text → json.
 */
export function typeOfSeen(seen: Seen): ColumnType | undefined {
  const { mask } = seen;
  const only = (bits: number) => (mask & ~bits) === 0;
  if (mask === 0) return undefined;
  if (mask & SEEN.json) return { kind: "json" };
  if (only(SEEN.boolean)) return { kind: "boolean" };
  if (only(SEEN.smallInt | SEEN.wideInt)) return { kind: "int64" };
  if (only(SEEN.smallInt | SEEN.float)) return { kind: "float64" };
  if (only(NUMBERS) && !(mask & SEEN.float)) return exactType(seen);
  if (only(SEEN.date)) return { kind: "date" };
  if (only(SEEN.date | SEEN.instant)) return { kind: "timestamp" };
  if (only(SEEN.date | SEEN.localTime)) return { kind: "local_timestamp" };
  if (only(SEEN.uuid)) return { kind: "uuid" };
  return { kind: "text" };
}

/** A decimal wide enough for the exact numbers and any int64 beside them, else text. */
function exactType({ mask, intDigits, scale }: Seen): ColumnType {
  const whole = mask & (SEEN.smallInt | SEEN.wideInt) ? Math.max(intDigits, 19) : intDigits;
  return whole + scale <= MAX_DECIMAL_DIGITS
    ? { kind: "decimal", precision: MAX_DECIMAL_DIGITS, scale }
    : { kind: "text" };
}
