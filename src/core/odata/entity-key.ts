/** The key of an entity: its values, and how they stand in an address. */

import { BridgeError, type Where } from "../errors.js";
import { ExactNumber } from "../shape/exact-json.js";
import { getByPath } from "../shape/path-get.js";
import { literalOf, valueOfLiteral } from "./literal.js";
import type { ODataVersion } from "./model.js";
import { splitOutside } from "./split-outside.js";

/** A property of the key, with its primitive type. */
export interface KeyPart {
  readonly name: string;
  readonly type: string;
  /** what addresses call it, if not by its name */
  readonly alias?: string | undefined;
}

/** The key's values as texts. @throws BridgeError TOKEN_NOT_TEXT */
export function keyValues(entity: unknown, key: readonly KeyPart[], where: Where): string[] {
  return key.map(({ name }) => {
    const value = getByPath(entity, name.split("/"));
    if (value instanceof ExactNumber) return value.text;
    if (value !== undefined && value !== null && typeof value !== "object") return String(value);
    throw new BridgeError("TOKEN_NOT_TEXT", `An entity has no value of its key at ${name}.`, {
      where,
      hint: "The next page begins after the last one's key: read this set by the service's own next links.",
    });
  });
}

/** `(5)`, `('A')`, `(Code='A',Line=1)`: the key in an entity's address (OData URL Conventions 4.01, section 4.3.1). */
export function keyPredicate(
  key: readonly KeyPart[],
  values: readonly string[],
  version: ODataVersion,
): string {
  const literals = key.map(({ type }, i) => literalOf(type, values[i]!, version));
  const inside =
    key.length === 1
      ? literals[0]!
      : key.map(({ name, alias = name }, i) => `${alias}=${literals[i]}`).join(",");
  return `(${encodeURIComponent(inside).replaceAll("%3D", "=").replaceAll("%2C", ",")})`;
}

/**
 * The key in an entity's address (OData URL Conventions 4.01, section 4.3): `Huts(5)`, `Huts(Code='A',Line=1)` or, as a
 * segment, `Huts/5`. Undefined where it is in none of these forms.
 */
export function keyOfId(
  id: string,
  key: readonly KeyPart[],
  version: ODataVersion,
): Readonly<Record<string, string>> | undefined {
  const path = id.replace(/[?#].*$/, "");
  const segment = decoded(splitOutside(path, "/").at(-1) ?? "");
  if (segment === undefined) return undefined;
  const inside = /\(([\s\S]*)\)$/.exec(segment)?.[1];
  const [only] = key;
  if (inside === undefined)
    return key.length === 1 && only !== undefined && path.includes("/")
      ? { [only.name]: segment }
      : undefined;
  const named = [...inside.matchAll(/(?:^|,)\s*([A-Za-z_]\w*)=((?:'(?:[^']|'')*'|[^,'])*)/g)];
  const literals =
    named.length > 0
      ? new Map(named.map(([, name, literal]) => [name, literal]))
      : new Map([[only?.name, inside]]);
  const values: Record<string, string> = {};
  for (const { name, type, alias = name } of key) {
    const literal = literals.get(named.length > 0 ? alias : name);
    const value = literal === undefined ? undefined : valueOfLiteral(type, literal, version);
    if (value === undefined) return undefined;
    values[name] = value;
  }
  return values;
}

/** Undefined where the percent signs stand for nothing. */
function decoded(text: string): string | undefined {
  try {
    return decodeURIComponent(text);
  } catch {
    return undefined;
  }
}
