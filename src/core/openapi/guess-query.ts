/** What the parameters of an operation tell of pages and changes, by their names. */

import type { PagesGuess } from "../draft/find-pages.js";
import { jsonPathOf } from "../draft/find-records.js";
import type { Guess } from "../draft/seen.js";
import { flatSchema, type Json, type OpenApiDocument } from "./document.js";
import type { ListSchema } from "./find-list.js";

/** A parameter of the query, its references followed. */
export interface QueryParameter {
  readonly name: string;
  readonly isRequired: boolean;
  readonly schema: Json;
}

const SIZE =
  /^(\$?limit|per_?page|page_?size|page\[size\]|page\[limit\]|size|max_?results|count|top|\$top|rows)$/i;
const OFFSET = /^(\$?offset|\$?skip|start|start_?at|start_?index|page\[offset\])$/i;
const NUMBER = /^(page|page_?(number|no|num|index)|page\[number\]|p)$/i;
const TOKEN =
  /^(cursor|page_?token|next_?token|next_?cursor|continuation(_?token)?|after|marker|start_?key|page\[(after|cursor)\]|scroll_?id|bookmark)$/i;
const AFTER_KEY = /^(starting_after|since_id|after_id|last_id|min_id|start_after)$/i;
/** The same in the response. */
const PLACE =
  /next_?(page_?)?(token|cursor|marker|offset)|^(end_?cursor|continuation_?token|cursor|after|scroll_?id|bookmark)$/i;
const TOTAL = /^(total|total_?(count|items|records|results|elements)|count|record_?count)$/i;
/** Pages are so large where nobody says how large they may be. */
const SIZE_UNSAID = 100;

/** How the operation gives its pages; undefined where no parameter and no part of the response tells. */
export function guessPagesOf(
  document: OpenApiDocument,
  parameters: readonly QueryParameter[],
  list: ListSchema,
  key: string | undefined,
  hasLinkHeader: boolean,
): Guess<PagesGuess> | undefined {
  const named = (pattern: RegExp) => parameters.find(({ name }) => pattern.test(name));
  const size = sizeOf(named(SIZE));
  const inBody = envelopePaths(document, list);
  const total = inBody.find(({ name }) => TOTAL.test(name));
  const count = total === undefined ? {} : { total: total.path };
  if (hasLinkHeader) return { value: { link: "header" }, why: "the response has a Link header" };
  const link = inBody.find(
    ({ name, path }) =>
      /^(next|next_?(page_?)?(url|uri|link|href)|\w*next_?link)$/i.test(name) || /\.next\.href$/i.test(path),
  );
  // an offset that is a text is a token that the response gives
  const isText = ({ schema }: QueryParameter) => schema.type === "string";
  const textual = parameters.find((each) => OFFSET.test(each.name) && isText(each));
  const token = named(TOKEN) ?? textual;
  const place = inBody.find(
    ({ name, path }) => PLACE.test(name) || /next\w*\.(offset|token|cursor)$/i.test(path),
  );
  if (token !== undefined && place !== undefined)
    return {
      value: { token: place.path, query: token.name, ...size },
      why: `parameter ${token.name}, and ${place.path} of the response`,
    };
  const after = named(AFTER_KEY);
  if (after !== undefined && key !== undefined)
    return { value: { after: key, query: after.name, ...size }, why: `parameter ${after.name}` };
  if (link !== undefined) return { value: { link: link.path }, why: `${link.path} of the response` };
  const counting = parameters.filter((each) => !isText(each));
  const offset = counting.find(({ name }) => OFFSET.test(name));
  if (offset !== undefined)
    return { value: { offset: 0, query: offset.name, ...count, ...size }, why: `parameter ${offset.name}` };
  const number = counting.find(({ name }) => NUMBER.test(name));
  if (number !== undefined)
    return {
      value: { number: firstPage(number), query: number.name, ...count, ...size },
      why: `parameter ${number.name}`,
    };
  return undefined;
}

function firstPage({ schema }: QueryParameter): number {
  return schema.default === 0 || schema.minimum === 0 ? 0 : 1;
}

function sizeOf(parameter: QueryParameter | undefined): { size?: { query: string; records: number } } {
  if (parameter === undefined) return {};
  const { maximum, default: usual } = parameter.schema;
  const told = [maximum, usual].find((each) => typeof each === "number" && each >= 1 && each <= 10_000);
  return {
    size: { query: parameter.name, records: Math.floor((told as number | undefined) ?? SIZE_UNSAID) },
  };
}

/** Scalars around the list, by their paths. */
function envelopePaths(
  document: OpenApiDocument,
  { envelope }: ListSchema,
): { name: string; path: string }[] {
  if (envelope === undefined) return [];
  const follow = (
    properties: ReadonlyMap<string, unknown>,
    steps: readonly string[],
  ): { name: string; path: string }[] =>
    [...properties].flatMap(([name, value]) => {
      const flat = flatSchema(document, value);
      const at = [...steps, name];
      if (flat.types.has("array")) return [];
      return flat.properties.size > 0 && steps.length < 3
        ? follow(flat.properties, at)
        : [{ name, path: jsonPathOf(at) }];
    });
  return follow(envelope.properties, []);
}

/** A parameter that filters by a time of the records, with that time. */
export function guessCursorOf(
  document: OpenApiDocument,
  parameters: readonly QueryParameter[],
  { item }: ListSchema,
): Guess<Readonly<Record<string, string>>> | undefined {
  const times = [...item.properties].flatMap(([name, value]) => {
    const { format, types } = flatSchema(document, value);
    return types.has("string") && (format === "date-time" || /(_at|At)$/.test(name)) ? [name] : [];
  });
  for (const stem of ["updated", "modified", "changed", "created"]) {
    const field = times.find((name) => new RegExp(stem.slice(0, -1), "i").test(name));
    const filter = parameters.find(({ name }) =>
      new RegExp(`${stem.slice(0, -1)}\\w*[_[.]?(since|after|from|gte?|min|start)|^since$`, "i").test(name),
    );
    if (field !== undefined && filter !== undefined)
      return {
        value: { field, query: filter.name, overlap: "PT5M" },
        why: `parameter ${filter.name}, and ${field} of the records; not tried`,
      };
  }
  return undefined;
}
