/** Filters that are put together: the stream's own, the cursor's, the range's and the place in a list by key. */

import type { KeyPart } from "./entity-key.js";
import { literalOf } from "./literal.js";
import type { ODataVersion } from "./model.js";

/** All of several conditions, those that are none left out; undefined where nothing is asked. */
export function allOf(filters: readonly (string | undefined)[]): string | undefined {
  const given = filters.filter((each) => each !== undefined && each !== "");
  if (given.length < 2) return given[0];
  // `or` binds less than `and` (OData URL Conventions 4.01, section 5.1.1.16)
  return given.map((each) => (/\bor\b/i.test(each!) ? `(${each})` : each)).join(" and ");
}

/** Entities behind one in the order of their key; a key of several parts is compared from its first on. */
export function afterKey(key: readonly KeyPart[], values: readonly string[], version: ODataVersion): string {
  const literals = key.map(({ type }, i) => literalOf(type, values[i]!, version));
  const choices = key.map(({ name }, i) => {
    const same = key.slice(0, i).map((before, n) => `${before.name} eq ${literals[n]}`);
    return [...same, `${name} gt ${literals[i]}`].join(" and ");
  });
  return choices.length === 1 ? choices[0]! : choices.map((each) => `(${each})`).join(" or ");
}

/** Entities whose key has these values. */
export function withKey(key: readonly KeyPart[], values: readonly string[], version: ODataVersion): string {
  return key.map(({ name, type }, i) => `${name} eq ${literalOf(type, values[i]!, version)}`).join(" and ");
}

/** Entities whose value lies between two others, the first of which belongs to them; an end may be open. */
export function inRange(
  { name, type }: KeyPart,
  from: string | undefined,
  to: string | undefined,
  version: ODataVersion,
): string | undefined {
  return allOf([
    from === undefined ? undefined : `${name} ge ${literalOf(type, from, version)}`,
    to === undefined ? undefined : `${name} lt ${literalOf(type, to, version)}`,
  ]);
}
