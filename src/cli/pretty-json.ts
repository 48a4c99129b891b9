/** A record as people read it. */

import { ExactNumber } from "../core/shape/exact-json.js";

/** Indented JSON. */
export function prettyJson(record: unknown): string {
  return JSON.stringify(plainNumbers(record), undefined, 2);
}

/** A value as plain JSON: what JSON has no numbers for stands as text. */
export function plainNumbers(value: unknown): unknown {
  if (typeof value === "bigint")
    return value >= Number.MIN_SAFE_INTEGER && value <= Number.MAX_SAFE_INTEGER
      ? Number(value)
      : String(value);
  if (value instanceof ExactNumber) return value.text;
  if (Array.isArray(value)) return value.map(plainNumbers);
  if (typeof value !== "object" || value === null) return value;
  return Object.fromEntries(Object.entries(value).map(([key, inner]) => [key, plainNumbers(inner)]));
}
