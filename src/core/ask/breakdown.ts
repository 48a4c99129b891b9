/** Figures by dimensions: the responses of several requests joined again. Pure. */

import { isPlainObject, stringifyExact } from "../shape/exact-json.js";

/**
 * Records of several responses with the same dimensions, joined to one each, in the order of their first coming.
 * A row that only some responses hold keeps what it has; what is no row at all stays as it is, for quarantine.
 * Memory: all records of the responses.
 */
export function joinOnDimensions(
  responses: readonly (readonly unknown[])[],
  dimensions: readonly string[],
): unknown[] {
  const joined = new Map<string, Record<string, unknown>>();
  const odd: unknown[] = [];
  for (const record of responses.flat()) {
    if (!isPlainObject(record)) {
      odd.push(record);
      continue;
    }
    const key = stringifyExact(dimensions.map((name) => record[name] ?? null));
    joined.set(key, { ...joined.get(key), ...record });
  }
  return [...joined.values(), ...odd];
}
