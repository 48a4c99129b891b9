/**
 * Responses to delta links (OData JSON Format 4.01, section 15; 4.0, section 14): entities that changed stand among
 * those that are gone, and among links, which are no entities.
 */

import { isPlainObject } from "../shape/exact-json.js";
import { valueOfLiteral } from "./literal.js";
import type { ODataVersion } from "./model.js";

/** A property of the key, with its primitive type. */
export interface KeyPart {
  readonly name: string;
  readonly type: string;
}

const contextOf = (entity: Readonly<Record<string, unknown>>) =>
  String(entity["@odata.context"] ?? entity["@context"] ?? "");

/** Whether an entry of a delta response tells that an entity is gone. */
export function isRemoved(entity: Readonly<Record<string, unknown>>): boolean {
  return isPlainObject(entity["@removed"]) || contextOf(entity).endsWith("/$deletedEntity");
}

function isLink(entity: unknown): boolean {
  return isPlainObject(entity) && /\/\$(link|deletedLink)$/.test(contextOf(entity));
}

/** The response with its links left out, and with the key in what is gone. */
export function withKeys(body: unknown, key: readonly KeyPart[], version: ODataVersion): unknown {
  if (!isPlainObject(body) || !Array.isArray(body.value)) return body;
  const isPlain = body.value.every((entry) => !isPlainObject(entry) || !(isRemoved(entry) || isLink(entry)));
  if (isPlain) return body;
  const value = body.value
    .filter((entry) => !isLink(entry))
    .map((entry: unknown) => (isPlainObject(entry) && isRemoved(entry) ? keyed(entry, key, version) : entry));
  return { ...body, value };
}

function keyed(
  entity: Readonly<Record<string, unknown>>,
  key: readonly KeyPart[],
  version: ODataVersion,
): Readonly<Record<string, unknown>> {
  if (key.every(({ name }) => entity[name] !== undefined && entity[name] !== null)) return entity;
  const id = entity["@odata.id"] ?? entity["@id"] ?? entity.id;
  const values = typeof id === "string" ? keyOfId(id, key, version) : undefined;
  return values === undefined ? entity : { ...entity, ...values };
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
  const path = decodeURIComponent(id.replace(/[?#].*$/, ""));
  const inside = /\(([\s\S]*)\)$/.exec(path)?.[1];
  const [only] = key;
  if (inside === undefined) {
    const segment = path.slice(path.lastIndexOf("/") + 1);
    return key.length === 1 && only !== undefined && path.includes("/")
      ? { [only.name]: segment }
      : undefined;
  }
  const named = [...inside.matchAll(/(?:^|,)\s*([A-Za-z_]\w*)=((?:'(?:[^']|'')*'|[^,'])*)/g)];
  const literals =
    named.length > 0
      ? new Map(named.map(([, name, literal]) => [name, literal]))
      : new Map([[only?.name, inside]]);
  const values: Record<string, string> = {};
  for (const { name, type } of key) {
    const literal = literals.get(name);
    const value = literal === undefined ? undefined : valueOfLiteral(type, literal, version);
    if (value === undefined) return undefined;
    values[name] = value;
  }
  return values;
}
