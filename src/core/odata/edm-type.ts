/** How a property is kept: its type and facets as a column's type (OData CSDL 4.01, section 4). */

import type { ColumnType } from "../shape/column-type.js";
import { MAX_DECIMAL_DIGITS } from "../shape/column-type.js";
import type { ColumnRule } from "../shape/table-shape.js";
import { type Model, type Property, propertiesOf, type TypeName } from "./model.js";

/** Kinds that do not depend on facets. */
const KINDS: Readonly<Record<string, Exclude<ColumnType["kind"], "decimal">>> = {
  Boolean: "boolean",
  Byte: "int64",
  SByte: "int64",
  Int16: "int64",
  Int32: "int64",
  Int64: "int64",
  Single: "float64",
  Double: "float64",
  String: "text",
  Guid: "uuid",
  Binary: "bytes",
  Date: "date",
  DateTimeOffset: "timestamp",
  // 2.0: a day and a time that are of no zone
  DateTime: "local_timestamp",
  TimeOfDay: "text",
  Time: "text",
  Duration: "text",
  // the address of what it holds
  Stream: "text",
};

/** What is known of a primitive type, definitions followed; undefined for one that is structured or unknown. */
export function primitiveOf(
  { definitions, enums }: Model,
  property: Omit<Property, "name">,
): Omit<Property, "name"> | undefined {
  const definition = definitions.get(property.type.name);
  if (definition !== undefined) {
    const { maxLength, precision, scale } = property;
    return {
      ...definition,
      description: property.description ?? definition.description,
      maxLength: maxLength ?? definition.maxLength,
      precision: precision ?? definition.precision,
      scale: scale ?? definition.scale,
      type: { ...definition.type, isCollection: property.type.isCollection },
    };
  }
  if (enums.has(property.type.name)) return { ...property, type: { ...property.type, name: "Edm.String" } };
  return property.type.name.startsWith("Edm.") ? property : undefined;
}

/** How a column of the property is made. A decimal whose scale nobody tells takes what comes, every digit kept. */
export function columnRuleOf(property: Omit<Property, "name">): ColumnRule {
  const { description } = property;
  return description === undefined ? kindRuleOf(property) : { ...kindRuleOf(property), description };
}

function kindRuleOf({ type, precision, scale }: Omit<Property, "name">): ColumnRule {
  const name = type.name.slice("Edm.".length);
  if (type.isCollection || /^(Geography|Geometry)/.test(name)) return { type: { kind: "json" } };
  if (name === "Decimal") {
    const isTold = precision !== undefined && typeof scale === "number" && scale <= precision;
    return isTold && precision <= MAX_DECIMAL_DIGITS
      ? { type: { kind: "decimal", precision, scale } }
      : { digits: true };
  }
  const kind = KINDS[name];
  return kind === undefined ? {} : { type: { kind } };
}

/** A property that holds a value, with the steps that lead to it; `[*]` where a list is on the way. */
export interface Leaf {
  readonly path: readonly string[];
  readonly property: Omit<Property, "name">;
}

/** As deep as complex types are followed: one may hold itself. */
const MOST_DEPTH = 12;

/** All properties of a type that hold values, those within complex ones as well, in the order of their declaration. */
export function leavesOf(model: Model, type: string): Leaf[] {
  const leaves: Leaf[] = [];
  const follow = (name: string, path: readonly string[], within: readonly string[]) => {
    for (const property of propertiesOf(model, name)) {
      const at = [...path, property.name];
      const primitive = primitiveOf(model, property);
      if (primitive !== undefined) leaves.push({ path: at, property: primitive });
      else if (!within.includes(property.type.name) && within.length < MOST_DEPTH)
        follow(property.type.name, listed(at, property.type), [...within, property.type.name]);
    }
  };
  follow(type, [], [type]);
  return leaves;
}

function listed(path: readonly string[], { isCollection }: TypeName): readonly string[] {
  return isCollection ? [...path, "[*]"] : path;
}
