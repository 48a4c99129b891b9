/** An OpenAPI document as it is read: 3.0 and 3.1, references within it followed. */

import { BridgeError } from "../errors.js";
import { isPlainObject } from "../shape/exact-json.js";

export type Json = Readonly<Record<string, unknown>>;

/** References lead through so many others, at most: some lead in a circle. */
const MOST_STEPS = 30;

/** Follows references within one document (RFC 6901 in the fragment of a URI). */
export class OpenApiDocument {
  constructor(readonly root: Json) {}

  /** The object that stands for a value; undefined where it is none, or where its reference leads nowhere. */
  object(value: unknown): Json | undefined {
    let at = value;
    for (let step = 0; step < MOST_STEPS; step++) {
      if (!isPlainObject(at)) return undefined;
      const { $ref: reference } = at;
      if (typeof reference !== "string") return at;
      const target = this.target(reference);
      // beside a reference, 3.1 lets other keywords stand; those of what it leads to come first
      const { $ref: _, ...beside } = at;
      at = isPlainObject(target) && Object.keys(beside).length > 0 ? { ...beside, ...target } : target;
    }
    return undefined;
  }

  list(value: unknown): readonly Json[] {
    const items: readonly unknown[] = Array.isArray(value) ? value : [];
    return items.map((each) => this.object(each)).filter((each) => each !== undefined);
  }

  private target(reference: string): unknown {
    if (!reference.startsWith("#/")) return undefined;
    let at: unknown = this.root;
    for (const step of reference.slice(2).split("/")) {
      const name = unescaped(step);
      if (typeof at !== "object" || at === null || !Object.hasOwn(at, name)) return undefined;
      at = (at as Json)[name];
    }
    return at;
  }
}

/** RFC 6901, section 4; percent signs as in any fragment. */
function unescaped(step: string): string {
  let text = step;
  try {
    text = decodeURIComponent(step);
  } catch {
    // a percent sign that stands for itself
  }
  return text.replaceAll("~1", "/").replaceAll("~0", "~");
}

/** Whether a value is an OpenAPI document of a version that is read here. */
export function isOpenApi(value: unknown): value is Json {
  return isPlainObject(value) && typeof value.openapi === "string" && /^3\.[01]/.test(value.openapi);
}

/** @throws BridgeError CONFIG_INVALID for what is no such document */
export function openApiDocument(value: unknown, name: string): OpenApiDocument {
  if (isOpenApi(value)) return new OpenApiDocument(value);
  const is =
    isPlainObject(value) && typeof value.swagger === "string" ? `Swagger ${value.swagger}` : "something else";
  throw new BridgeError("CONFIG_INVALID", `${name} is no OpenAPI document of 3.0 or 3.1, but ${is}.`, {
    hint: "Older ones can be converted; many APIs have a newer one beside them.",
  });
}

/** An object schema with what `allOf`, and all ways of `oneOf` and `anyOf`, say of its properties. */
export interface FlatSchema {
  readonly types: ReadonlySet<string>;
  readonly format: string | undefined;
  readonly properties: ReadonlyMap<string, unknown>;
  readonly required: ReadonlySet<string>;
  readonly items: unknown;
  readonly description: string | undefined;
}

/** A schema with its parts put together; what leads in a circle is cut off. */
export function flatSchema(document: OpenApiDocument, value: unknown, depth = 0): FlatSchema {
  const schema = document.object(value) ?? {};
  const parts = depth > 8 ? [] : ["allOf", "oneOf", "anyOf"].flatMap((kind) => listOf(schema[kind]));
  const flat = parts.map((part) => flatSchema(document, part, depth + 1));
  const types = new Set(listOf(schema.type ?? flat.flatMap((each) => [...each.types])).map(String));
  types.delete("null");
  const properties = new Map(flat.flatMap((each) => [...each.properties]));
  for (const [name, property] of Object.entries(document.object(schema.properties) ?? {}))
    properties.set(name, property);
  if (types.size === 0 && properties.size > 0) types.add("object");
  if (types.size === 0 && schema.items !== undefined) types.add("array");
  return {
    types,
    format: textOf(schema.format) ?? flat.find(({ format }) => format !== undefined)?.format,
    properties,
    required: new Set([
      ...listOf(schema.required).map(String),
      ...flat.flatMap(({ required }) => [...required]),
    ]),
    items: schema.items ?? flat.find(({ items }) => items !== undefined)?.items,
    description: textOf(schema.description) ?? textOf(schema.title),
  };
}

function listOf(value: unknown): readonly unknown[] {
  return value === undefined || value === null ? [] : Array.isArray(value) ? value : [value];
}

export function textOf(value: unknown): string | undefined {
  return typeof value === "string" && value.trim() !== "" ? value : undefined;
}
