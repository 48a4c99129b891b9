/** `$metadata` in JSON: OData CSDL JSON Representation 4.01. */

import { BridgeError } from "../errors.js";
import { isPlainObject } from "../shape/exact-json.js";
import { type AnnotationValue, capabilitiesOf, descriptionOf, propertyWords } from "./annotations.js";
import {
  aliased,
  type EntitySet,
  type Model,
  type Navigation,
  type Property,
  type StructuredType,
  typeName,
} from "./model.js";

type Json = Readonly<Record<string, unknown>>;

/**
 * Reads a document.
 * @throws BridgeError METADATA_UNREADABLE
 */
export function readCsdlJson(text: string): Model {
  let document: unknown;
  try {
    document = JSON.parse(text);
  } catch (cause) {
    throw new BridgeError(
      "METADATA_UNREADABLE",
      `$metadata is not valid JSON: ${(cause as Error).message}.`,
      { cause },
    );
  }
  if (!isPlainObject(document) || typeof document.$Version !== "string")
    throw new BridgeError("METADATA_UNREADABLE", "$metadata is JSON, and describes no OData service.");
  return new JsonReader(document).model();
}

const members = (of: Json) =>
  Object.entries(of).filter(
    (entry): entry is [string, Json] =>
      !entry[0].startsWith("$") && !entry[0].includes("@") && isPlainObject(entry[1]),
  );

class JsonReader {
  private readonly aliases = new Map<string, string>();
  private readonly schemas: readonly (readonly [string, Json])[];

  constructor(private readonly document: Json) {
    this.schemas = members(document);
    for (const [namespace, schema] of this.schemas)
      if (typeof schema.$Alias === "string") this.aliases.set(schema.$Alias, namespace);
    for (const reference of Object.values((document.$Reference as Json | undefined) ?? {}))
      for (const each of ((reference as Json).$Include as readonly Json[] | undefined) ?? [])
        if (typeof each.$Alias === "string") this.aliases.set(each.$Alias, String(each.$Namespace));
  }

  model(): Model {
    const types = new Map<string, StructuredType>();
    const enums = new Set<string>();
    const definitions = new Map<string, Omit<Property, "name">>();
    const sets: EntitySet[] = [];
    for (const [namespace, schema] of this.schemas)
      for (const [name, element] of members(schema)) {
        const full = `${namespace}.${name}`;
        if (element.$Kind === "EntityType" || element.$Kind === "ComplexType")
          types.set(full, this.structured(element, full));
        else if (element.$Kind === "EnumType") enums.add(full);
        else if (element.$Kind === "TypeDefinition")
          definitions.set(full, {
            ...this.facets({ ...element, $Type: element.$UnderlyingType }),
            description: propertyWords(this.annotations(element, full)),
          });
        else if (element.$Kind === "EntityContainer") sets.push(...this.sets(element, full));
      }
    const version = this.document.$Version === "4.0" ? "4.0" : "4.01";
    return { version, types, enums, definitions, sets };
  }

  private resolve(name: string): string {
    const dot = name.lastIndexOf(".");
    const namespace = this.aliases.get(name.slice(0, dot));
    return namespace === undefined ? name : `${namespace}${name.slice(dot)}`;
  }

  /** Annotations within an element, and those that the schema has for it as a target. */
  private annotations(element: Json, target: string): AnnotationValue[] {
    const apart = this.schemas.flatMap(([, schema]) =>
      Object.entries((schema.$Annotations as Readonly<Record<string, Json>> | undefined) ?? {}).flatMap(
        ([of, found]) => (this.resolveTarget(of) === target ? [found] : []),
      ),
    );
    return [element, ...apart].flatMap((from) =>
      Object.entries(from).flatMap(([key, value]) =>
        key.startsWith("@") ? [{ term: this.resolve(key.slice(1)), value }] : [],
      ),
    );
  }

  private resolveTarget(target: string): string {
    const [head = "", ...rest] = target.split("/");
    return [this.resolve(head), ...rest].join("/");
  }

  private structured(element: Json, name: string): StructuredType {
    const key = (element.$Key as readonly unknown[] | undefined) ?? [];
    const own = members(element);
    const base = element.$BaseType;
    return {
      name,
      base: typeof base === "string" ? this.resolve(base) : undefined,
      isEntity: element.$Kind === "EntityType",
      isOpen: element.$OpenType === true,
      // an alias is an object of one member, the path of the property
      key: key.map((each) => (typeof each === "string" ? each : String(Object.values(each as object)[0]))),
      ...aliased(key.flatMap((each) => (isPlainObject(each) ? Object.entries(each) : []))),
      properties: own.flatMap(([property, each]) =>
        each.$Kind === undefined || each.$Kind === "Property" ? [this.property(property, each, name)] : [],
      ),
      navigations: own.flatMap(([property, each]) =>
        each.$Kind === "NavigationProperty" ? [this.navigation(property, each)] : [],
      ),
      description: descriptionOf(this.annotations(element, name)),
    };
  }

  private property(name: string, element: Json, owner: string): Property {
    const description = propertyWords(this.annotations(element, `${owner}/${name}`));
    return { name, ...this.facets(element), description };
  }

  private facets(element: Json): Omit<Property, "name"> {
    const number = (value: unknown) => (typeof value === "number" ? value : undefined);
    const { $Type = "Edm.String", $Collection, $MaxLength, $Precision, $Scale } = element;
    return {
      type: { name: this.resolve(String($Type)), isCollection: $Collection === true },
      maxLength: number($MaxLength),
      precision: number($Precision),
      scale: $Scale === "variable" || $Scale === "floating" ? $Scale : number($Scale),
    };
  }

  private navigation(name: string, element: Json): Navigation {
    const constraints = Object.entries((element.$ReferentialConstraint as Json | undefined) ?? {}).flatMap(
      ([property, referenced]) =>
        property.includes("@") ? [] : [{ property, referenced: String(referenced) }],
    );
    const type = { name: this.resolve(String(element.$Type)), isCollection: element.$Collection === true };
    return { name, type, isContained: element.$ContainsTarget === true, constraints };
  }

  private sets(container: Json, owner: string): EntitySet[] {
    return members(container).flatMap(([name, element]): EntitySet[] => {
      const annotations = this.annotations(element, `${owner}/${name}`);
      const common = {
        name,
        capabilities: capabilitiesOf(annotations),
        description: descriptionOf(annotations),
      };
      if (typeof element.$Function === "string") {
        const type = this.collectionOf(element.$Function);
        return type === undefined ? [] : [{ ...common, kind: "function", type }];
      }
      if (typeof element.$Type !== "string") return [];
      const kind = element.$Collection === true ? "set" : "singleton";
      return [{ ...common, kind, type: this.resolve(element.$Type) }];
    });
  }

  /** The type in the collection that a function without parameters gives. */
  private collectionOf(name: string): string | undefined {
    const full = this.resolve(name);
    const overloads = this.schemas.flatMap(([namespace, schema]) =>
      Object.entries(schema).flatMap(([own, found]) =>
        `${namespace}.${own}` === full ? [found].flat() : [],
      ),
    ) as readonly Json[];
    const plain = overloads.find(({ $Parameter }) => $Parameter === undefined);
    const result = plain?.$ReturnType as Json | undefined;
    if (result?.$Collection !== true || typeof result.$Type !== "string") return undefined;
    return typeName(result.$Type, (inner) => this.resolve(inner)).name;
  }
}
