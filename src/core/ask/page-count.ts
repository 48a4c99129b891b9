/** How many pages a series would have, by its rule and what the first page says of all. */

import type { PagePosition } from "./page-position.js";
import { type PageRule, wholeNumber } from "./page-rule.js";
import type { PageRead } from "./read-page.js";

/** So many pages are gone through one by one; beyond them, the last steps no longer matter. */
const MOST_STEPS = 5000;

/**
 * The pages from the first one to the end, that one counted, a look behind the end included. Undefined where the first
 * page neither ends the series nor tells how many records or pages there are.
 */
export function countPages(rule: PageRule, first: PagePosition, page: PageRead): number | undefined {
  const { received } = page;
  const totalPages = wholeNumber(page.envelope.totalPages);
  const total =
    wholeNumber(page.envelope.total) ?? (totalPages === undefined ? undefined : totalPages * received);
  if (total === undefined || received === 0) return undefined;
  if (first.at === "number" || first.at === "offset") return stepped(rule, first, page, total);
  const full = Math.ceil(total / received);
  // the page behind a last one that is full is empty, where the API names no token or link
  const looks = rule.definition?.after !== undefined && total % received === 0 ? 1 : 0;
  return Math.max(1, full) + looks;
}

/** By the rule itself, over pages as full as the first one was. */
function stepped(rule: PageRule, first: PagePosition, page: PageRead, total: number): number {
  const size = page.received;
  const begin = first.at === "offset" ? first.offset : 0;
  let position = first;
  let records = 0;
  for (let pages = 1; ; pages++) {
    const from = position.at === "offset" ? position.offset - begin : (pages - 1) * size;
    const received = Math.max(0, Math.min(size, total - from));
    records += received;
    const envelope = { ...page.envelope, ...flags(rule, from + received >= total) };
    const progress = { pages, records, shift: 0, stale: received === 0, fullPage: size, totalHolds: true };
    const next = rule.next(position, { ...page, received, envelope, records: page.records }, progress);
    if (next.at === "end") return next.unless === undefined ? pages : pages + 1;
    if (pages >= MOST_STEPS) return Math.ceil(total / (records / pages));
    position = next;
  }
}

function flags({ definition }: PageRule, isLast: boolean): PageRead["envelope"] {
  return {
    ...(definition?.more === undefined ? {} : { more: !isLast }),
    ...(definition?.last === undefined ? {} : { last: isLast }),
  };
}
