/** Finds a slip of the pen that would end a stream early and silently: a place where the API says nothing. Pure. */

import type { PagesDefinition } from "../define/ask-schema.js";
import type { HeaderValues } from "../pace/limit-headers.js";
import { isPlainObject } from "../shape/walk.js";
import { placeText } from "./describe-stream.js";
import { wholeNumber } from "./page-rule.js";
import type { PageRead } from "./read-page.js";

/** Without these the first page is the only one; what the API may call them. */
const ENDING = {
  token: /next|cursor|token|continu/i,
  link: /next/i,
  more: /more|next/i,
} as const;

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
 * What to tell of a first page: a place that `pages` names is absent, and either the page is full or the answer has
 * something that may be meant. An API that leaves the value out on its last page seldom has any of that there.
 */
export function missingPlace(
  pages: PagesDefinition | undefined,
  { page: { envelope, received }, body, headers, size = Number.POSITIVE_INFINITY }: FirstPage,
): string | undefined {
  if (pages === undefined || received === 0) return undefined;
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
        ? [...fieldsLike(body, like, "$", DEEPEST)]
        : Object.keys(headers).filter((header) => like.test(header) && headers[header] !== "");
    if (meant.length === 0 && received < size) continue;
    const seen = meant.length > 0 ? `The answer has ${meant.slice(0, 3).join(", ")}.` : "The page is full.";
    return `Nothing is at pages.${name}: ${placeText(place)}, so this page is taken as the only one, and moves no cursor. ${seen}`;
  }
  return undefined;
}

/** Paths of fields with such a name that hold a text, a number or true; lists are not looked into. */
function* fieldsLike(value: unknown, like: RegExp, path: string, depth: number): Generator<string> {
  if (!isPlainObject(value)) return;
  for (const [name, field] of Object.entries(value)) {
    const holds = typeof field === "number" || field === true || (typeof field === "string" && field !== "");
    if (holds && like.test(name)) yield `${path}.${name}`;
    else if (depth > 1) yield* fieldsLike(field, like, `${path}.${name}`, depth - 1);
  }
}
