/** What an OpenAPI document says that there is to carry: the operations that list things, as streams. */

import { type DraftStream, inParts } from "../draft/draft.js";
import type { Guess } from "../draft/seen.js";
import { snakeCase } from "../shape/naming.js";
import { type FlatSchema, flatSchema, type Json, type OpenApiDocument, textOf } from "./document.js";
import { findList } from "./find-list.js";
import { guessCursorOf, guessPagesOf, type QueryParameter } from "./guess-query.js";
import { type OpenApiSignIn, signInOf } from "./security.js";

/** A field of a resource's records, as its schema has it. */
export interface OpenApiColumn {
  /** as `columns` writes it */
  readonly path: string;
  /** type and format of JSON Schema */
  readonly declared: string;
  /** the column's type; undefined where what comes decides */
  readonly type: string | undefined;
  readonly description: string | undefined;
}

/** An operation that lists things. */
export interface OpenApiResource {
  readonly stream: DraftStream;
  /** as the document has it */
  readonly path: string;
  readonly columns: readonly OpenApiColumn[];
  /** scopes that it wants */
  readonly scopes: readonly string[];
  /** parameters that have to be given, and that nothing gives: it cannot be carried as it stands */
  readonly missing: readonly string[];
}

/** A document, as far as it counts for reading. */
export interface OpenApiService {
  readonly title: string;
  readonly version: string;
  /** whole address, or the path of one; undefined where none is named */
  readonly server: string | undefined;
  readonly signIn: OpenApiSignIn;
  readonly resources: readonly OpenApiResource[];
  /** operations that list nothing, or change something */
  readonly others: number;
}

const METHODS = ["get", "put", "post", "delete", "options", "head", "patch", "trace"];

/** Reads a document. Nothing in it is an error: what is not understood is left out. */
export function readOpenApi(document: OpenApiDocument): OpenApiService {
  const { root } = document;
  const info = document.object(root.info) ?? {};
  const paths = Object.entries(document.object(root.paths) ?? {});
  let operations = 0;
  const found: Found[] = [];
  for (const [path, value] of paths) {
    const item = document.object(value) ?? {};
    operations += METHODS.filter((method) => document.object(item[method]) !== undefined).length;
    const operation = document.object(item.get);
    const list = operation && listed(document, path, item, operation);
    if (list !== undefined) found.push(list);
  }
  const resources = named(found);
  const [server] = document.list(root.servers);
  return {
    title: textOf(info.title) ?? "API",
    version: textOf(info.version) ?? "",
    server: server && serverUrl(document, server),
    signIn: signInOf(document),
    resources,
    others: operations - resources.length,
  };
}

/** The address with the defaults of its variables (OpenAPI 3.1, section 4.8.6). */
function serverUrl(document: OpenApiDocument, server: Json): string | undefined {
  const variables = document.object(server.variables) ?? {};
  return textOf(server.url)?.replace(/\{([^}]+)\}/g, (_whole, name: string) => {
    const value = document.object(variables[name])?.default;
    return typeof value === "string" ? value : name;
  });
}

type Found = Omit<OpenApiResource, "stream" | "missing"> & {
  readonly resource: string;
  readonly stream: Omit<DraftStream, "name">;
  readonly required: readonly string[];
};

function listed(document: OpenApiDocument, path: string, item: Json, operation: Json): Found | undefined {
  const resource = fixedSteps(path).at(-1) ?? "records";
  const response = successOf(document, operation);
  const list = response && findList(document, response.schema, resource);
  // the last step is one thing by its key, whatever it looks like
  if (list === undefined || (/\}\/?$/.test(path) && list.envelope !== undefined)) return undefined;
  const parameters = [...document.list(item.parameters), ...document.list(operation.parameters)];
  const query = parameters
    .filter((each) => each.in === "query")
    .map((each) => queryParameter(document, each));
  const key = keyOf(document, list.item, resource);
  const [only] = key?.value ?? [];
  const pages = guessPagesOf(document, query, list, only, response!.hasLink);
  const given = new Set(Object.values(pages?.value ?? {}).map(String));
  const needed = query.filter(({ name, isRequired }) => isRequired && !given.has(name));
  const usual = needed.filter(({ schema }) => isScalar(schema.default) || isScalar(listOf(schema.enum)[0]));
  const fixed = Object.fromEntries(
    usual.map(({ name, schema }) => [name, (schema.default ?? listOf(schema.enum)[0]) as string | number]),
  );
  const security = document.list(operation.security);
  return {
    resource,
    path,
    columns: columnsOf(document, list.item),
    scopes: [...new Set(security.flatMap((each) => Object.values(each).flatMap(listOf).map(String)))],
    required: needed.filter((each) => !usual.includes(each)).map(({ name }) => name),
    stream: {
      description: textOf(operation.summary) ?? textOf(operation.description)?.split("\n")[0],
      get: path,
      query: usual.length === 0 ? undefined : { value: fixed, why: "wanted; the first that is permitted" },
      records: { value: list.path, why: "by the schema of the response" },
      pages,
      key,
      cursor: guessCursorOf(document, query, list),
      columns: [],
      open: pages === undefined ? ["how it gives further pages: nothing in the document tells"] : [],
    },
  };
}

function isScalar(value: unknown): boolean {
  return typeof value === "string" || typeof value === "number";
}

function listOf(value: unknown): readonly unknown[] {
  return Array.isArray(value) ? value : [];
}

function queryParameter(document: OpenApiDocument, parameter: Json): QueryParameter {
  const schema = document.object(parameter.schema) ?? {};
  return { name: String(parameter.name), isRequired: parameter.required === true, schema };
}

/** The schema of the JSON of a success. */
function successOf(
  document: OpenApiDocument,
  operation: Json,
): { readonly schema: unknown; readonly hasLink: boolean } | undefined {
  const responses = document.object(operation.responses) ?? {};
  const code = ["200", "206", "2XX", "2xx", "default"].find((each) => responses[each] !== undefined);
  const response = code === undefined ? undefined : document.object(responses[code]);
  const content = response && document.object(response.content);
  const type = Object.keys(content ?? {}).find(
    (each) => /json|^\*\/\*$/i.test(each) && !/stream|problem/i.test(each),
  );
  if (response === undefined || content === undefined || type === undefined) return undefined;
  const headers = Object.keys(document.object(response.headers) ?? {});
  return {
    schema: document.object(content[type])?.schema,
    hasLink: headers.some((name) => name.toLowerCase() === "link"),
  };
}

function keyOf(
  document: OpenApiDocument,
  item: FlatSchema,
  resource: string,
): Guess<readonly string[]> | undefined {
  const one = resource
    .toLowerCase()
    .replace(/ies$/, "y")
    .replace(/s$/, "")
    .replace(/[^a-z0-9]/g, "_");
  const names = [...item.properties.keys()];
  const scalar = (name: string) => {
    const { types } = flatSchema(document, item.properties.get(name));
    return types.has("string") || types.has("integer") || types.has("number");
  };
  const usual = [
    "id",
    "_id",
    "uuid",
    "guid",
    "gid",
    `${one}_id`,
    `${one}Id`,
    "key",
    "code",
    "slug",
    "number",
  ];
  const exact = usual.map((each) => names.find((name) => name.toLowerCase() === each.toLowerCase()));
  const name = exact.find((each) => each !== undefined && scalar(each));
  return name === undefined ? undefined : { value: [name], why: "by its name; a run tells if it is none" };
}

const MOST_COLUMNS = 500;
const MOST_DEPTH = 4;

function columnsOf(document: OpenApiDocument, item: FlatSchema): OpenApiColumn[] {
  const columns: OpenApiColumn[] = [];
  const follow = (flat: FlatSchema, path: string, depth: number) => {
    for (const [name, value] of flat.properties) {
      if (columns.length >= MOST_COLUMNS) return;
      const property = flatSchema(document, value);
      const at = path === "" ? name : `${path}.${name}`;
      const items = property.types.has("array") ? flatSchema(document, property.items) : undefined;
      if (items !== undefined && items.properties.size > 0 && depth < MOST_DEPTH)
        follow(items, `${at}[*]`, depth + 1);
      else if (property.properties.size > 0 && depth < MOST_DEPTH) follow(property, at, depth + 1);
      else
        columns.push({
          path: at,
          ...declaredOf(property),
          description: property.description?.split("\n")[0],
        });
    }
  };
  follow(item, "", 0);
  return columns;
}

const TYPES: Readonly<Record<string, string>> = {
  "string date": "date",
  "string date-time": "timestamp",
  "string uuid": "uuid",
  integer: "int64",
  number: "float64",
  boolean: "boolean",
  string: "text",
  array: "json",
  object: "json",
};

function declaredOf({ types, format }: FlatSchema): Pick<OpenApiColumn, "declared" | "type"> {
  const all = [...types];
  const declared = `${all.join(" or ")}${format === undefined ? "" : ` ${format}`}`;
  return { declared, type: all.length === 1 ? (TYPES[declared] ?? TYPES[all[0]!]) : undefined };
}

/** Names of streams, each once; and for parameters of a path the list that gives their values. */
function named(found: readonly Found[]): OpenApiResource[] {
  const taken = new Map<string, Found>();
  const names = new Map<Found, string>();
  for (const each of found) {
    const steps = fixedSteps(each.path);
    let name = "records";
    for (let from = steps.length - 1; from >= 0; from--) {
      name = snakeCase(steps.slice(from).join("_"))
        .replace(/[^a-z0-9_]/g, "")
        .replace(/^_+/, "");
      name = /^[a-z]/.test(name) && !name.startsWith("eb_") ? name : `list_${name}`;
      if (!taken.has(name)) break;
    }
    const alone = name;
    for (let n = 2; taken.has(name); n++) name = `${alone}_${n}`;
    taken.set(name, each);
    names.set(each, name);
  }
  const byPath = new Map(found.map((each) => [plainPath(each.path), each]));
  return found.map((each) => {
    const { stream, resource: _, required, ...rest } = each;
    const parents = parentsOf(each, byPath, names);
    const missing = [...parents.missing, ...required];
    const values = Object.fromEntries(parents.values);
    const get = stream.get?.replace(/\{([^}]+)\}/g, (_whole, name: string) => `{${partName(name)}}`);
    const own: DraftStream = { ...stream, get, name: names.get(each)! };
    const fanned = { value: values, why: "by the list that stands before it in the path" };
    return { ...rest, missing, stream: parents.values.length === 0 ? own : inParts(own, fanned) };
  });
}

/** Steps of a path that name things: no parameters, and no `search` behind what is searched. */
function fixedSteps(path: string): string[] {
  const steps = path.split("/").filter((step) => step !== "" && !step.startsWith("{"));
  return steps.length > 1 && /^(search|list|query|find|all|filter)$/i.test(steps.at(-1)!)
    ? steps.slice(0, -1)
    : steps;
}

/** A path whatever its parameters are called. */
export const plainPath = (path: string) => path.replace(/\/$/, "").replace(/\{[^}]*\}/g, "{}");
const partName = (name: string) => snakeCase(name).replace(/[^a-z0-9_]/g, "") || "value";

/** Of `/huts/{hut_id}/stays`, hut_id comes from the list at `/huts`. Lists that need values themselves give none. */
function parentsOf(
  { path }: Found,
  byPath: ReadonlyMap<string, Found>,
  names: ReadonlyMap<Found, string>,
): { readonly values: readonly (readonly [string, object])[]; readonly missing: readonly string[] } {
  const values: (readonly [string, object])[] = [];
  const missing: string[] = [];
  for (const match of path.matchAll(/\{([^}]+)\}/g)) {
    const name = match[1]!;
    const before = plainPath(path.slice(0, match.index).replace(/\/$/, ""));
    const parent = byPath.get(before);
    const [field] = parent?.stream.key?.value ?? [];
    const isPlain = parent !== undefined && !parent.path.includes("{") && parent.required.length === 0;
    if (isPlain && field !== undefined) values.push([partName(name), { stream: names.get(parent)!, field }]);
    else missing.push(name);
  }
  return { values, missing };
}
