/** Watches the pages of one pass for an API that goes round in a circle, or moves under our feet. Pure state. */

import { BridgeError, type Where } from "../errors.js";
import { stringifyExact } from "../shape/exact-json.js";
import { getByPath } from "../shape/path-get.js";
import type { NextPage, PagePosition } from "./page-position.js";
import { wholeNumber } from "./page-rule.js";
import type { PageRead } from "./read-page.js";

export interface Sighting {
  /** the page repeats the one before it, which was the last: it is not to be taken */
  readonly repeats: boolean;
  readonly notice: string | undefined;
}

export interface WatchRule {
  readonly key: readonly (readonly string[])[];
  readonly pastEnd: "empty" | "repeats";
  /** pages overlap, so that records which move between them are found */
  readonly overlaps: boolean;
  /** the parameter that the API should heed */
  readonly query: string | undefined;
}

/** Pages that overlap and hold the same, one after the other: as many mean that the API stands still. */
const MOST_IN_A_ROW = 3;
/** Empty pages are usual where an API filters what it has paged, but not without end. */
const MOST_EMPTY = 1000;
const NOTHING: Sighting = { repeats: false, notice: undefined };

export class PageWatch {
  private readonly tokens = new Set<string>();
  private previous: readonly unknown[] = [];
  private total: number | undefined;
  private pages = 0;
  private inARow = 0;
  private empty = 0;
  /** the API's total changed while its pages were read: records may have moved between them */
  moved = false;

  constructor(private readonly rule: WatchRule) {}

  /** @throws BridgeError PAGE_REPEATED */
  look(position: PagePosition, page: PageRead, where: Where): Sighting {
    this.pages++;
    this.empty = page.received === 0 ? this.empty + 1 : 0;
    if (this.empty > MOST_EMPTY) {
      const message = `${this.empty} pages in a row are empty, and the API says that there are more.`;
      throw new BridgeError("PAGE_REPEATED", message, { where });
    }
    const repeated = this.repeats(page);
    this.inARow = repeated ? this.inARow + 1 : 0;
    const sighting = repeated ? this.onRepeated(position, page, where) : NOTHING;
    this.previous = page.records;
    return sighting.notice === undefined ? { ...sighting, notice: this.totalChanged(page) } : sighting;
  }

  /** Notes where the pages go on. @throws BridgeError PAGE_REPEATED where they were before */
  follow(position: PagePosition, next: NextPage, where: Where): void {
    for (const each of [position, next]) {
      const token =
        each.at === "token"
          ? each.token
          : each.at === "link"
            ? each.link
            : each.at === "after"
              ? each.after
              : undefined;
      if (token === undefined) continue;
      if (each === next && this.tokens.has(token)) {
        const shown = token.length > 60 ? `${token.slice(0, 59)}…` : token;
        const message = `The page leads to ${shown} again: the pages go round in a circle.`;
        throw new BridgeError("PAGE_REPEATED", message, { where });
      }
      this.tokens.add(token);
    }
  }

  private repeats({ records }: PageRead): boolean {
    const before = this.previous;
    if (this.pages < 2 || records.length === 0 || records.length !== before.length) return false;
    const same = (i: number) =>
      stringifyExact(this.identity(records[i])) === stringifyExact(this.identity(before[i]));
    // the ends first: whole pages are compared only where these are alike
    return same(0) && same(records.length - 1) && records.every((_, i) => same(i));
  }

  private identity(record: unknown): unknown {
    return identityOf(record, this.rule.key);
  }

  private onRepeated(position: PagePosition, page: PageRead, where: Where): Sighting {
    // insertions may move a page by just the step that was made; an API that does not heed the step goes on so
    if (this.rule.overlaps && this.inARow < MOST_IN_A_ROW) return NOTHING;
    const numbered = position.at === "number" || position.at === "offset";
    if (numbered && this.rule.pastEnd === "repeats") return { repeats: true, notice: undefined };
    const keyed = this.rule.key.length > 0;
    const what = describePosition(position);
    // that pages differed before shows that the API heeds the parameter
    const pastEnd =
      keyed &&
      !this.rule.overlaps &&
      (this.pages > 2 || (position.size !== undefined && page.received < position.size));
    if (numbered && pastEnd) {
      return {
        repeats: true,
        notice: `${what} repeats the one before it: taken as past the end.`,
      };
    }
    // records without a key may well be alike; the API itself ends pages by token and address
    if (!numbered && !keyed && position.at !== "after") return NOTHING;
    const parameter =
      this.rule.query === undefined ? "the position it is given" : `its parameter ${this.rule.query}`;
    throw new BridgeError("PAGE_REPEATED", `${what} holds the same records as the one before it.`, {
      where,
      hint: numbered
        ? `Either the API does not heed ${parameter}, or it gives its last page again past the end: then write past_end: repeats under pages.`
        : `The API does not move on with ${parameter}: check pages.`,
    });
  }

  private totalChanged(page: PageRead): string | undefined {
    const total = wholeNumber(page.envelope.total);
    const before = this.total;
    this.total = total ?? before;
    if (this.rule.overlaps || total === undefined || before === undefined || total === before)
      return undefined;
    const first = !this.moved;
    this.moved = true;
    return first
      ? `The API's total changed from ${before} to ${total} while its pages were read: records may have moved between pages.`
      : undefined;
  }
}

function describePosition(position: PagePosition): string {
  if (position.at === "number") return `Page ${position.number}`;
  return position.at === "offset" ? `The page at offset ${position.offset}` : "The page";
}

/**
 * Whether a page that was asked for with an overlap joins the one before it: one of the overlapping records is
 * in both. Where none is, records have moved by more than the overlap.
 */
export function joinsBefore(
  before: readonly unknown[],
  page: readonly unknown[],
  overlap: number,
  key: readonly (readonly string[])[],
): boolean {
  // an empty page shows no record that is in both: the list has become shorter meanwhile
  if (before.length === 0) return true;
  const identity = (record: unknown) => stringifyExact(identityOf(record, key));
  const tail = new Set(before.slice(-overlap).map(identity));
  return page.some((record) => tail.has(identity(record)));
}

/** What tells a record from others: its key; all of it, where the key is made on our side only. */
function identityOf(record: unknown, key: readonly (readonly string[])[]): unknown {
  const values = key.map((parts) => getByPath(record, parts) ?? null);
  return values.every((value) => value === null) ? record : values;
}
