/** Finds a slip of the pen that would end a stream early and silently: more pages than the connector knows of. Pure. */

import { nextInHeader, wholeNumber } from "../ask/page-rule.js";
import type { PageRead } from "../ask/read-page.js";
import type { PagesDefinition } from "../define/ask-schema.js";
import type { HeaderValues } from "../pace/limit-headers.js";
import { isPlainObject } from "../shape/exact-json.js";
import { placeText } from "./describe-stream.js";

/** Without these the first page is the only one; what the API may call them. */
const ENDING = {
  token: /next|cursor|token|continu/i,
  link: /next/i,
  more: /more|next/i,
} as const;

/** What looks alike and tells of no further page. */
const OTHER = /prev|request|access|csrf|current|self|first|last|type|expire/i;

/** Names, without case and signs, by which a response says that there is more. */
const NEXT_NAMES =
  /^(next|(next|continuation|scroll)(link|page|pageurl|pagelink|url|uri|href|cursor|token|pagetoken|pagecursor|id)|odatanextlink|scrollid|endcursor)$/;
const MORE_NAMES = /^(hasmore|hasnext|hasnextpage|more|moreresults|hasmoreresults|moreavailable)$/;
const TOTAL_NAMES =
  /^(total|totalcount|totalrecords|totalresults|totalitems|totalelements|totalrows|totalhits|odatacount|numfound)$/;
const PAGES_NAMES = /^(totalpages|pagecount|numpages|numberofpages|pagestotal|lastpage)$/;
const TOTAL_HEADERS = /^x-(total|total-count|pagination-total|wp-total)$/;
const PAGES_HEADERS = /^x-(total-pages|page-count|pagination-total-pages)$/;

/** Envelopes are not deeper than this. */
const DEEPEST = 3;

export interface FirstPage {
  readonly page: PageRead;
  readonly body: unknown;
  readonly headers: HeaderValues;
  /** records that were asked for; undefined where nothing says how many a page holds */
  readonly size: number | undefined;
}

/**
 * Why a first page may not be the only one, though the connector takes it so: it knows of no pages and the response
 * does, or a place that `pages` names is absent while the page is full or the response has something that may be meant.
 * An API that leaves the value out on its last page seldom has any of that there.
 */
export function missingPlace(
  pages: PagesDefinition | undefined,
  first: FirstPage,
  /** the records are in a list of the response, and what is around them is not theirs */
  inList: boolean,
): string | undefined {
  if (first.page.received === 0) return undefined;
  return pages === undefined ? unknownPages(first, inList) : absentPlace(pages, first);
}

function absentPlace(
  pages: PagesDefinition,
  { page: { envelope, received }, body, headers, size = Number.POSITIVE_INFINITY }: FirstPage,
): string | undefined {
  // the API has said in another way that this is the end
  const total = wholeNumber(envelope.total);
  if (
    envelope.more !== undefined ||
    envelope.last !== undefined ||
    (total !== undefined && received >= total)
  )
    return undefined;
  for (const name of ["token", "link", "more"] as const) {
    const place = pages[name];
    if (place === undefined || place === "header" || envelope[name] !== undefined) continue;
    const like = ENDING[name];
    const meant =
      typeof place === "string"
        ? [...fieldsOf(body)]
            .filter(([key, value]) => like.test(key) && holds(value))
            .map(([, , path]) => path)
        : Object.keys(headers).filter((header) => like.test(header) && headers[header] !== "");
    const found = meant.filter((path) => !OTHER.test(path));
    if (found.length === 0 && received < size) continue;
    const seen =
      found.length > 0
        ? `The response has ${found.slice(0, 3).join(", ")}.`
        : "The page is full: another size under pages.size would show whether there is more.";
    return `Nothing is at pages.${name}: ${placeText(place)}, so this page is taken as the only one. ${seen}`;
  }
  return undefined;
}

/** What a response tells of further pages to a connector that knows of none. */
function unknownPages(first: FirstPage, inList: boolean): string | undefined {
  const said = headerSays(first) ?? (inList ? bodySays(first) : undefined);
  return (
    said &&
    `The response says that there is more than its ${first.page.received} records (${said}), and the stream has no pages: write how to get the next one.`
  );
}

function headerSays({ page: { received }, headers }: FirstPage): string | undefined {
  if (headers.link !== undefined && nextOf(headers.link)) return 'Link: …; rel="next"';
  for (const [name, text] of Object.entries(headers)) {
    const count = wholeNumber(text);
    if (count === undefined) continue;
    if ((TOTAL_HEADERS.test(name) && count > received) || (PAGES_HEADERS.test(name) && count > 1))
      return `${name}: ${count}`;
  }
  return undefined;
}

function nextOf(header: string): boolean {
  try {
    return nextInHeader(header) !== undefined;
  } catch {
    return false;
  }
}

function bodySays({ page: { received }, body }: FirstPage): string | undefined {
  for (const [key, value, path] of fieldsOf(body)) {
    const name = key.toLowerCase().replaceAll(/[^a-z]/g, "");
    const count = wholeNumber(value);
    const tells =
      (NEXT_NAMES.test(name) && holds(value) && value !== true) ||
      (MORE_NAMES.test(name) && value === true) ||
      (TOTAL_NAMES.test(name) && count !== undefined && count > received) ||
      (PAGES_NAMES.test(name) && count !== undefined && count > 1);
    if (tells) return `${path}: ${String(value).slice(0, 60)}`;
  }
  return undefined;
}

function holds(value: unknown): boolean {
  return typeof value === "number" || value === true || (typeof value === "string" && value !== "");
}

/** The fields of an envelope, with their paths; lists are not looked into. */
function* fieldsOf(body: unknown, path = "$", depth = DEEPEST): Generator<[string, unknown, string]> {
  if (!isPlainObject(body)) return;
  for (const [name, value] of Object.entries(body)) {
    yield [name, value, `${path}.${name}`];
    if (depth > 1) yield* fieldsOf(value, `${path}.${name}`, depth - 1);
  }
}
