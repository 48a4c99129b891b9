/** What is stored of a record, as a digest: two states are the same where it is equal. */

import { type Concealed, concealedIn, hashText } from "./concealed-values.js";
import { isPlainObject, stringifyExact } from "./exact-json.js";

/**
 * 32 hexadecimal digits of the SHA-256 over the record as JSON with its keys in order; what becomes no column, and
 * fields, objects and lists that hold no value, count for nothing.
 */
export function recordState(
  record: unknown,
  concealed: readonly Concealed[],
  isStored: (parts: readonly string[]) => boolean,
): string {
  const text = stringifyExact(inOrder(concealedIn(record, concealed), [], isStored) ?? null);
  return hashText(text).slice(0, 32);
}

/** Undefined for what holds no value. */
function inOrder(
  value: unknown,
  parts: readonly string[],
  isStored: (parts: readonly string[]) => boolean,
): unknown {
  if (value === null) return undefined;
  if (Array.isArray(value)) {
    // its places count: a null within a list is a value
    const items = value.map((item) => inOrder(item, [...parts, "[*]"], isStored) ?? null);
    return items.length === 0 ? undefined : items;
  }
  if (!isPlainObject(value)) return value;
  const kept = Object.keys(value)
    .sort()
    .filter((key) => isStored([...parts, key]))
    // an integer as a key would stand before the others in any object: a mark keeps the order
    .map((key) => [`.${key}`, inOrder(value[key], [...parts, key], isStored)] as const)
    .filter(([, inner]) => inner !== undefined);
  return kept.length === 0 ? undefined : Object.fromEntries(kept);
}
