/** `$metadata` in XML: OData CSDL 2.0 and 3.0 (MC-CSDL), 4.0 and 4.01 (OData CSDL XML Representation). */

import { XMLParser } from "fast-xml-parser";
import { BridgeError } from "../errors.js";
import { type AnnotationValue, capabilitiesOf, descriptionOf, propertyWords } from "./annotations.js";
import type { EntitySet, Model, Navigation, ODataVersion, Property, StructuredType } from "./model.js";
import { aliased, typeName } from "./model.js";

/** An element as the parser gives it: attributes begin with @, child elements are lists. */
type Element = Readonly<Record<string, unknown>>;

const MARK = "@";
const parser = new XMLParser({
  ignoreAttributes: false,
  attributeNamePrefix: MARK,
  removeNSPrefix: true,
  parseTagValue: false,
  parseAttributeValue: false,
  ignoreDeclaration: true,
  ignorePiTags: true,
  isArray: (_name, _path, _leaf, isAttribute) => !isAttribute,
});

const attribute = (element: Element, name: string): string | undefined => {
  const value = element[MARK + name];
  return typeof value === "string" ? value : undefined;
};
const children = (element: Element, name: string): readonly Element[] =>
  Array.isArray(element[name])
    ? (element[name] as unknown[]).map((child) => (child === "" ? {} : (child as Element)))
    : [];
const isTrue = (element: Element, name: string) => attribute(element, name) === "true";

/**
 * Reads a document.
 * @throws BridgeError METADATA_UNREADABLE, BODY_TRUNCATED
 */
export function readCsdlXml(text: string): Model {
  // the parser takes what broke off as if it were whole
  if (/<(\w+:)?Edmx[\s>]/.test(text.slice(0, 2000)) && !/(<\/(\w+:)?Edmx|\/)>\s*$/.test(text.slice(-200)))
    throw new BridgeError("BODY_TRUNCATED", `$metadata breaks off after ${text.length} signs.`);
  let document: Element;
  try {
    document = parser.parse(text) as Element;
  } catch (cause) {
    throw new BridgeError("METADATA_UNREADABLE", `$metadata is not valid XML: ${(cause as Error).message}.`, {
      cause,
    });
  }
  const [edmx] = children(document, "Edmx");
  const services = edmx && children(edmx, "DataServices");
  const schemas = services?.flatMap((each) => children(each, "Schema")) ?? [];
  if (edmx === undefined || schemas.length === 0)
    throw new BridgeError("METADATA_UNREADABLE", "$metadata is XML, and describes no OData service.");
  const included = children(edmx, "Reference").flatMap((each) => children(each, "Include"));
  return new XmlReader(schemas, included, versionOf(edmx, services![0]!)).model();
}

function versionOf(edmx: Element, services: Element): ODataVersion {
  const version = attribute(edmx, "Version") ?? "";
  if (version.startsWith("4.01")) return "4.01";
  if (version.startsWith("4")) return "4.0";
  const spoken = attribute(services, "MaxDataServiceVersion") ?? attribute(services, "DataServiceVersion");
  return spoken?.startsWith("3") === true ? "3.0" : "2.0";
}

/** The two ends of an association of 2.0 and 3.0, and what refers to what. */
interface Association {
  readonly ends: ReadonlyMap<string, { readonly type: string; readonly isMany: boolean }>;
  readonly dependent: string | undefined;
  readonly pairs: readonly { readonly property: string; readonly referenced: string }[];
}

class XmlReader {
  /** namespaces by alias */
  private readonly aliases = new Map<string, string>();
  private readonly associations = new Map<string, Association>();
  /** annotations that stand apart from what they are of */
  private readonly apart = new Map<string, AnnotationValue[]>();

  constructor(
    private readonly schemas: readonly Element[],
    private readonly included: readonly Element[],
    private readonly version: ODataVersion,
  ) {}

  model(): Model {
    const types = new Map<string, StructuredType>();
    const enums = new Set<string>();
    const definitions = new Map<string, Omit<Property, "name">>();
    for (const schema of [...this.included, ...this.schemas]) {
      const alias = attribute(schema, "Alias");
      if (alias !== undefined) this.aliases.set(alias, namespaceOf(schema));
    }
    for (const schema of this.schemas) this.readApart(schema);
    for (const schema of this.schemas) {
      const full = (element: Element) => `${namespaceOf(schema)}.${attribute(element, "Name")}`;
      for (const each of children(schema, "EntityType"))
        types.set(full(each), this.structured(each, full(each), true));
      for (const each of children(schema, "ComplexType"))
        types.set(full(each), this.structured(each, full(each), false));
      for (const each of children(schema, "EnumType")) enums.add(full(each));
      for (const each of children(schema, "TypeDefinition"))
        definitions.set(full(each), this.definition(each, full(each)));
    }
    const sets = this.schemas.flatMap((schema) =>
      children(schema, "EntityContainer").flatMap((container) => this.sets(container, namespaceOf(schema))),
    );
    return { version: this.version, types, enums, definitions, sets };
  }

  private resolve(name: string): string {
    const dot = name.lastIndexOf(".");
    const namespace = this.aliases.get(name.slice(0, dot));
    return namespace === undefined ? name : `${namespace}${name.slice(dot)}`;
  }

  /** Associations, and annotations by their target. */
  private readApart(schema: Element): void {
    for (const each of children(schema, "Association")) {
      const ends = children(each, "End").map((end) => {
        const type = this.resolve(attribute(end, "Type") ?? "");
        return [
          attribute(end, "Role") ?? "",
          { type, isMany: attribute(end, "Multiplicity") === "*" },
        ] as const;
      });
      const [constraint] = children(each, "ReferentialConstraint");
      const side = (name: string) => constraint && children(constraint, name)[0];
      const names = (element: Element | undefined) =>
        element === undefined
          ? []
          : children(element, "PropertyRef").map((ref) => attribute(ref, "Name") ?? "");
      const principal = names(side("Principal"));
      const pairs = names(side("Dependent")).map((property, i) => ({
        property,
        referenced: principal[i] ?? "",
      }));
      const dependent = side("Dependent");
      this.associations.set(`${namespaceOf(schema)}.${attribute(each, "Name")}`, {
        ends: new Map(ends),
        dependent: dependent && attribute(dependent, "Role"),
        pairs,
      });
    }
    for (const each of children(schema, "Annotations")) {
      const target = this.resolveTarget(attribute(each, "Target") ?? "");
      this.apart.set(target, [...(this.apart.get(target) ?? []), ...this.annotations(each)]);
    }
  }

  /** `alias.Type/Property` with the alias resolved. */
  private resolveTarget(target: string): string {
    const [head = "", ...rest] = target.split("/");
    return [this.resolve(head), ...rest].join("/");
  }

  private annotations(element: Element): AnnotationValue[] {
    return children(element, "Annotation").map((each) => ({
      term: this.resolve(attribute(each, "Term") ?? ""),
      value: annotationValue(each),
    }));
  }

  private annotationsOf(element: Element, target: string): readonly AnnotationValue[] {
    return [...this.annotations(element), ...(this.apart.get(target) ?? [])];
  }

  private structured(element: Element, name: string, isEntity: boolean): StructuredType {
    const base = attribute(element, "BaseType");
    const refs = children(element, "Key").flatMap((each) => children(each, "PropertyRef"));
    return {
      name,
      base: base && this.resolve(base),
      isEntity,
      isOpen: isTrue(element, "OpenType"),
      key: refs.map((ref) => attribute(ref, "Name") ?? ""),
      ...aliased(refs.map((ref) => [attribute(ref, "Alias"), attribute(ref, "Name")])),
      properties: children(element, "Property").map((each) => this.property(each, name)),
      navigations: children(element, "NavigationProperty").map((each) => this.navigation(each)),
      description: descriptionOf(this.annotationsOf(element, name)) ?? documentation(element),
    };
  }

  private property(element: Element, owner: string): Property {
    const name = attribute(element, "Name") ?? "";
    const annotations = this.annotationsOf(element, `${owner}/${name}`);
    const description = propertyWords(annotations, {
      words: documentation(element) ?? attribute(element, "label"),
      unit: attribute(element, "unit"),
    });
    return { name, ...this.facets(element, attribute(element, "Type") ?? "Edm.String"), description };
  }

  private definition(element: Element, name: string): Omit<Property, "name"> {
    const description = propertyWords(this.annotationsOf(element, name));
    return { ...this.facets(element, attribute(element, "UnderlyingType") ?? "Edm.String"), description };
  }

  private facets(element: Element, type: string): Omit<Property, "name"> {
    const number = (name: string) => {
      const text = attribute(element, name);
      return text !== undefined && /^\d+$/.test(text) ? Number(text) : undefined;
    };
    const scale = attribute(element, "Scale")?.toLowerCase();
    return {
      type: typeName(type, (inner) => this.resolve(inner)),
      maxLength: number("MaxLength"),
      precision: number("Precision"),
      scale: scale === "variable" || scale === "floating" ? scale : number("Scale"),
    };
  }

  private navigation(element: Element): Navigation {
    const name = attribute(element, "Name") ?? "";
    const association = this.associations.get(this.resolve(attribute(element, "Relationship") ?? ""));
    if (association !== undefined) {
      const to = association.ends.get(attribute(element, "ToRole") ?? "");
      const isDependent = association.dependent === attribute(element, "FromRole");
      const type = { name: to?.type ?? "", isCollection: to?.isMany === true };
      return { name, type, isContained: false, constraints: isDependent ? association.pairs : [] };
    }
    const constraints = children(element, "ReferentialConstraint").map((each) => ({
      property: attribute(each, "Property") ?? "",
      referenced: attribute(each, "ReferencedProperty") ?? "",
    }));
    const type = typeName(attribute(element, "Type") ?? "", (inner) => this.resolve(inner));
    return { name, type, isContained: isTrue(element, "ContainsTarget"), constraints };
  }

  private sets(container: Element, namespace: string): EntitySet[] {
    const owner = `${namespace}.${attribute(container, "Name")}`;
    const one = (element: Element, kind: EntitySet["kind"], type: string): EntitySet => {
      const name = attribute(element, "Name") ?? "";
      const annotations = this.annotationsOf(element, `${owner}/${name}`);
      const attributes = { get: (wanted: string) => attribute(element, wanted) };
      const description = descriptionOf(annotations) ?? documentation(element) ?? attribute(element, "label");
      return {
        name,
        kind,
        type: this.resolve(type),
        capabilities: capabilitiesOf(annotations, attributes),
        description,
      };
    };
    return [
      ...children(container, "EntitySet").map((each) =>
        one(each, "set", attribute(each, "EntityType") ?? ""),
      ),
      ...children(container, "Singleton").map((each) =>
        one(each, "singleton", attribute(each, "Type") ?? ""),
      ),
      ...this.functions(container).map(([each, type]) => one(each, "function", type)),
    ];
  }

  /** Functions without parameters that give a collection of entities. */
  private functions(container: Element): [Element, string][] {
    return children(container, "FunctionImport").flatMap((each): [Element, string][] => {
      // 2.0 says all of it here; 4.0 names a function
      const inner = (text: string | undefined) => /^Collection\((.*)\)$/.exec(text ?? "")?.[1];
      const own = inner(attribute(each, "ReturnType"));
      const isGet = (attribute(each, "HttpMethod") ?? "GET") === "GET";
      if (own !== undefined) return isGet && children(each, "Parameter").length === 0 ? [[each, own]] : [];
      const name = this.resolve(attribute(each, "Function") ?? "");
      const plain = this.functionsNamed(name).find((found) => children(found, "Parameter").length === 0);
      const [result] = plain === undefined ? [] : children(plain, "ReturnType");
      const type = result && inner(attribute(result, "Type"));
      return type === undefined ? [] : [[each, type]];
    });
  }

  private functionsNamed(name: string): Element[] {
    return this.schemas.flatMap((schema) =>
      children(schema, "Function").filter(
        (each) => `${namespaceOf(schema)}.${attribute(each, "Name")}` === name,
      ),
    );
  }
}

function namespaceOf(schema: Element): string {
  return attribute(schema, "Namespace") ?? "";
}

/** What 2.0 and 3.0 have for descriptions. */
function documentation(element: Element): string | undefined {
  const [found] = children(element, "Documentation");
  const text = (name: string) => (found?.[name] as readonly unknown[] | undefined)?.[0];
  const words = text("Summary") ?? text("LongDescription");
  return typeof words === "string" && words !== "" ? words : undefined;
}

/** The constant expressions of annotations (CSDL XML 4.01, section 14.3 and 14.4) as JSON has them. */
function annotationValue(element: Element): unknown {
  const record = children(element, "Record")[0];
  if (record !== undefined)
    return Object.fromEntries(
      children(record, "PropertyValue").map((each) => [
        attribute(each, "Property") ?? "",
        annotationValue(each),
      ]),
    );
  const collection = children(element, "Collection")[0];
  if (collection !== undefined)
    return Object.entries(collection).flatMap(([name, items]) =>
      Array.isArray(items) && !name.startsWith(MARK) && name !== "Record" ? (items as unknown[]) : [],
    );
  const bool = attribute(element, "Bool");
  if (bool !== undefined) return bool === "true";
  const plain = ["String", "EnumMember", "PropertyPath", "Path", "Int", "Decimal"].map((name) =>
    attribute(element, name),
  );
  const inline = (element.String as readonly unknown[] | undefined)?.[0];
  // a tag without a value stands for its default, which is mostly true
  return plain.find((each) => each !== undefined) ?? inline ?? true;
}
