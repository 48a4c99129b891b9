/** A draft from recorded exchanges (HAR 1.2): what a browser or a proxy has seen of an API. Nothing is asked. */

import { wholeNumber } from "../ask/page-rule.js";
import { fieldStatsOf } from "../sample/field-stats.js";
import { isPlainObject, parseExactJson } from "../shape/exact-json.js";
import { snakeCase } from "../shape/naming.js";
import { getByPath } from "../shape/path-get.js";
import { type Draft, type DraftStream, inParts } from "./draft.js";
import { filterNames, findCursors, findKey } from "./find-fields.js";
import { guessPages, leavesOf, type PagesGuess } from "./find-pages.js";
import { type FoundRecords, findRecords, jsonPathOf, resourceOf } from "./find-records.js";
import type { Guess, Seen } from "./seen.js";

type Headers = readonly { readonly name: string; readonly value: string }[];

/** The parts of a HAR that count here. */
interface HarEntry {
  readonly request: { readonly method: string; readonly url: string; readonly headers?: Headers };
  readonly response: {
    readonly status: number;
    readonly headers?: Headers;
    readonly content?: { readonly text?: string; readonly encoding?: string };
  };
}

/** Parameters and headers that hold a credential, by their names. */
const SECRET = /^(x-)?(api[-_]?)?(key|token)$|^x-.*(key|token)$|^(access_token|apikey|signature|sig)$/i;

/** Whether a value is a HAR. */
export function isHar(value: unknown): boolean {
  return isPlainObject(value) && isPlainObject(value.log) && Array.isArray(value.log.entries);
}

/** Undefined where no exchange in it lists things. */
export function draftHar(har: unknown, name: string, rateLimit: Draft["rateLimit"]): Draft | undefined {
  const entries = ((har as { log: { entries: readonly HarEntry[] } }).log.entries ?? []).filter(isEntry);
  const lists = entries.flatMap((entry) => seenIn(entry) ?? []);
  const [first] = lists;
  if (first === undefined) return undefined;
  const { origin } = new URL(first.url);
  const byPath = new Map<string, SeenEntry[]>();
  for (const each of lists.filter(({ url }) => new URL(url).origin === origin)) {
    const pattern = patternOf(each.url);
    byPath.set(pattern, [...(byPath.get(pattern) ?? []), each]);
  }
  const folder = commonFolder([...byPath.keys()]);
  const posts = entries
    .filter(({ request: { method } }) => method === "POST")
    .map(({ request: { url } }) => new URL(url).pathname);
  const { value, why, settings } = signInOf(entries);
  return {
    name,
    base: origin,
    path: folder,
    settings,
    signIn: { value, why },
    rateLimit,
    streams: named([...byPath].map(([pattern, seen]) => streamOf(pattern, seen, folder))),
    said: [
      `A draft from ${entries.length} recorded exchanges: nothing was asked of the API. Look it through.`,
      ...[...new Set(posts)].map((path) => `left out: POST ${path}, which has to be written by hand`),
    ],
  };
}

interface SeenEntry extends Seen {
  readonly found: Guess<FoundRecords>;
}

function isEntry(value: unknown): value is HarEntry {
  const { request, response } = (isPlainObject(value) ? value : {}) as Partial<HarEntry>;
  return (
    typeof request?.url === "string" && URL.canParse(request.url) && typeof response?.status === "number"
  );
}

function seenIn({ request, response }: HarEntry): SeenEntry | undefined {
  const { text, encoding } = response.content ?? {};
  if (request.method !== "GET" || response.status !== 200 || text === undefined) return undefined;
  try {
    const body = parseExactJson(encoding === "base64" ? new TextDecoder().decode(bytesOf(text)) : text);
    const found = findRecords(body, resourceOf(request.url));
    const headers = Object.fromEntries(
      (response.headers ?? []).map(({ name, value }) => [name.toLowerCase(), value]),
    );
    return found === undefined ? undefined : { url: request.url, headers, body, found };
  } catch {
    // no JSON: a page, a picture
    return undefined;
  }
}

function bytesOf(base64: string): Uint8Array {
  return Uint8Array.from(atob(base64), (char) => char.charCodeAt(0));
}

/** The path with `{}` where there are numbers and other ids. */
function patternOf(url: string): string {
  const isId = (step: string) => /^\d+$|^[0-9a-f]{8}-[0-9a-f-]{27}$|^[0-9a-f]{24}$/i.test(step);
  return new URL(url).pathname
    .split("/")
    .map((step) => (isId(step) ? "{}" : step))
    .join("/");
}

/** Each name once; values of a path come from the list before it, or are those that were seen. */
function named(
  streams: readonly (DraftStream & { readonly ids: ReadonlyMap<string, readonly string[]> })[],
): DraftStream[] {
  const taken = new Set<string>();
  const unique = streams.map((stream) => {
    let { name } = stream;
    for (let n = 2; taken.has(name); n++) name = `${stream.name}_${n}`;
    taken.add(name);
    return { ...stream, name };
  });
  return unique.map(({ ids, ...stream }) => {
    const sources = [...ids].map(([part, values]) => {
      const before = stream.get!.slice(0, stream.get!.indexOf(`/{${part}}`));
      const parent = unique.find(({ get }) => get === before);
      const [field] = parent?.key?.value ?? [];
      return [
        part,
        parent === undefined || field === undefined ? values : { stream: parent.name, field },
      ] as const;
    });
    const isSeen = sources.some(([, source]) => Array.isArray(source));
    const why = isSeen ? "those that were asked for" : "by the list that stands before it in the path";
    return sources.length === 0 ? stream : inParts(stream, { value: Object.fromEntries(sources), why });
  });
}

function streamOf(pattern: string, all: readonly SeenEntry[], folder: string) {
  const [first] = all as [SeenEntry];
  // pages follow each other within one path
  const path = new URL(first.url).pathname;
  const seen = all.filter(({ url }) => new URL(url).pathname === path);
  const steps = pattern.split("/");
  const ids = new Map<string, string[]>();
  for (const [at, step] of steps.entries()) {
    if (step !== "{}") continue;
    const part = `${
      snakeCase(steps[at - 1] ?? "")
        .replace(/[^a-z0-9_]/g, "")
        .replace(/s$/, "") || "value"
    }_id`;
    ids.set(part, [...new Set(all.map(({ url }) => new URL(url).pathname.split("/")[at]!))]);
    steps[at] = `{${part}}`;
  }
  const records = seen.flatMap(({ found }) => found.value.records);
  const resource = resourceOf(first.url);
  // within one page: what is asked for later may have changed meanwhile
  const key = findKey(fieldStatsOf(first.found.value.records), first.found.value.records, resource);
  const pages = seenPages(seen, key?.value) ?? toldPages(first, key?.value);
  const [time] = findCursors(fieldStatsOf(records));
  const filter = time && timeFilter(first, time.value);
  const { [filter ?? ""]: _, ...fixed } = fixedQuery(all, pages?.value);
  return {
    ids,
    name: snakeCase(resource),
    get: steps.join("/").slice(folder.length),
    query: Object.keys(fixed).length === 0 ? undefined : { value: fixed, why: "in all of its requests" },
    response: first.found.value.headerRow
      ? { value: { json: { header_row: true } }, why: "the first row has the names" }
      : undefined,
    records: { value: first.found.value.path, why: first.found.why },
    pages,
    key,
    cursor:
      filter === undefined || time === undefined
        ? undefined
        : {
            value: { field: time.value, query: filter, overlap: "PT5M" },
            why: `${time.why}; requests had ${filter}=`,
          },
    columns: [],
    open: [
      ...(pages === undefined
        ? [`whether there are more than these ${first.found.value.records.length} records`]
        : []),
      ...(time === undefined || filter !== undefined
        ? []
        : [`how to ask for changes: ${time.value} may be a cursor`]),
    ],
  };
}

/** A parameter of the request that filters by the time of change, by its name and value. */
function timeFilter({ url }: SeenEntry, time: string): string | undefined {
  const { searchParams } = new URL(url);
  return filterNames(time).find((each) => !Number.isNaN(Date.parse(searchParams.get(each) ?? "")));
}

/** What led from one request to the next, as it was seen. */
function seenPages(
  seen: readonly SeenEntry[],
  key: readonly string[] | undefined,
): Guess<PagesGuess> | undefined {
  for (const [i, before] of seen.entries()) {
    const after = seen[i + 1];
    const guess = after && stepBetween(before, after, key);
    if (guess !== undefined) return guess;
  }
  return undefined;
}

function stepBetween(
  before: SeenEntry,
  { url }: SeenEntry,
  key: readonly string[] | undefined,
): Guess<PagesGuess> | undefined {
  const header = toldPages(before, key);
  if (header?.value.link === "header")
    return { value: header.value, why: "a Link header led to the next request" };
  const { records, steps } = before.found.value;
  const leaves = leavesOf(before.body, [], steps);
  const link = leaves.find(
    ({ value }) =>
      typeof value === "string" && URL.canParse(value, before.url) && new URL(value, before.url).href === url,
  );
  if (link !== undefined && /[/?]/.test(String(link.value)))
    return { value: { link: jsonPathOf(link.steps) }, why: "the next request went to that address" };
  const old = new URL(before.url).searchParams;
  for (const [query, value] of new URL(url).searchParams) {
    if (old.get(query) === value || SECRET.test(query)) continue;
    const token = leaves.find((leaf) => String(leaf.value) === value && !/^\d{1,3}$/.test(value));
    if (token !== undefined)
      return { value: { token: jsonPathOf(token.steps), query }, why: "the next request had that value" };
    const [field] = key?.length === 1 ? key : [];
    const last = records.at(-1);
    if (field !== undefined && last !== undefined && String(getByPath(last, field.split("."))) === value)
      return { value: { after: field, query }, why: `the next request had the last record's ${field}` };
    const [from, to] = [wholeNumber(old.get(query) ?? undefined), wholeNumber(value)];
    if (to === undefined) continue;
    const step = to - (from ?? 0);
    const isOffset = /offset|skip|start/i.test(query) && step > 1 && step <= records.length;
    if (isOffset || (step === records.length && records.length > 1))
      return { value: { offset: 0, query }, why: `the next request had ${query}=${value}` };
    if (to - (from ?? 1) === 1)
      return { value: { number: from ?? 1, query }, why: `the next request had ${query}=${value}` };
  }
  return undefined;
}

/** Only what the response itself tells; nothing of it was seen to work. */
function toldPages(first: SeenEntry, key: readonly string[] | undefined): Guess<PagesGuess> | undefined {
  const guess = guessPages(first, first.found.value, key).find(({ value }) => value.link !== undefined);
  return guess && { value: guess.value, why: `${guess.why}; not seen to work` };
}

/** Parameters that all requests have alike, those of pages and credentials left out. */
function fixedQuery(seen: readonly SeenEntry[], pages: PagesGuess | undefined): Record<string, string> {
  const [first, ...others] = seen.map(({ url }) => new URL(url).searchParams);
  return Object.fromEntries(
    [...first!].filter(
      ([name, value]) =>
        name !== pages?.query && !SECRET.test(name) && others.every((other) => other.get(name) === value),
    ),
  );
}

/** How the requests were signed, by the names of headers and parameters; their values go nowhere. */
function signInOf(entries: readonly HarEntry[]): Guess<string> & { readonly settings: readonly string[] } {
  const secret = (name: string) => `${name}: { type: string, secret: true }`;
  for (const { request } of entries) {
    for (const { name, value } of request.headers ?? []) {
      const header = name.toLowerCase();
      if (header === "authorization" && /^bearer /i.test(value))
        return {
          value: '{ bearer: "{token}" }',
          why: "requests had a bearer token",
          settings: [secret("token")],
        };
      if (header === "authorization" && /^basic /i.test(value))
        return {
          value: "{ basic: {} }",
          why: "requests had user and password",
          settings: ["user: { type: string }", secret("password")],
        };
      if (SECRET.test(header))
        return {
          value: `{ key: "{api_key}", in: header, name: ${JSON.stringify(name)} }`,
          why: "requests had that header",
          settings: [secret("api_key")],
        };
    }
    const parameter = [...new URL(request.url).searchParams.keys()].find((each) => SECRET.test(each));
    if (parameter !== undefined)
      return {
        value: `{ key: "{api_key}", in: query, name: ${JSON.stringify(parameter)} }`,
        why: "requests had that parameter",
        settings: [secret("api_key")],
      };
  }
  return { value: "none", why: "no request was signed, or the recording does not show it", settings: [] };
}

/** The path that all have in common, without their last steps. */
export function commonFolder(paths: readonly string[]): string {
  const folders = paths.map((path) => path.split("/").slice(0, -1));
  const [first = []] = folders;
  const length = first.findIndex((step, i) => folders.some((other) => other[i] !== step));
  return first.slice(0, length < 0 ? first.length : length).join("/");
}
