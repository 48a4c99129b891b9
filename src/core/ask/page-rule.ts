/**
 * Page rules: from a page's position and what it said to the next page's position, or to the end. Pure.
 *
 *   first() ─▶ position ─▶ request ─▶ page ─▶ next(position, page, progress) ─▶ position … ─▶ end
 *
 * A position is plain JSON: it is kept in the ledger, so that a broken-off pass goes on there.
 */

import Link from "http-link-header";
import type { PagesDefinition, Place } from "../define/ask-schema.js";
import { positionName } from "../define/position-name.js";
import { aTypeName, BridgeError, type Where } from "../errors.js";
import { compileJsonPath } from "../language/json-path.js";
import type { Scalar, TemplateValues } from "../language/template.js";
import { ExactNumber } from "../shape/exact-json.js";
import { parsePath } from "../shape/naming.js";
import { getByPath } from "../shape/path-get.js";
import type { NextPage, PagePosition } from "./page-position.js";
import type { EnvelopeName, EnvelopePlace, PageRead } from "./read-page.js";
import type { Parameters } from "./request-plan.js";

/** What has been read of the stream before, and of this page. */
export interface Progress {
  /** pages read, this one counted */
  readonly pages: number;
  /** records received, this page's counted */
  readonly records: number;
  /** where pages overlap: how far records that came in since the page before have moved the others */
  readonly shift: number;
  /** this page holds no record that the pages before it did not hold */
  readonly stale: boolean;
  /** records of the first page: as many make a page full where no size is asked for */
  readonly fullPage: number;
  /** false: the total has turned out to count something else */
  readonly totalHolds: boolean;
}

export interface PageRule {
  readonly definition: PagesDefinition | undefined;
  readonly envelope: Readonly<Partial<Record<EnvelopeName, EnvelopePlace>>>;
  /** the names that templates may use for the position */
  readonly names: readonly string[];
  first(): PagePosition;
  /** a page's total counts what is left from it on: the first one's counts all */
  readonly countsRest?: boolean | undefined;
  /** values for templates, and parameters of the query */
  values(position: PagePosition): TemplateValues;
  parameters(position: PagePosition): Parameters;
  /** @throws BridgeError TOKEN_NOT_TEXT */
  next(position: PagePosition, page: PageRead, progress: Progress, where?: Where): NextPage;
  /** the same place with a smaller page, where the API refused the size; undefined when none is left */
  smaller(position: PagePosition): PagePosition | undefined;
  /** positions that are known to follow, where numbers or offsets and a total make that safe */
  ahead(position: PagePosition, page: PageRead): readonly PagePosition[];
}

const NO_PAGES: PageRule = {
  definition: undefined,
  envelope: {},
  names: [],
  first: () => ({ at: "start" }),
  values: () => ({}),
  parameters: () => ({}),
  next: () => ({ at: "end" }),
  smaller: () => undefined,
  ahead: () => [],
};

export function compilePages(pages: PagesDefinition | undefined): PageRule {
  if (pages === undefined) return NO_PAGES;
  const { number, offset, size, query } = pages;
  const name = positionName(pages);
  return {
    definition: pages,
    envelope: envelopeOf(pages),
    names: [...(name === undefined ? [] : [name]), ...(size === undefined ? [] : ["size"])],
    first() {
      const common = size === undefined ? {} : { size: size.records };
      if (number !== undefined) return { at: "number", number, ...common };
      if (offset !== undefined) return { at: "offset", offset, ...common };
      return { at: "start", ...common };
    },
    values: (position) => ({
      ...(name === undefined ? {} : { [name]: positionValue(position) }),
      size: position.size,
    }),
    parameters: (position) => ({
      ...(size?.query === undefined ? {} : { [size.query]: position.size }),
      ...(query === undefined ? {} : { [query]: positionValue(position) }),
    }),
    next: (position, page, progress, where) => nextPage(pages, position, page, progress, where),
    smaller: (position) => smallerPage(pages, position),
    ahead: (position, page) => pagesAhead(pages, position, page),
  };
}

function envelopeOf(pages: PagesDefinition): PageRule["envelope"] {
  const compiled: Partial<Record<EnvelopeName, EnvelopePlace>> = {};
  const places = {
    token: pages.token,
    link: pages.link === "header" ? { header: "link" } : pages.link,
    more: pages.more,
    last: pages.last,
    total: pages.total,
    totalPages: pages.total_pages,
  };
  for (const [name, place] of Object.entries(places) as [EnvelopeName, Place | undefined][]) {
    if (place === undefined) continue;
    compiled[name] =
      typeof place === "string" ? compileJsonPath(place) : { header: place.header.toLowerCase() };
  }
  return compiled;
}

function positionValue(position: PagePosition): Scalar | undefined {
  switch (position.at) {
    case "token":
      return position.token;
    case "number":
      return position.number;
    case "offset":
      return position.offset;
    case "after":
      return position.after;
    default:
      return undefined;
  }
}

function nextPage(
  pages: PagesDefinition,
  position: PagePosition,
  page: PageRead,
  progress: Progress,
  where: Where = {},
): NextPage {
  const following = followingPosition(pages, position, page, progress, where);
  if (following === undefined || apiSaysEnd(pages, position, page, progress)) return { at: "end" };
  if (isAllIn(pages, position, page, progress)) {
    // a total that has been reached may be wrong
    const isFull = page.received > 0 && page.received >= (position.size ?? progress.fullPage);
    return isFull && page.envelope.total !== undefined ? { at: "end", unless: following } : { at: "end" };
  }
  const cut = pages.max_pages !== undefined && progress.pages >= pages.max_pages;
  return cut ? { at: "end", cut: true } : following;
}

/** The position behind this page, if the API gives or permits one. */
function followingPosition(
  pages: PagesDefinition,
  position: PagePosition,
  page: PageRead,
  { shift }: Progress,
  where: Where,
): PagePosition | undefined {
  const size = position.size === undefined ? {} : { size: position.size };
  if (pages.token !== undefined) {
    const token = tokenText(page.envelope.token, pages.token, where);
    return token === undefined ? undefined : { at: "token", token, ...size };
  }
  if (pages.link !== undefined) {
    const link = nextLink(page.envelope.link, pages.link, where);
    return link === undefined ? undefined : { at: "link", link };
  }
  if (position.at === "number") return { at: "number", number: position.number + 1, ...size };
  if (position.at === "offset") {
    return { at: "offset", offset: position.offset + offsetStep(pages, page.received, shift), ...size };
  }
  const last = page.records[page.records.length - 1];
  if (page.received === 0) return undefined;
  const after = tokenText(getByPath(last, parsePath(pages.after!)!), `pages.after ${pages.after}`, where);
  if (after === undefined)
    throw new BridgeError(
      "TOKEN_NOT_TEXT",
      `The page's last record has nothing at pages.after ${pages.after}.`,
      { where, hint: "Correct pages.after: it names the field by which the API goes on." },
    );
  return { at: "after", after, ...size };
}

/**
 * A list that grows about as fast as its pages are read is caught up with by stepping as much further. If that was
 * too far, the page does not join the one before it, and is asked for again further back.
 */
function offsetStep({ overlap = 0 }: PagesDefinition, received: number, shift: number): number {
  // pages that are shorter than was said overlap by half at most
  const step = Math.max(1, received - overlap, Math.floor(received / 2));
  return 2 * shift < step ? step : step + shift;
}

/** Whether one of the stop rules says that this page is the last. */
function apiSaysEnd(
  pages: PagesDefinition,
  position: PagePosition,
  page: PageRead,
  progress: Progress,
): boolean {
  const { more, last } = page.envelope;
  if (pages.last !== undefined && isTrue(last)) return true;
  if (pages.more !== undefined && !isTrue(more)) return true;
  // an API that gives tokens or addresses ends by giving none
  if (pages.token !== undefined || pages.link !== undefined) return false;
  // a flag alone decides over empty pages; with a total beside it, an empty one is the end
  if (pages.more !== undefined && pages.total === undefined && pages.total_pages === undefined) return false;
  // with an overlap, there may be nothing but the records that were asked for again
  if (page.received === 0 || (progress.stale && page.received <= (pages.overlap ?? 0))) return true;
  return pages.end === "short" && position.size !== undefined && page.received < position.size;
}

/** Whether as many records or pages are in as the API says there are. */
function isAllIn(
  pages: PagesDefinition,
  position: PagePosition,
  page: PageRead,
  progress: Progress,
): boolean {
  if (pages.token !== undefined || pages.link !== undefined) return false;
  const total = progress.totalHolds ? wholeNumber(page.envelope.total) : undefined;
  const reached =
    position.at === "offset" ? position.offset - pages.offset! + page.received : progress.records;
  if (total !== undefined && reached >= total) return true;
  const totalPages = wholeNumber(page.envelope.totalPages);
  if (totalPages === undefined || position.at !== "number") return false;
  return position.number - pages.number! + 1 >= totalPages;
}

function isTrue(flag: unknown): boolean {
  if (typeof flag === "string") return /^(true|yes|y|1)$/i.test(flag.trim());
  return flag === true || flag === 1;
}

export function wholeNumber(value: unknown): number | undefined {
  if (typeof value === "number") return Number.isSafeInteger(value) && value >= 0 ? value : undefined;
  return typeof value === "string" && /^\s*\d{1,15}\s*$/.test(value) ? Number(value) : undefined;
}

function tokenText(value: unknown, place: unknown, where: Where): string | undefined {
  if (value === undefined || value === null || value === "" || value === false) return undefined;
  if (typeof value === "string") return value;
  if (typeof value === "number" || typeof value === "bigint") return String(value);
  if (value instanceof ExactNumber) return value.text;
  const at =
    typeof place === "object" && place !== null
      ? `header ${(place as { header: string }).header}`
      : String(place);
  throw new BridgeError("TOKEN_NOT_TEXT", `The next page's token at ${at} is ${aTypeName(value)}.`, {
    where,
  });
}

/** An address from the body, or the one with rel="next" of a Link header (RFC 8288, section 3). */
function nextLink(value: unknown, place: unknown, where: Where): string | undefined {
  const text = tokenText(value, place, where);
  if (text === undefined || !/^\s*</.test(text)) return text;
  return nextInHeader(text);
}

/** The address with rel="next" of a Link header; throws where the header cannot be read. */
export function nextInHeader(text: string): string | undefined {
  return Link.parse(text).rel("next")[0]?.uri;
}

function smallerPage(pages: PagesDefinition, position: PagePosition): PagePosition | undefined {
  const now = position.size;
  // the second page of another size begins elsewhere: numbers can only shrink at their first page
  const movable = position.at !== "number" || position.number === pages.number;
  if (now === undefined || !movable) return undefined;
  const size = pages.size?.smaller.find((each) => each < now);
  return size === undefined ? undefined : { ...position, size };
}

/** What follows a first page that is looked at alone, for a sample or a draft. @throws BridgeError TOKEN_NOT_TEXT */
export function nextAfterFirst(rule: PageRule, page: PageRead): NextPage {
  const { received } = page;
  const progress = {
    pages: 1,
    records: received,
    shift: 0,
    stale: false,
    fullPage: received,
    totalHolds: true,
  };
  return rule.next(rule.first(), page, progress);
}

/**
 * Where the middle and the last page begin, by what the first one says of all; undefined where it says nothing of them,
 * or is all. What lies between may move: it is good for a sample, and not for a run.
 */
export function placesBehind(
  first: PagePosition,
  page: PageRead,
): { readonly middle: PagePosition; readonly last: PagePosition } | undefined {
  const total = wholeNumber(page.envelope.total);
  const size = page.received;
  if (size === 0) return undefined;
  if (first.at === "number") {
    const pages =
      wholeNumber(page.envelope.totalPages) ?? (total === undefined ? 1 : Math.ceil(total / size));
    if (pages <= 1) return undefined;
    const at = (behind: number) => ({ ...first, number: first.number + behind });
    return { middle: at(Math.floor((pages - 1) / 2)), last: at(pages - 1) };
  }
  if (first.at !== "offset" || total === undefined || total <= size) return undefined;
  const at = (offset: number) => ({ ...first, offset: first.offset + offset });
  return { middle: at(Math.floor((total - size) / 2)), last: at(total - size) };
}

function pagesAhead(pages: PagesDefinition, position: PagePosition, page: PageRead): PagePosition[] {
  if (pages.overlap !== undefined || pages.more !== undefined || pages.last !== undefined) return [];
  const total = wholeNumber(page.envelope.total);
  const size = page.received;
  const allPages =
    wholeNumber(page.envelope.totalPages) ??
    (total === undefined || size === 0 ? 0 : Math.ceil(total / size));
  const most = Math.min(allPages, pages.max_pages ?? allPages);
  const common = position.size === undefined ? {} : { size: position.size };
  if (position.at === "number" && position.number === pages.number) {
    return Array.from({ length: Math.max(0, most - 1) }, (_, i) => ({
      at: "number",
      number: pages.number! + 1 + i,
      ...common,
    }));
  }
  if (position.at === "offset" && position.offset === pages.offset && total !== undefined) {
    return Array.from({ length: Math.max(0, most - 1) }, (_, i) => ({
      at: "offset",
      offset: pages.offset! + (i + 1) * size,
      ...common,
    }));
  }
  return [];
}
