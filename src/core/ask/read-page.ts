/**
 * `readPage(response, plan)`: a page into the envelope's values, records, the cursor's span and typed batches.
 *
 * This is the plain reader: the body's tree, then a walk. The values that decide the next request are there at
 * once; the batches are made when `shape()` is called, so that the next page can be asked for before.
 */

import type { Decoder } from "../decode/choose-decoder.js";
import { columnNames, namedRows, nameValues } from "../decode/rows.js";
import { BridgeError, typeName, type Where } from "../errors.js";
import { type ByteRecords, type RecordNews, someOf } from "../express/byte-records.js";
import type { Keeps, Outliner } from "../express/outline.js";
import type { JsonPath } from "../language/plain-path.js";
import type { HeaderValues } from "../pace/limit-headers.js";
import { isPlainObject } from "../shape/exact-json.js";
import type { Shape } from "../shape/shape.js";
import type { Issue, Shaped } from "../shape/shaped.js";
import { apiWords, saysFailed } from "./api-words.js";

/** Where a value of the envelope is: in the body or in a header. */
export type EnvelopePlace = JsonPath | { readonly header: string };

export type EnvelopeName = "token" | "link" | "more" | "last" | "total" | "totalPages" | "delta";

/** What a page is read for: its records, and the values that tell of further pages. */
export interface ReadPlan {
  readonly stream: string;
  readonly decoder: Decoder;
  readonly records: readonly JsonPath[];
  /** the key of the stream that holds these paths, where it is not `records` */
  readonly recordsKey?: string | undefined;
  readonly envelope: Readonly<Partial<Record<EnvelopeName, EnvelopePlace>>>;
}

/** A response as it came; headers by lower-case name. */
export interface PageResponse {
  /** default: 200 */
  readonly status?: number | undefined;
  readonly body: Uint8Array;
  readonly headers: HeaderValues;
}

/** A page as it was read; its rows are made when `shape` is called. */
export interface PageRead {
  /** the envelope's values that the plan asks for */
  readonly envelope: Readonly<Partial<Record<EnvelopeName, unknown>>>;
  /** records of the response, before any was left out */
  readonly received: number;
  readonly records: readonly unknown[];
  /** where the records are in the bytes; they themselves then hold the fields that asking needs, and no others */
  readonly source?: ByteRecords | undefined;
  /** records that were left out by rules or because they are old */
  readonly leftOut: number;
  /** the records before any was left out, in the order in which they came: the cursor has seen them all */
  readonly came: readonly unknown[];
  readonly bytes: number;
  /** rows of all tables, some thousands of records at a time; may be called once */
  shape(shape: Shape): Iterable<ShapedSlice>;
}

/** Rows of some of a page's records. Issues that concern the page as a whole come with the first ones. */
export interface ShapedSlice extends Shaped {
  readonly records: readonly unknown[];
}

/** So many records are shaped at a time: a page may be large, its columns need not be. */
const SLICE = 5000;

/** How records are read without making objects of them. */
export interface Express {
  readonly outliner: Outliner;
  /** the shape into whose columns they go on the way */
  readonly shape: Shape | undefined;
  /** fields that each of them is given */
  readonly news: RecordNews;
  /** rules that only leave some of them out */
  readonly keeps?: Keeps | undefined;
}

/**
 * Reads one page; by the express reader, where one is given and its records are of the usual kind.
 * @throws BridgeError BODY_HTML, BODY_TRUNCATED, BODY_NOT_JSON, BODY_UNREADABLE, RECORDS_NOT_FOUND, RESPONSE_UNLIKE
 */
export function readPage(
  response: PageResponse,
  plan: ReadPlan,
  where: Where = {},
  express?: Express,
): PageRead & { readonly body: unknown } {
  if (response.status === 204 || response.status === 205) {
    const envelope = readEnvelope(undefined, response.headers, plan);
    return { ...pageOfRecords([], 0), envelope, body: undefined };
  }
  const outline = express?.outliner.outline(response.body, express.shape, express.news, express.keeps);
  // what an empty list means depends on what stands beside it
  if (outline !== undefined && outline.sketches.length > 0) {
    const { sketches, body } = outline;
    const envelope = readEnvelope(body, response.headers, plan);
    const { length: bytes } = response.body;
    const read = { envelope, received: sketches.length, came: sketches, bytes };
    return { ...pageFrom(sketches, [], read, outline), body };
  }
  const trees = plan.decoder.decode(response.body, where);
  const records = trees.flatMap((tree) => recordsOf(tree, plan, where));
  const body = trees[0];
  return {
    ...pageOfRecords(records, response.body.length),
    envelope: readEnvelope(body, response.headers, plan),
    body,
  };
}

/** A page of records that are there already: rows of a long file, records put together from several responses. */
export function pageOfRecords(records: readonly unknown[], bytes: number): PageRead {
  return pageFrom(records, [], { envelope: {}, received: records.length, came: records, bytes });
}

/** A page of records, of which some may have gone to quarantine. */
export function pageFrom(
  records: readonly unknown[],
  issues: readonly Issue[],
  { envelope, received, came, bytes }: Pick<PageRead, "envelope" | "received" | "came" | "bytes">,
  source?: ByteRecords,
): PageRead {
  return {
    source,
    envelope,
    received,
    came,
    bytes,
    records,
    leftOut: came.length - records.length - issues.length,
    shape: (shape) => shapeSlices(records, issues, shape, source),
  };
}

/** Rows slice by slice, one at least; issues come with the first. */
function* shapeSlices(
  records: readonly unknown[],
  issues: readonly Issue[],
  shape: Shape,
  source: ByteRecords | undefined,
): Generator<ShapedSlice> {
  const scanned = source !== undefined && records.length > 0;
  let first = true;
  for (const slice of scanned ? scannedSlices(records, source, shape) : plainSlices(records, shape)) {
    yield first && issues.length > 0 ? { ...slice, issues: [...shape.hide(issues), ...slice.issues] } : slice;
    first = false;
  }
}

function* plainSlices(records: readonly unknown[], shape: Shape): Generator<ShapedSlice> {
  for (let from = 0; from === 0 || from < records.length; from += SLICE) {
    const slice = records.length <= SLICE ? records : records.slice(from, from + SLICE);
    yield { ...shape.shapeRecords(slice), records: slice };
  }
}

function* scannedSlices(
  records: readonly unknown[],
  source: ByteRecords,
  shape: Shape,
): Generator<ShapedSlice> {
  for (const { which, ...shaped } of source.finder.shape(source, shape))
    yield { ...shaped, records: which.length === records.length ? records : which.map((i) => records[i]) };
}

/** The page with other records in the place of its own: some of them, or with more in them. */
export function withRecords(page: PageRead, records: readonly unknown[]): PageRead {
  const { source } = page;
  if (source === undefined || records.length === page.records.length)
    return pageFrom(records, [], page, source);
  const places = new Map(page.records.map((record, i) => [record, i]));
  const kept = records.map((record) => places.get(record)!);
  return pageFrom(records, [], page, someOf(source, kept));
}

function recordsOf(body: unknown, plan: ReadPlan, where: Where): readonly unknown[] {
  const found = plan.records.map((path) => path.list(body));
  const lists = found.filter((list) => list !== undefined);
  // an XML list without elements has no element at all, and often its parent is an empty text
  if (lists.length === 0 && plan.decoder.kind === "xml" && isEmptyXml(body, plan)) return [];
  if (lists.length === 0)
    throw saysFailed(body) ? answeredError(body, where) : recordsNotFound(body, plan, where);
  const records = lists.length === 1 ? lists[0]! : lists.flat();
  // an empty list beside an error is no end of a list
  if (records.length === 0 && saysFailed(body)) throw answeredError(body, where);
  if (plan.decoder.kind !== "json") return records;
  if (plan.decoder.headerRow === true) return namedRows(records, true);
  const given = plan.decoder.names?.all(body);
  const names = given && columnNames(given);
  if (names !== undefined) return records.map((row) => nameValues(row, names));
  if (records.length > 0 && records.every(Array.isArray))
    throw listsFound(body, records[0] ?? [], plan, where);
  return records;
}

/** Whether the path's container is there but for its last element, or for an empty one. */
function isEmptyXml(body: unknown, plan: ReadPlan): boolean {
  return plan.records.some((path) => {
    const steps = /^\$\.([A-Za-z0-9_.-]+)\[\*\]/.exec(path.text)?.[1]?.split(".").slice(0, -1) ?? [];
    let value: unknown = body;
    for (const step of steps) {
      if (value === "") return true;
      if (typeof value !== "object" || value === null || !Object.hasOwn(value, step)) return false;
      value = (value as Record<string, unknown>)[step];
    }
    return steps.length > 0;
  });
}

/** The envelope's values, from the body's tree and the headers. */
export function readEnvelope(body: unknown, headers: HeaderValues, plan: ReadPlan): PageRead["envelope"] {
  const values: Partial<Record<EnvelopeName, unknown>> = {};
  for (const [name, place] of Object.entries(plan.envelope) as [EnvelopeName, EnvelopePlace][])
    values[name] = "header" in place ? headers[place.header] : place.first(body);
  return values;
}

function answeredError(body: unknown, where: Where): BridgeError {
  const words = apiWords(body);
  const said = words === undefined ? "." : `: ${words}`;
  return new BridgeError("RESPONSE_UNLIKE", `The API answers with an error instead of records${said}`, {
    where,
  });
}

/** The path stops a step short, or the records are rows of values. */
function listsFound(body: unknown, first: readonly unknown[], plan: ReadPlan, where: Where): BridgeError {
  const [path] = plan.records;
  const { recordsKey: key = "records" } = plan;
  const name = Object.entries((body ?? {}) as object).find(([, value]) => value === first)?.[0];
  const longer = path?.text === "$[*]" && name !== undefined ? `$.${name}[*]` : `${path?.text}[*]`;
  return new BridgeError("RECORDS_NOT_FOUND", `Lists are at ${key}: ${path?.text}, not records.`, {
    where,
    hint: isPlainObject(first[0])
      ? `Perhaps ${key}: ${longer} is meant.`
      : "If they are rows of values, write response: { json: { header_row: true } }, or names where they are elsewhere.",
  });
}

function recordsNotFound(body: unknown, plan: ReadPlan, where: Where): BridgeError {
  const lists =
    typeof body === "object" && body !== null && !Array.isArray(body)
      ? Object.entries(body).map(([key, value]) => `${key} (${typeName(value)})`)
      : [];
  const seen = Array.isArray(body) ? "a list" : lists.length > 0 ? lists.join(", ") : typeName(body);
  const list = Array.isArray(body)
    ? "$[*]"
    : Object.entries((body ?? {}) as object).find(([, value]) => Array.isArray(value))?.[0];
  const suggestion = list === undefined ? undefined : list === "$[*]" ? list : `$.${list}[*]`;
  const paths = plan.records.map(({ text }) => text).join(", ");
  const { recordsKey: key = "records" } = plan;
  const hint =
    suggestion !== undefined && key === "records"
      ? `Perhaps records: ${suggestion} is meant.`
      : `Correct ${key} of the stream.`;
  return new BridgeError(
    "RECORDS_NOT_FOUND",
    `Nothing is at ${key}: ${paths}. The response holds: ${seen}.`,
    {
      where,
      hint,
    },
  );
}
