/** Parts: the independently fetched pieces of a stream, one for each value of a fan-out. */

import { aTypeName, BridgeError, type Where } from "../errors.js";
import type { Scalar } from "../language/template.js";
import { ExactNumber } from "../shape/exact-json.js";

export interface Part {
  /** names the part in the ledger; "" for a stream without parts */
  readonly key: string;
  readonly values: Readonly<Record<string, Scalar>>;
}

export const WHOLE_STREAM: Part = { key: "", values: {} };

/** A part for values by name: `hut_id=3&sensor=a%20b`, the same on every run. */
export function partOf(values: Readonly<Record<string, Scalar>>): Part {
  const key = Object.entries(values)
    .map(([name, value]) => `${name}=${encodeURIComponent(String(value))}`)
    .join("&");
  return { key, values };
}

/** What a part of a key's ranges calls its bounds: the first belongs to it, the other does not; one may be missing. */
export function rangeNames(name: string): { readonly from: string; readonly to: string } {
  return { from: `${name}_from`, to: `${name}_to` };
}

/**
 * Values of a fan-out as they came: empty ones and repetitions are left out.
 * @throws BridgeError PART_INVALID for a value that no address can hold
 */
export function partValues(found: Iterable<unknown>, name: string, where: Where): Scalar[] {
  const values = new Map<string, Scalar>();
  for (const raw of found) {
    if (raw === null || raw === undefined || raw === "") continue;
    const value = raw instanceof ExactNumber ? raw.text : raw;
    if (typeof value === "object" || typeof value === "function" || typeof value === "symbol")
      throw new BridgeError("PART_INVALID", `A value of each.${name} is ${aTypeName(value)}.`, { where });
    if (!values.has(String(value))) values.set(String(value), value as Scalar);
  }
  return [...values.values()];
}
