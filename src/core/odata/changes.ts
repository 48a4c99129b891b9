/**
 * Responses to delta links (OData JSON Format 4.01, section 15; 4.0, section 14): entities that changed stand among
 * those that are gone, among links, and among entities of other sets.
 */

import { isPlainObject } from "../shape/exact-json.js";
import { getByPath } from "../shape/path-get.js";
import { type KeyPart, keyOfId } from "./entity-key.js";
import type { ODataVersion } from "./model.js";
import { splitOutside } from "./split-outside.js";

/** Whether an entry of a delta response tells that an entity is gone. */
export function isRemoved(entity: Readonly<Record<string, unknown>>): boolean {
  return isPlainObject(entity["@removed"]) || contextOf(entity).what === "$deletedEntity";
}

/** The response of a delta link with the key in entities whose address alone tells it. */
export function withKeys(body: unknown, key: readonly KeyPart[], version: ODataVersion): unknown {
  if (!isPlainObject(body) || !Array.isArray(body.value)) return body;
  const isKeyless = (entry: unknown) => isPlainObject(entry) && !hasKey(entry, key);
  if (!body.value.some(isKeyless)) return body;
  const value = body.value.map((entry: unknown) =>
    isKeyless(entry) ? keyed(entry as Record<string, unknown>, key, version) : entry,
  );
  return { ...body, value };
}

/** A set, as far as it decides what an entry of a delta response means. */
export interface ChangedSet {
  readonly name: string;
  readonly key: readonly KeyPart[];
  /** what a whole entity has: its properties and what is expanded */
  readonly members: readonly string[];
  readonly expanded: readonly string[];
  readonly version: ODataVersion;
}

/**
 * What an entry of a delta response asks for: `whole` and `gone` can be stored as they are; an entity that is told in
 * part is asked for `again`, by its key; what is linked to nothing here is `nothing`; and an entity of another `set`
 * belongs to ones that are not named.
 */
export type Change =
  | { readonly is: "whole" | "gone" | "nothing" }
  | { readonly is: "again"; readonly key: Readonly<Record<string, unknown>> }
  | { readonly is: "of another set"; readonly set: string };

/** Reads an entry (OData JSON Format 4.01, sections 15.1 to 15.5; 4.0, sections 14.1 to 14.4). */
export function changeOf(entry: unknown, set: ChangedSet): Change {
  if (!isPlainObject(entry)) return { is: "whole" };
  const context = contextOf(entry);
  if (context.what === "$link" || context.what === "$deletedLink") return linkChange(entry, set);
  if (context.set !== "" && context.set !== set.name) return { is: "of another set", set: context.set };
  const [within] = context.path;
  if (within !== undefined) return linkChange({ source: context.entity, relationship: within }, set);
  if (isRemoved(entry)) return { is: "gone" };
  const isNested = Object.keys(entry).some((name) => /@(odata\.)?delta$/.test(name));
  const isWhole = set.members.every((name) => Object.hasOwn(entry, name));
  return isWhole && !isNested ? { is: "whole" } : { is: "again", key: entry };
}

/**
 * What a context URL says (OData Protocol 4.01, section 10): `…#Set/$deletedEntity`, `…#Set(5)/Contained/$entity`,
 * `…#Set/Type.Cast/$entity`, `…#Set(Name,Inner())/$entity`.
 */
function contextOf(entity: Readonly<Record<string, unknown>>) {
  const url = String(entity["@odata.context"] ?? entity["@context"] ?? "");
  const fragment = url.includes("#") ? url.slice(url.indexOf("#") + 1) : "";
  const [entitySet = "", ...steps] = splitOutside(fragment, "/");
  const what = steps.find((step) => step.startsWith("$")) ?? "";
  const path = steps.filter((step) => !step.startsWith("$") && !step.includes("."));
  return { set: entitySet.replace(/\(.*$/, ""), entity: entitySet, path, what };
}

/** A link that is new or gone, or what it leads to, changes the entity that it begins at, if that is expanded. */
function linkChange(link: Readonly<Record<string, unknown>>, set: ChangedSet): Change {
  const { source, relationship } = link;
  if (typeof source !== "string" || !set.expanded.includes(String(relationship))) return { is: "nothing" };
  const key = keyOfId(source, set.key, set.version);
  return key === undefined ? { is: "nothing" } : { is: "again", key };
}

function hasKey(entity: Readonly<Record<string, unknown>>, key: readonly KeyPart[]): boolean {
  return key.every(({ name }) => getByPath(entity, name.split("/")) != null);
}

function keyed(
  entity: Readonly<Record<string, unknown>>,
  key: readonly KeyPart[],
  version: ODataVersion,
): Readonly<Record<string, unknown>> {
  const id = entity["@odata.id"] ?? entity["@id"] ?? entity.id;
  const values = typeof id === "string" ? keyOfId(id, key, version) : undefined;
  return values === undefined ? entity : { ...entity, ...values };
}
