/** Watches the pages of one pass for an API that goes round in a circle, or moves under our feet. Pure state. */

import { BridgeError, type Where } from "../errors.js";
import { wholeRecord } from "../express/byte-records.js";
import { stringifyExact } from "../shape/exact-json.js";
import { getByPath } from "../shape/path-get.js";
import { KeyDigests } from "./key-digests.js";
import type { NextPage, PagePosition } from "./page-position.js";
import { wholeNumber } from "./page-rule.js";
import type { PageRead } from "./read-page.js";

export interface PageFindings {
  /** the page brings nothing new, and the one before it was the last: it is not to be taken */
  readonly repeats: boolean;
  /** where pages overlap: how far records that came in since the page before have moved the others */
  readonly shift: number;
  /** it holds no record that the pages before it did not hold */
  readonly stale: boolean;
  readonly notice: string | undefined;
  /** what tells each record from others, and those of the pages just before it, in their order */
  readonly ids: readonly string[];
  readonly before: readonly (readonly string[])[];
  /** some page of the pass was asked for further back */
  readonly wentBack: boolean;
}

export interface WatchRule {
  readonly key: readonly (readonly string[])[];
  readonly pastEnd: "empty" | "repeats";
  /** records by which pages overlap, so that those which move between them are found; 0: they do not */
  readonly overlap: number;
  /** the parameter that the API should heed */
  readonly query: string | undefined;
}

/** Pages that overlap and are the same, one after the other: as many mean that the API stands still. */
const MOST_SAME = 3;
/** Pages that overlap and differ, but bring nothing new: as many mean that records move faster than they are read. */
const MOST_KNOWN = 10;
/** Pages by offset may have to begin anew where records move; not without end. */
const MOST_REWINDS = 3;
/** Where records move, a page is compared with so many before it. */
const PAGES_KEPT = 4;
/** Empty pages are usual where an API filters what it has paged, but not without end. */
const MOST_EMPTY = 1000;
const NOTHING = { repeats: false, notice: undefined as string | undefined };

export class PageWatch {
  /** where pages began, as digests: there may be many */
  private readonly tokens = new KeyDigests();
  private previous: Pick<PageRead, "records" | "source"> = { records: [] };
  /** what tells these records from others; made once for a page, where it is wanted at all */
  private identified: { readonly records: readonly unknown[]; readonly ids: readonly string[] } | undefined;
  /** the offset behind the page before */
  private end = 0;
  /** what tells the records of the last pages from others */
  private recent: readonly (readonly string[])[] = [];
  private known: readonly ReadonlySet<string>[] = [];
  private total: number | undefined;
  /** false: the total has turned out to count something else */
  totalHolds = true;
  private pages = 0;
  /** pages in a row that are the same, and that bring nothing new */
  private same = 0;
  private stale = 0;
  /** a page did not join the one before it, and this one was asked for further back */
  private soughtBack = false;
  private rewinds = 0;
  private wentBack = false;
  private empty = 0;
  /** the API's total changed while its pages were read: records may have moved between them */
  moved = false;

  constructor(private readonly rule: WatchRule) {}

  /**
   * `onlyALook`: a total says that the page before was the last; a page with nothing new says the same.
   * @throws BridgeError PAGE_REPEATED
   */
  look(position: PagePosition, page: PageRead, where: Where, onlyALook = false): PageFindings {
    this.pages++;
    this.empty = page.received === 0 ? this.empty + 1 : 0;
    if (this.empty > MOST_EMPTY) {
      const message = `${this.empty} pages in a row are empty, and the API says that there are more.`;
      throw new BridgeError("PAGE_REPEATED", message, { where });
    }
    const same = this.isSame(page);
    this.same = same && !this.soughtBack ? this.same + 1 : 0;
    const repeated = this.recordsMove() ? this.allKnown(page.records) : same;
    this.stale = repeated ? this.stale + 1 : 0;
    const found = !repeated
      ? NOTHING
      : onlyALook
        ? { ...NOTHING, repeats: true }
        : this.onRepeated(position, page, where);
    // a page behind the end that a total has told shows that it counts something else
    if (onlyALook && !repeated && page.received > 0) this.totalHolds = false;
    const ids = this.keysOf(page.records);
    const { wentBack } = this;
    const before = this.recent;
    const shift = this.shiftOf(position, page);
    const findings = { ...found, shift, stale: repeated, ids, before, wentBack };
    this.soughtBack = false;
    this.previous = { records: page.records, source: this.bytesOf(page) };
    this.end = position.at === "offset" ? position.offset + page.received : 0;
    this.recent = [...this.recent, ids].slice(-PAGES_KEPT);
    if (this.recordsMove()) this.known = [...this.known, new Set(ids)].slice(-PAGES_KEPT);
    return findings.notice === undefined ? { ...findings, notice: this.totalChanged(page) } : findings;
  }

  /** Forgets the page that was looked at last, and found to be one too many: it is asked for once more. */
  lookAgain(): void {
    this.pages--;
    this.empty = Math.max(0, this.empty - 1);
    this.same = Math.max(0, this.same - 1);
    this.stale = Math.max(0, this.stale - 1);
  }

  /** What tells each record from others; none where nothing needs to know. */
  keysOf(records: readonly unknown[]): readonly string[] {
    return this.rule.key.length > 0 || this.recordsMove() ? this.idsOf(records) : [];
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
      const seen = this.tokens.add(token, 1);
      if (each === next && seen === "again") {
        const shown = token.length > 60 ? `${token.slice(0, 59)}…` : token;
        const message = `The page leads to ${shown} again: the pages go round in a circle.`;
        throw new BridgeError("PAGE_REPEATED", message, { where });
      }
    }
  }

  /**
   * Whether a page that was asked for with an overlap goes on where the one before it ended: one of the records at
   * that end is in it, or nothing but known records are, before which others have come in.
   */
  joins(records: readonly unknown[]): boolean {
    // pages of one record cannot overlap
    const before = this.previous.records;
    if (before.length <= 1) return true;
    // an empty page shows no record that is in both: the list has become shorter meanwhile
    const tail = new Set(before.slice(-this.rule.overlap).map(this.identity));
    const joins = this.idsOf(records).some((id) => tail.has(id)) || this.allKnown(records);
    this.soughtBack ||= !joins;
    this.wentBack ||= !joins;
    return joins;
  }

  /** Notes that not even the first page joins the one before it. @throws BridgeError PAGE_REPEATED at last */
  rewind(where: Where): void {
    if (++this.rewinds > MOST_REWINDS) throw movesTooFast(where);
  }

  /** Whether the rule says that a page may hold records of those before it. */
  private recordsMove(): boolean {
    return this.rule.overlap > 0 || this.rule.pastEnd === "repeats";
  }

  /** Where a page's records are in its bytes, if only they tell them apart; its rows are not to stay for that. */
  private bytesOf({ source }: PageRead): PageRead["source"] {
    return source === undefined || this.rule.key.length > 0 ? undefined : { ...source, scan: undefined };
  }

  private isSame(page: Pick<PageRead, "records" | "source">): boolean {
    const { length } = page.records;
    if (this.pages < 2 || length === 0 || length !== this.previous.records.length) return false;
    const same = (i: number) => this.identityIn(page, i) === this.identityIn(this.previous, i);
    // the ends first: whole pages are compared only where these are alike
    return same(0) && same(length - 1) && page.records.every((_, i) => same(i));
  }

  /** What tells a record of a page from others; without a key that is all of it, which may be in the bytes alone. */
  private identityIn({ records, source }: Pick<PageRead, "records" | "source">, i: number): string {
    const isWhole = source === undefined || this.rule.key.length > 0;
    return this.identity(isWhole ? records[i] : wholeRecord(source, i));
  }

  private allKnown(records: readonly unknown[]): boolean {
    if (records.length === 0) return false;
    return this.idsOf(records).every((id) => this.known.some((page) => page.has(id)));
  }

  private idsOf(records: readonly unknown[]): readonly string[] {
    if (this.identified?.records !== records) this.identified = { records, ids: records.map(this.identity) };
    return this.identified.ids;
  }

  /** What tells a record from others: its key; all of it, where the key is made on our side only. */
  private readonly identity = (record: unknown): string => {
    if (this.rule.key.length === 1) {
      const value = getByPath(record, this.rule.key[0]!);
      if (typeof value === "string" || typeof value === "number") return String(value);
    }
    const values = this.rule.key.map((parts) => getByPath(record, parts) ?? null);
    return stringifyExact(values.every((value) => value === null) ? record : values);
  };

  private onRepeated(position: PagePosition, page: PageRead, where: Where): typeof NOTHING {
    const overlaps = this.rule.overlap > 0;
    // insertions may move a page by the step that was made; an API that does not heed the step goes on so
    if (overlaps && this.same < MOST_SAME) {
      if (this.stale > MOST_KNOWN) throw movesTooFast(where);
      return NOTHING;
    }
    const numbered = position.at === "number" || position.at === "offset";
    if (numbered && this.rule.pastEnd === "repeats") return { ...NOTHING, repeats: true };
    const keyed = this.rule.key.length > 0;
    const what = describePosition(position);
    // that pages differed before shows that the API heeds the parameter
    const pastEnd =
      keyed &&
      !overlaps &&
      (this.pages > 2 || (position.size !== undefined && page.received < position.size));
    if (numbered && pastEnd) {
      return {
        ...NOTHING,
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
        ? `Either the API does not heed ${parameter}, or it gives its last page again past the end: then write after_last_page: repeats under pages.`
        : `The API does not move on with ${parameter}: check pages.`,
    });
  }

  private shiftOf(position: PagePosition, page: PageRead): number {
    // a step further was just found to be too far
    if (this.rule.overlap === 0 || this.soughtBack) return 0;
    const before = this.previous.records;
    if (position.at !== "offset" || before.length === 0) return 0;
    const ids = this.idsOf(page.records);
    for (let back = 1; back <= Math.min(this.rule.overlap, before.length); back++) {
      const at = ids.indexOf(this.identity(before.at(-back)));
      if (at >= 0) return Math.max(0, position.offset + at - (this.end - back));
    }
    // known records without those of that end: it is further on, and how far is not known
    return page.received * this.stale;
  }

  private totalChanged(page: PageRead): string | undefined {
    const total = wholeNumber(page.envelope.total);
    const before = this.total;
    this.total = total ?? before;
    if (
      !this.totalHolds ||
      this.rule.overlap > 0 ||
      total === undefined ||
      before === undefined ||
      total === before
    )
      return undefined;
    const first = !this.moved;
    this.moved = true;
    return first
      ? `The API's total changed from ${before} to ${total} while its pages were read: records may have moved between pages.`
      : undefined;
  }
}

function movesTooFast(where: Where): BridgeError {
  return new BridgeError("PAGE_REPEATED", "Records move faster than pages by offset can be read.", {
    where,
    hint: "Ask by token, after a key or in windows of time, if the API can; or raise size and overlap under pages.",
  });
}

function describePosition(position: PagePosition): string {
  if (position.at === "number") return `Page ${position.number}`;
  return position.at === "offset" ? `The page at offset ${position.offset}` : "The page";
}
