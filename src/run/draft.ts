/** `draftStream`: a connector found out by asking: a few requests, each a guess that is tried. */

import type { PagePosition } from "../core/ask/page-position.js";
import { compilePages, nextAfterFirst } from "../core/ask/page-rule.js";
import { WHOLE_STREAM } from "../core/ask/parts.js";
import { readPage } from "../core/ask/read-page.js";
import { chooseDecoder } from "../core/decode/choose-decoder.js";
import type { ResponseDefinition } from "../core/define/ask-schema.js";
import { streamSchema } from "../core/define/stream-schema.js";
import type { DraftStream, PostBody } from "../core/draft/draft.js";
import { filterNames, findCursors, findKey } from "../core/draft/find-fields.js";
import { guessPages, guessTokens, type PagesGuess, sizeNames } from "../core/draft/find-pages.js";
import { type FoundRecords, findRecords, resourceOf } from "../core/draft/find-records.js";
import type { Guess, Seen } from "../core/draft/seen.js";
import { BridgeError, isBridgeError } from "../core/errors.js";
import { readLimits } from "../core/pace/limit-headers.js";
import { type FieldStats, fieldStatsOf } from "../core/sample/field-stats.js";
import { isPlainObject, parseExactJson, stringifyExact } from "../core/shape/exact-json.js";
import { parsePath, snakeCase } from "../core/shape/naming.js";
import { getByPath } from "../core/shape/path-get.js";
import { compileStream } from "../core/stream/compile-stream.js";
import type { Tally } from "../http/exchange.js";
import type { HttpResponse } from "../http/send.js";
import { type Api, type ApiInside, insideOf } from "./api.js";

/** Requests that look for one thing of a stream, at most. */
const MOST_TRIES = 9;

type Records = readonly Readonly<Record<string, unknown>>[];

/** What was found out of one address, and of the API by the way. */
export interface FoundStream {
  readonly stream: DraftStream;
  readonly rateLimit: Guess<Readonly<Record<string, number>>> | undefined;
}

/** How one address is asked. */
export interface DraftStreamOptions {
  readonly tally: Tally;
  readonly signal?: AbortSignal | undefined;
  /** what is posted instead of a GET: it must only ask */
  readonly post?: PostBody | undefined;
}

/**
 * Finds out how the records at a path are asked for: by GET alone, or by the POST that is given.
 * @throws BridgeError what the first request throws; RECORDS_NOT_FOUND where its response has no list
 */
export async function draftStream(
  api: Api,
  path: string,
  { tally, signal, post }: DraftStreamOptions,
): Promise<FoundStream> {
  return new Drafter(insideOf(api), path, tally, signal, post).draft();
}

class Drafter {
  private readonly address: URL;
  private readonly resource: string;
  /** the path without its query */
  private readonly get: string;
  /** by the content type of the first response */
  private isXml = false;

  constructor(
    private readonly api: ApiInside,
    private readonly path: string,
    private readonly tally: Tally,
    private readonly signal: AbortSignal | undefined,
    private readonly post: PostBody | undefined,
  ) {
    this.address = new URL(path.replace(/^\//, ""), `${api.account.baseUrl.replace(/\/$/, "")}/`);
    this.get = `/${path.replace(/^\//, "").replace(/\?.*$/, "")}`;
    this.resource = resourceOf(this.address.href);
  }

  async draft(): Promise<FoundStream> {
    const response = await this.api.ask(this.path, this.signal, this.post);
    this.tally.requests++;
    const seen: Seen = { url: this.address.href, headers: response.headers, body: this.bodyOf(response) };
    const found = findRecords(seen.body, this.resource);
    if (found === undefined)
      throw new BridgeError("RECORDS_NOT_FOUND", `The response at ${this.path} has no list of records.`, {
        hint: "Name an address that lists things, such as …/bookings.",
      });
    // as a run would read them
    const read = readPage({ body: response.body, headers: response.headers }, this.planOf(found.value, {}));
    const first: FoundRecords = { ...found.value, records: read.records.filter(isPlainObject) };
    const provisional = findKey(fieldStatsOf(first.records), first.records, this.resource);
    const paged = await this.pages(seen, first, provisional?.value, response);
    const records = [...first.records, ...(paged?.records ?? [])];
    const fields = fieldStatsOf(records);
    // what moves between two pages comes twice
    const key = findKey(fieldStatsOf(distinct(records)), distinct(records), this.resource);
    const pages = paged === undefined ? undefined : await this.sized(paged.pages, first, key?.value);
    const cursor = first.records.length === 0 ? undefined : await this.cursor(seen, first, fields);
    const query = Object.fromEntries(this.address.searchParams);
    const hasQuery = this.address.searchParams.size > 0;
    const stream: DraftStream = {
      name: snakeCase(this.resource),
      get: this.get,
      post: this.post && { value: this.post, why: "the body only asks, as it was given" },
      query: hasQuery ? { value: query, why: "as the address had it" } : undefined,
      response: this.response(first),
      records: { value: first.path, why: found.why },
      pages,
      key,
      cursor,
      columns: columnsOf(fields),
      open: this.open(first, paged !== undefined, key, cursor, fields),
    };
    return { stream, rateLimit: limitsOf(response, this.api.clock.now()) };
  }

  /** The first guess that leads to other records than those of the first page. */
  private async pages(
    seen: Seen,
    first: FoundRecords,
    key: readonly string[] | undefined,
    response: HttpResponse,
  ): Promise<{ readonly pages: Guess<PagesGuess>; readonly records: Records } | undefined> {
    const guesses = this.post === undefined ? guessPages(seen, first, key) : this.guessTokens(seen, first);
    for (const guess of guesses.slice(0, MOST_TRIES)) {
      const pages = guess.value as never;
      const rule = compilePages(streamSchema.parse({ ...this.request(), pages }).pages);
      const plan = this.planOf(first, { pages });
      const page = readPage({ body: response.body, headers: response.headers }, plan);
      const next = nextAfterFirst(rule, page);
      if (next.at === "end") continue;
      const second = await this.read(first, { pages }, next);
      if (second === undefined) continue;
      const isNumbered = next.at === "number" || next.at === "offset";
      if (
        second.length === 0
          ? isNumbered && page.envelope.total === undefined
          : areOthers(first.records, second)
      ) {
        const why =
          second.length === 0 ? "tried: behind the first page there is nothing yet" : `tried: ${guess.why}`;
        return { pages: { value: guess.value, why }, records: second };
      }
    }
    return undefined;
  }

  /** A body has a place for the next page's token, or none. */
  private guessTokens(seen: Seen, first: FoundRecords): Guess<PagesGuess>[] {
    return JSON.stringify(this.post).includes("{token}") ? guessTokens(seen, first) : [];
  }

  /** The page rule with the parameter that sets how many records a page has, where one does. */
  private async sized(
    pages: Guess<PagesGuess>,
    first: FoundRecords,
    key: readonly string[] | undefined,
  ): Promise<Guess<PagesGuess>> {
    const { value, why } = pages;
    if (value.offset === undefined && value.number === undefined) return pages;
    const overlap = value.offset !== undefined && key !== undefined ? { overlap: 5 } : {};
    const half = Math.floor(first.records.length / 2);
    if (half < 2) return { value: { ...value, ...overlap }, why };
    for (const query of sizeNames(this.address.href)) {
      const fewer = await this.read(first, {}, undefined, { [query]: String(half) });
      if (fewer?.length !== half) continue;
      const size = { query, records: first.records.length };
      return { value: { ...value, ...overlap, size }, why: `${why}; ${query}=${half} gave ${half}` };
    }
    return { value: { ...value, ...overlap }, why };
  }

  /** A time of the records, and a parameter by which the API filters by it. */
  private async cursor(
    seen: Seen,
    first: FoundRecords,
    fields: readonly FieldStats[],
  ): Promise<DraftStream["cursor"]> {
    const [best] = findCursors(fields);
    if (best === undefined || this.post !== undefined) return undefined;
    const times = first.records.map((record) => String(getByPath(record, parsePath(best.value) ?? [])));
    const sorted = times.toSorted((a, b) => Date.parse(a) - Date.parse(b));
    const since = sorted[Math.floor(sorted.length / 2)]!;
    const isOlder = (time: string) => Date.parse(time) < Date.parse(since);
    if (!times.some(isOlder)) return undefined;
    for (const query of filterNames(best.value)) {
      if (new URL(seen.url).searchParams.has(query)) continue;
      const filtered = await this.read(first, {}, undefined, { [query]: since });
      const isHeeded = filtered?.every(
        (record) => !isOlder(String(getByPath(record, parsePath(best.value) ?? []))),
      );
      if (isHeeded !== true || filtered!.length === 0) continue;
      const why = `${best.why}; tried: ${query}= gives none that is older`;
      return { value: { field: best.value, query, overlap: "PT5M" }, why };
    }
    return undefined;
  }

  /** One page of a trial; undefined where the API refuses it. */
  private async read(
    first: FoundRecords,
    more: object,
    position: PagePosition | undefined,
    query: Readonly<Record<string, string>> = {},
  ): Promise<Records | undefined> {
    const definition = this.definition(first, more, query);
    const stream = compileStream(this.api.connector, "trial", definition);
    const { signal, tally } = this;
    const ask = await this.api.openStream(stream, { tally, signal, nowMs: this.api.clock.now() });
    try {
      for await (const page of ask.pages(WHOLE_STREAM, {
        position,
        once: true,
        most: Number.MAX_SAFE_INTEGER,
      }))
        return page.records as Records;
      return [];
    } catch (error) {
      signal?.throwIfAborted();
      if (isBridgeError(error) && PASSING.has(error.code)) throw error;
      return undefined;
    }
  }

  private planOf(first: FoundRecords, more: object) {
    return compileStream(this.api.connector, "trial", this.definition(first, more)).request.plan;
  }

  private definition(first: FoundRecords, more: object, query: Readonly<Record<string, string>> = {}) {
    return streamSchema.parse({
      ...this.request(),
      query: { ...Object.fromEntries(this.address.searchParams), ...query },
      records: first.path,
      response: this.response(first)?.value,
      ...more,
    });
  }

  private request() {
    return this.post === undefined
      ? { get: this.get }
      : { post: this.get, safe_to_retry: true, body: this.post };
  }

  private response({ headerRow }: FoundRecords): Guess<ResponseDefinition> | undefined {
    if (this.isXml) return { value: "xml", why: "by its content type" };
    return headerRow
      ? { value: { json: { header_row: true } }, why: "the first row has the names" }
      : undefined;
  }

  private bodyOf({ body, headers }: HttpResponse): unknown {
    const type = headers["content-type"] ?? "no content type";
    this.isXml = /[/+]xml\b/i.test(type);
    if (this.isXml) return chooseDecoder("xml", []).decode(body, {})[0];
    try {
      return parseExactJson(new TextDecoder().decode(body));
    } catch (cause) {
      throw new BridgeError("BODY_NOT_JSON", `The response is no JSON (${type}).`, {
        hint: "A draft is made from JSON and XML: write this stream by hand, with response: csv or json_lines.",
        cause,
      });
    }
  }

  private open(
    { records }: FoundRecords,
    isPaged: boolean,
    key: Guess<readonly string[]> | undefined,
    cursor: DraftStream["cursor"],
    fields: readonly FieldStats[],
  ): string[] {
    const [time] = findCursors(fields);
    const asked = [...this.address.searchParams.keys()];
    const from = asked.find((each) => /^(from|start|since|after|begin)/i.test(each));
    const to = asked.find((each) => /^(to|end|until|before)/i.test(each));
    return [
      ...(from === undefined || to === undefined
        ? []
        : [
            `other times than the address has: windows: { span: P1D, from: ${from}, to: ${to}, start: … } asks for each`,
          ]),
      ...(isPaged || records.length < 10
        ? []
        : [`whether there are more than these ${records.length} records: ${this.noPages()}`]),
      ...(records.length === 0 ? ["what the records look like: none is there today"] : []),
      ...(key === undefined && records.length > 0 ? ["a key: no field is different in all records"] : []),
      ...(cursor === undefined && time !== undefined
        ? [`how to ask for changes: ${time.value} may be a cursor, and no parameter for it was found`]
        : []),
    ];
  }

  private noPages(): string {
    return this.post === undefined || JSON.stringify(this.post).includes("{token}")
      ? "no way to a second page was found"
      : "write {token} into the body where the next page's token goes";
  }
}

/** What says nothing of a guess, and stops the work. */
const PASSING: ReadonlySet<string> = new Set([
  "TOKEN_REFUSED",
  "SIGN_IN_FAILED",
  "RATE_LIMITED",
  "HOST_UNKNOWN",
]);

function distinct(records: Records): Records {
  return [...new Map(records.map((record) => [stringifyExact(record), record])).values()];
}

/** Whether most of the second page's records are none of the first's: lists may move by a few between two requests. */
function areOthers(first: Records, second: Records): boolean {
  const known = new Set(first.map(stringifyExact));
  return second.filter((record) => !known.has(stringifyExact(record))).length * 2 > second.length;
}

/** Digits in quotes, in all records, whose names are those of amounts. */
function columnsOf(fields: readonly FieldStats[]): DraftStream["columns"] {
  return fields
    .filter(({ types, path }) => {
      const isNumber = Object.keys(types).length === 1 && types.number_text !== undefined;
      return isNumber && /amount|price|total|sum|cost|fee|rate|tax|balance|kg|weight|share/i.test(path);
    })
    .map(({ path, filled, least, greatest }) => ({
      path,
      rule: { type: "decimal(18,4)" },
      why: `digits in quotes in all ${filled}, from ${String(least)} to ${String(greatest)}`,
    }));
}

/** RateLimit and X-RateLimit headers. */
function limitsOf(
  { headers }: HttpResponse,
  nowMs: number,
): Guess<Readonly<Record<string, number>>> | undefined {
  const { limit, windowMs } = readLimits(headers, nowMs);
  if (limit === undefined || windowMs === undefined) return undefined;
  const seconds = windowMs / 1000;
  const value: Record<string, number> =
    seconds <= 1
      ? { per_second: limit / seconds }
      : seconds <= 60
        ? { per_minute: (limit * 60) / seconds }
        : { per_hour: (limit * 3600) / seconds };
  return { value: { ...value, concurrency: 2 }, why: `the API's headers tell: ${limit} in ${seconds} s` };
}
