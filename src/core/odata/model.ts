/**
 * What an OData service says of itself, whatever version and form it says it in: CSDL 2.0 to 4.01, XML and JSON.
 *
 *   $metadata ─▶ csdl-xml · csdl-json ─▶ Model: types by full name, and the sets that hold their entities
 */

/** 3.0 speaks as 2.0 where it is not asked for its light form. */
export type ODataVersion = "2.0" | "3.0" | "4.0" | "4.01";

/** A type by its full name, aliases resolved; `Edm.…` are the primitive ones. */
export interface TypeName {
  readonly name: string;
  readonly isCollection: boolean;
}

/** OData 4.01 CSDL, section 7: a structural property, with those facets that say how it is kept. */
export interface Property {
  readonly name: string;
  readonly type: TypeName;
  readonly maxLength?: number | undefined;
  readonly precision?: number | undefined;
  /** undefined: nothing is said of it */
  readonly scale?: number | "variable" | "floating" | undefined;
  readonly description?: string | undefined;
}

/** OData 4.01 CSDL, section 8. */
export interface Navigation {
  readonly name: string;
  readonly type: TypeName;
  /** its entities live inside of this one, and in no set of their own */
  readonly isContained: boolean;
  /** the property here, and the one that it refers to there */
  readonly constraints: readonly { readonly property: string; readonly referenced: string }[];
}

/** An entity type or a complex type; what it inherits is in its base. */
export interface StructuredType {
  readonly name: string;
  readonly base: string | undefined;
  readonly isEntity: boolean;
  /** has properties that are declared nowhere */
  readonly isOpen: boolean;
  /** paths of the key's properties, with `/` between steps */
  readonly key: readonly string[];
  /** what addresses call a property of the key that lies in a complex one, by its path */
  readonly keyAliases?: Readonly<Record<string, string>> | undefined;
  readonly properties: readonly Property[];
  readonly navigations: readonly Navigation[];
  readonly description: string | undefined;
}

/** What a service says that it can do with a set (the Capabilities vocabulary; attributes in 2.0). */
export interface Capabilities {
  readonly isCountable: boolean;
  readonly isFilterable: boolean;
  readonly isSortable: boolean;
  readonly isReadable: boolean;
  readonly tracksChanges: boolean;
  /** takes $skip and $top */
  readonly isPageable: boolean;
  /** properties that no filter may name, and that nothing may be sorted by */
  readonly unfilterable: ReadonlySet<string>;
  readonly unsortable: ReadonlySet<string>;
}

export const ALL_CAPABLE: Capabilities = Object.freeze({
  isCountable: true,
  isFilterable: true,
  isSortable: true,
  isReadable: true,
  tracksChanges: false,
  isPageable: true,
  unfilterable: new Set<string>(),
  unsortable: new Set<string>(),
});

/** Something that can be read: a set, a singleton, or a function that gives a collection. */
export interface EntitySet {
  readonly name: string;
  readonly kind: "set" | "singleton" | "function";
  readonly type: string;
  readonly capabilities: Capabilities;
  readonly description: string | undefined;
}

/** Counts up with every change of `Model`: one that was kept in an older form is read anew. */
export const MODEL_FORMAT = 3;

/** All that `$metadata` tells of what can be read. */
export interface Model {
  readonly version: ODataVersion;
  readonly types: ReadonlyMap<string, StructuredType>;
  /** enumerations: they arrive as text */
  readonly enums: ReadonlySet<string>;
  /** names for primitive types with facets */
  readonly definitions: ReadonlyMap<string, Omit<Property, "name">>;
  readonly sets: readonly EntitySet[];
}

/** The types that a type inherits from, outermost first, itself last. */
export function lineage({ types }: Model, name: string): StructuredType[] {
  const line: StructuredType[] = [];
  for (let at: string | undefined = name; at !== undefined; ) {
    const type = types.get(at);
    // a base that is nowhere, or one that leads in a circle, ends the line
    if (type === undefined || line.includes(type)) break;
    line.unshift(type);
    at = type.base;
  }
  return line;
}

/** All properties of a type, those of its bases first. */
export function propertiesOf(model: Model, name: string): Property[] {
  return lineage(model, name).flatMap(({ properties }) => properties);
}

/** The key of an entity type: that of the first of its line that has one. */
export function keyOf(model: Model, name: string): readonly string[] {
  return lineage(model, name).find(({ key }) => key.length > 0)?.key ?? [];
}

/** The key's aliases as a type has them, from pairs of alias and path. */
export function aliased(pairs: readonly (readonly [unknown, unknown])[]): Pick<StructuredType, "keyAliases"> {
  const told = pairs.filter(([alias]) => typeof alias === "string");
  return told.length === 0
    ? {}
    : { keyAliases: Object.fromEntries(told.map(([alias, path]) => [String(path), String(alias)])) };
}

/** What addresses call a property of the key; undefined where that is its own name. */
export function keyAliasOf(model: Model, name: string, path: string): string | undefined {
  return lineage(model, name).find(({ key }) => key.length > 0)?.keyAliases?.[path];
}

/** `Collection(x)` as a type name; `resolve` gives the full name of what is inside. */
export function typeName(text: string, resolve: (name: string) => string): TypeName {
  const inner = /^Collection\((.*)\)$/.exec(text.trim())?.[1];
  return { name: resolve((inner ?? text).trim()), isCollection: inner !== undefined };
}
