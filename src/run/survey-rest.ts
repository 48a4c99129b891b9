/** What a REST API holds: from an OpenAPI document, from a describing request, or from the connector alone. */

import { parseYaml } from "../core/define/check.js";
import type { StreamDefinition } from "../core/define/connector-schema.js";
import type { DraftStream } from "../core/draft/draft.js";
import { BridgeError } from "../core/errors.js";
import { compileJsonPath } from "../core/language/json-path.js";
import { openApiDocument } from "../core/openapi/document.js";
import {
  type OpenApiResource,
  type OpenApiService,
  plainPath,
  readOpenApi,
} from "../core/openapi/read-openapi.js";
import { parseExactJson } from "../core/shape/exact-json.js";
import type { ApiInside } from "./api.js";
import type { SurveyColumn, SurveyOptions, SurveyResource } from "./survey-resource.js";

export async function surveyRest(
  inside: ApiInside,
  { openApi, name, signal }: SurveyOptions,
): Promise<SurveyResource[]> {
  if (openApi !== undefined) return described(inside, openApi);
  const { survey } = inside.connector.api;
  if (survey === undefined) return ownStreams(inside);
  const { body } = await inside.ask(survey.get, signal);
  const text = new TextDecoder().decode(body);
  if (survey.names === undefined) return described(inside, parseYaml(text, survey.get).value);
  return namedOnes(inside, text, name, signal);
}

/** The streams of a document's lists, as the connector would have them; undefined where there is no document. */
export async function openApiStreams(inside: ApiInside, given: unknown): Promise<DraftStream[] | undefined> {
  const { survey } = inside.connector.api;
  const asked = async () => {
    if (survey === undefined || survey.names !== undefined) return undefined;
    const { body } = await inside.ask(survey.get);
    return parseYaml(new TextDecoder().decode(body), survey.get).value;
  };
  const openApi = given ?? (await asked());
  if (openApi === undefined) return undefined;
  const service = readOpenApi(openApiDocument(openApi, "The document"));
  return service.resources.map((resource) => ({
    ...resource.stream,
    get: pathBelow(inside, service, resource.stream.get!),
  }));
}

function described(inside: ApiInside, document: unknown): SurveyResource[] {
  const service = readOpenApi(openApiDocument(document, "The document"));
  const carried = new Map(
    Object.entries(inside.connector.streams).flatMap(([name, { get }]) =>
      get === undefined ? [] : [[plainPath(get), name] as const],
    ),
  );
  return service.resources.map((resource) => {
    const path = pathBelow(inside, service, resource.stream.get!);
    return ofResource(resource, path, carried.get(plainPath(path)));
  });
}

function ofResource(
  { stream, columns, scopes, missing }: OpenApiResource,
  path: string,
  carriedBy: string | undefined,
): SurveyResource {
  const { name, key, cursor, pages, each, description } = stream;
  const parents = Object.entries(each?.value ?? {}) as [string, { stream: string }][];
  return {
    name,
    kind: "list",
    path,
    stream: carriedBy,
    key: key?.value ?? [],
    columns,
    navigation: parents.map(([parameter, parent]) => ({ name: parameter, to: parent.stream, many: false })),
    cursors: cursor === undefined ? [] : [String(cursor.value.field)],
    tracksChanges: false,
    pages: pages?.why,
    scopes,
    missing,
    description,
    rows: undefined,
  };
}

/** A path of the document, below the connector's own address. */
function pathBelow({ account }: ApiInside, { server }: OpenApiService, path: string): string {
  const own = new URL(account.baseUrl).pathname.replace(/\/$/, "");
  const there =
    server !== undefined && URL.canParse(server, account.baseUrl)
      ? new URL(server, account.baseUrl).pathname
      : "";
  const whole = `${there.replace(/\/$/, "")}${path}`;
  return whole.startsWith(`${own}/`) ? whole.slice(own.length) : path;
}

/** Names that a describing request gives; of the one that is looked at, its fields as well. */
async function namedOnes(
  inside: ApiInside,
  text: string,
  wanted: string | undefined,
  signal: AbortSignal | undefined,
): Promise<SurveyResource[]> {
  const { names, fields } = inside.connector.api.survey!;
  const found = valuesAt(text, names!, "api.survey.names");
  const streams = Object.entries(inside.connector.streams);
  const columns = async (name: string): Promise<SurveyColumn[]> => {
    if (fields === undefined || name !== wanted) return [];
    const path = fields.get.replaceAll("{name}", encodeURIComponent(name));
    const { body } = await inside.ask(path, signal);
    const all = valuesAt(new TextDecoder().decode(body), fields.names, "api.survey.fields.names");
    return all.map((each) => ({ path: each, declared: "", type: undefined, description: undefined }));
  };
  return Promise.all(
    found.map(async (name) => {
      const carriedBy = streams.find(([, { get }]) => get?.split("/").includes(name));
      const own = carriedBy === undefined ? undefined : ofStream(...carriedBy);
      return { ...(own ?? NOTHING_KNOWN), name, stream: carriedBy?.[0], columns: await columns(name) };
    }),
  );
}

function valuesAt(text: string, path: string, key: string): string[] {
  const found = compileJsonPath(path).all(parseExactJson(text)) ?? [];
  const names = found.flat().filter((each): each is string => typeof each === "string");
  if (names.length > 0) return names;
  throw new BridgeError("RECORDS_NOT_FOUND", `No names are at ${key}: ${path}.`, { hint: `Correct ${key}.` });
}

function ownStreams({ connector }: ApiInside): SurveyResource[] {
  return Object.entries(connector.streams).map(([name, definition]) => ofStream(name, definition));
}

const NOTHING_KNOWN = {
  kind: "list",
  path: undefined,
  key: [],
  columns: [],
  navigation: [],
  cursors: [],
  tracksChanges: false,
  pages: undefined,
  scopes: [],
  missing: [],
  description: undefined,
  rows: undefined,
} as const;

/** What the connector itself says of a stream. */
function ofStream(name: string, definition: StreamDefinition): SurveyResource {
  const { get, post, report, key, columns, cursor, each } = definition;
  const parents = Object.entries(each ?? {}).flatMap(([parameter, source]) =>
    !Array.isArray(source) && "stream" in source ? [{ name: parameter, to: source.stream, many: false }] : [],
  );
  return {
    ...NOTHING_KNOWN,
    name,
    path: get ?? post ?? report?.submit?.get ?? report?.submit?.post,
    stream: name,
    key: key === undefined ? [] : [key].flat(),
    columns: Object.entries(columns).map(([path, rule]) => ({
      path,
      declared: "",
      type: rule.hash === true ? "text" : rule.type,
      description: rule.description,
    })),
    navigation: parents,
    cursors: cursor?.field === undefined ? [] : [cursor.field],
    tracksChanges: cursor?.delta !== undefined,
    pages: pagesWords(definition),
  };
}

function pagesWords({ pages, report }: StreamDefinition): string | undefined {
  if (report !== undefined) return "a report: submitted, waited for, downloaded";
  const kinds = ["token", "link", "number", "offset", "after"] as const;
  const kind = kinds.find((each) => pages?.[each] !== undefined);
  return kind === undefined ? "one page" : `by ${kind}`;
}
