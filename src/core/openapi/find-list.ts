/** Whether a response lists things, by its schema: where the records are, and what they are. */

import { jsonPathOf } from "../draft/find-records.js";
import { type FlatSchema, flatSchema, type OpenApiDocument } from "./document.js";

/** A list in a response. */
export interface ListSchema {
  /** JSONPath of the records */
  readonly path: string;
  readonly item: FlatSchema;
  /** the response around the list; undefined where it is the list itself */
  readonly envelope: FlatSchema | undefined;
}

const USUAL =
  /^(items?|data|results?|records|values?|entries|rows|list|content|elements|hits|objects|docs|collection|_embedded)$/i;
/** What stands around a list, and is no property of a thing. */
const AROUND =
  /^_?(meta|metadata|info|page|pages|paging|paginat\w*|total\w*|count|size|limit|offset|next\w*|prev\w*|first|last|self|links?|has_?more|cursors?|object|url|errors?|warnings?|status|success|message|kind|etag|request_?id|response_?metadata|ok|number\w*|per_?page|current_?page|is_?last|start\w*|max_?results|timestamp|took|type|version|code|sort\w*|filters?|facets|aggregations|query|search\w*|schema|pageable)$/i;
const MOST_DEPTH = 3;

/** Undefined where the response is one thing, or nothing that is known. */
export function findList(
  document: OpenApiDocument,
  response: unknown,
  resource: string,
): ListSchema | undefined {
  const schema = flatSchema(document, response);
  if (schema.types.has("array")) {
    const item = flatSchema(document, schema.items);
    return isRecord(item) ? { path: "$[*]", item, envelope: undefined } : undefined;
  }
  return within(document, schema, [], resource);
}

function within(
  document: OpenApiDocument,
  schema: FlatSchema,
  steps: readonly string[],
  resource: string,
): ListSchema | undefined {
  if (steps.length >= MOST_DEPTH) return undefined;
  const properties = [...schema.properties].map(([name, value]) => ({
    name,
    flat: flatSchema(document, value),
  }));
  const lists = properties.filter(
    ({ flat }) => flat.types.has("array") && isRecord(flatSchema(document, flat.items)),
  );
  const named =
    lists.find(({ name }) => isNamedAs(name, resource)) ?? lists.find(({ name }) => USUAL.test(name));
  // a thing with a list in it has properties of its own
  const isOnly =
    lists.length === 1 && properties.every(({ name }) => name === lists[0]!.name || AROUND.test(name));
  const found = named ?? (isOnly ? lists[0] : undefined);
  const others = properties.filter(({ name }) => !AROUND.test(name) && name !== found?.name).length;
  if (found !== undefined && others <= 2)
    return {
      path: `${jsonPathOf([...steps, found.name])}[*]`,
      item: flatSchema(document, found.flat.items),
      envelope: schema,
    };
  for (const { name, flat } of properties)
    if (flat.types.has("object") && (USUAL.test(name) || isNamedAs(name, resource)) && others <= 3) {
      const inner = within(document, flat, [...steps, name], resource);
      if (inner !== undefined) return { ...inner, envelope: schema };
    }
  return undefined;
}

function isRecord(item: FlatSchema): boolean {
  return item.properties.size > 0;
}

function isNamedAs(name: string, resource: string): boolean {
  const plain = (text: string) =>
    text
      .toLowerCase()
      .replace(/[^a-z0-9]/g, "")
      .replace(/(ies|es|s)$/, "");
  return plain(name) !== "" && (plain(name) === plain(resource) || plain(name) === `${plain(resource)}list`);
}
