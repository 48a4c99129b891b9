/** What is stored of a record, as a digest: two states are the same where it is equal. */

import { type Concealed, concealedIn, hashText } from "./concealed-values.js";
import { isPlainObject, stringifyExact } from "./exact-json.js";
import { LIST_STEP } from "./steps.js";

/**
 * 32 hexadecimal digits of the SHA-256 over the record as JSON with its keys in order; what becomes no column, and
 * fields, objects and lists that hold no value, count for nothing.
 */
export function recordState(record: unknown, concealed: readonly Concealed[], stepsIn: StepsIn): string {
  const text = stringifyExact(inOrder(concealedIn(record, concealed), [], stepsIn) ?? null);
  return hashText(text).slice(0, 32);
}

/** The path of a key within an object; undefined where it is not stored. */
export type StepsIn = (parts: readonly string[], key: string) => readonly string[] | undefined;

/** Undefined for what holds no value. */
function inOrder(value: unknown, parts: readonly string[], stepsIn: StepsIn): unknown {
  if (value === null) return undefined;
  if (Array.isArray(value)) {
    // its places count: a null within a list is a value
    const items = value.map((item) => inOrder(item, [...parts, LIST_STEP], stepsIn) ?? null);
    return items.length === 0 ? undefined : items;
  }
  if (!isPlainObject(value)) return value;
  const kept = Object.keys(value)
    .sort()
    // an integer as a key would stand before the others in any object: a mark keeps the order
    .map((key) => {
      const steps = stepsIn(parts, key);
      return [`.${key}`, steps && inOrder(value[key], steps, stepsIn)] as const;
    })
    .filter(([, inner]) => inner !== undefined);
  return kept.length === 0 ? undefined : Object.fromEntries(kept);
}
