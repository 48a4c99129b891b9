/**
 * The pages of one series of requests, in order: the next one is under way while the last one is worked on, and
 * several are where the page rule knows where they begin.
 */

import type { NextPage, PagePosition, Sequel } from "../../core/ask/page-position.js";
import { type Progress, wholeNumber } from "../../core/ask/page-rule.js";
import { type PageFindings, PageWatch } from "../../core/ask/page-watch.js";
import type { Part } from "../../core/ask/parts.js";
import { PassCount } from "../../core/ask/pass-count.js";
import type { PageRead } from "../../core/ask/read-page.js";
import type { Parameters } from "../../core/ask/request-plan.js";
import type { StreamCode } from "../../core/define/connector-schema.js";
import {
  aTypeName,
  BridgeError,
  callOwn,
  type ErrorCode,
  isBridgeError,
  type Where,
} from "../../core/errors.js";
import type { TemplateValues } from "../../core/language/template.js";
import type { CompiledRequest } from "../../core/stream/compile-stream.js";
import { missingPlace } from "../../core/stream/missing-place.js";
import type { CursorSpan } from "../../core/track/cursor.js";
import type { CursorField } from "../../core/track/cursor-field.js";
import type { AskedPage, Asker } from "./asker.js";

/** Pages asked for ahead of the one that is worked on, at most: each of them is held in memory. */
const MOST_AHEAD = 4;

export interface SeriesOptions {
  readonly part: Part;
  readonly values: TemplateValues;
  readonly parameters?: Parameters | undefined;
  /** where to begin; default: at the first page */
  readonly position?: PagePosition | undefined;
  readonly key?: readonly (readonly string[])[] | undefined;
  /** counts what comes; default: nobody asks whether the pass is whole */
  readonly count?: PassCount | undefined;
  /** the cursor's field, where it has one */
  readonly field?: CursorField | undefined;
  /** whether a record that has come already may come again because it has changed */
  readonly mayComeAgain?: ((record: unknown) => boolean) | undefined;
  /** in smaller pages than usual, where the connector names some */
  readonly smaller?: boolean | undefined;
  /** only the first page: nothing behind it is asked for */
  readonly alone?: boolean | undefined;
  /** a next-page rule in TypeScript */
  readonly next?: StreamCode["next"];
}

/** One page of a stream, or a piece of it; `number` counts from 1 in its part. */
export interface Page extends PageRead {
  readonly number: number;
  readonly part: Part;
  /** where the part goes on */
  readonly next: Sequel;
  /** records may have moved between the pages of this part */
  readonly moved: boolean;
  /** what all its records say of the cursor, left out or not; undefined where the cursor has no field */
  readonly span: CursorSpan | undefined;
}

/** @throws BridgeError PAGE_REPEATED, RESULTS_CUT, TOKEN_NOT_TEXT, and what a request throws */
export async function* pageSeries(
  asker: Asker,
  of: CompiledRequest,
  options: SeriesOptions,
): AsyncGenerator<Page> {
  const series = new Series(asker, of, options);
  try {
    yield* series.pages();
  } catch (error) {
    if (!isBridgeError(error, "RESPONSE_SKIPPED")) throw error;
    asker.notice(options.part.key === "" ? error.message : `${options.part.key}: ${error.message}`);
  } finally {
    series.close();
  }
}

class Series {
  private readonly watch: PageWatch;
  /** pages under way by position, oldest first */
  private readonly underWay = new Map<string, Promise<AskedPage>>();
  /** positions that are known to follow */
  private ahead: readonly PagePosition[] = [];
  private closed = false;
  private pageUrl: string | undefined;
  private records = 0;
  private fullPage = 0;
  /** the page under way is only a look whether a total that has been reached is true */
  private looking = false;
  private readonly count: PassCount;

  constructor(
    private readonly asker: Asker,
    private readonly of: CompiledRequest,
    private readonly options: SeriesOptions,
  ) {
    const definition = of.pages.definition;
    this.count = options.count ?? new PassCount([]);
    this.watch = new PageWatch({
      key: options.key ?? [],
      pastEnd: definition?.after_last_page ?? "empty",
      overlap: definition?.overlap ?? 0,
      query: definition?.query,
    });
  }

  close(): void {
    this.closed = true;
    this.underWay.clear();
  }

  async *pages(): AsyncGenerator<Page> {
    const { of, options } = this;
    let position: PagePosition = options.position ?? this.firstPosition();
    for (let number = 1; ; number++) {
      const where = this.asker.where(options.part, number);
      let arrived = await this.arrival(position, where);
      if (arrived === undefined) return;
      let isFirst = true;
      for await (const piece of this.asker.pieces(arrived, of, options.values, where)) {
        arrived = piece;
        if (piece.isLast) break;
        this.count.take(
          {
            ...NO_PAGES_BEFORE,
            records: piece.records,
            ids: this.watch.keysOf(piece.records),
            sameResponse: !isFirst,
          },
          where,
        );
        isFirst = false;
        yield this.given(piece, number, { at: "within" });
      }
      const taken = await this.lookAt(arrived, number, !isFirst, where);
      // what repeats the last page adds nothing: it was the last
      if (taken === undefined) return;
      const { page, next } = taken;
      this.pageUrl = page.response.url;
      if (next.at !== "end" && options.alone !== true) this.askAhead(page, next, number);
      yield this.given(page, number, next);
      if (options.alone === true) return;
      if (next.at === "end") {
        if (next.cut === true) throw resultsCut(of, where);
        return;
      }
      position = next;
    }
  }

  private given(page: AskedPage, number: number, next: Sequel): Page {
    const { part, field } = this.options;
    return { ...page, number, part, next, moved: this.watch.moved, span: field?.span(page.came) };
  }

  /**
   * Looks at a page and where it leads. One that goes round in a circle is asked for once more, for one odd
   * response is no
   * circle. Undefined where it repeats the last page.
   */
  private async lookAt(
    first: AskedPage,
    number: number,
    sameResponse: boolean,
    where: Where,
  ): Promise<{ readonly page: AskedPage; readonly next: NextPage } | undefined> {
    const countsRest = this.of.pages.countsRest === true && number > 1;
    let page = countsRest ? { ...first, envelope: { ...first.envelope, total: undefined } } : first;
    for (let again = sameResponse; ; again = true) {
      try {
        const findings = this.watch.look(page.position, page, where, this.looking);
        if (findings.notice !== undefined) this.asker.notice(findings.notice);
        if (findings.repeats) return undefined;
        this.noteTotals(page, number);
        const next = this.plain(this.next(page, this.progress(page, findings, number), where));
        this.watch.follow(page.position, next, where);
        this.countRecords(page, findings, sameResponse, where);
        return { page, next };
      } catch (error) {
        if (again || !isBridgeError(error, "PAGE_REPEATED")) throw error;
        this.watch.lookAgain();
        page = await this.ask(page.position, where);
      }
    }
  }

  /** The place without the credentials that an API may echo in it: places are kept in the ledger. */
  private plain(next: NextPage): NextPage {
    return next.at === "link" ? { ...next, link: this.asker.shared.withoutSecrets(next.link) } : next;
  }

  private firstPosition(): PagePosition {
    const first = this.asker.ofKnownSize(this.of, this.of.pages.first());
    return (this.options.smaller === true ? this.of.pages.smaller(first) : undefined) ?? first;
  }

  private progress(page: AskedPage, { shift, stale }: PageFindings, pages: number): Progress {
    const { fullPage } = this;
    const { totalHolds } = this.watch;
    return { pages, records: this.records + page.received, shift, stale, fullPage, totalHolds };
  }

  /** Compares what has come with what the API says of all. */
  private noteTotals(page: AskedPage, number: number): void {
    if (number === 1 && this.options.position === undefined) {
      this.fullPage = page.received;
      this.count.promise(wholeNumber(page.envelope.total));
      this.lookForPlaces(page);
    }
    const { token, link, more } = page.envelope;
    if (token ?? link ?? more) this.asker.noteSeenPlaces(this.of);
    if (this.looking && page.received > 0) {
      this.count.forgetPromise();
      const total = wholeNumber(page.envelope.total);
      this.asker.notice(
        `The API says that there are ${total ?? "no more"} in all, and gives more: pages.total counts something else, and is not believed.`,
      );
    }
    this.looking = false;
  }

  private countRecords(
    { position, received, records }: AskedPage,
    { ids, before, wentBack }: PageFindings,
    sameResponse: boolean,
    where: Where,
  ): void {
    this.records += received;
    const { overlap, after_last_page: pastEnd } = this.of.pages.definition ?? {};
    const overlaps = overlap !== undefined || pastEnd === "repeats";
    const { mayComeAgain } = this.options;
    const again = position.at === "number" || position.at === "offset" ? undefined : mayComeAgain;
    const counted = { records, ids, before, overlaps, wentBack, mayComeAgain: again, sameResponse };
    this.count.take(counted, where);
  }

  private lookForPlaces(page: AskedPage): void {
    if (this.options.next !== undefined) return;
    const { of, asker } = this;
    const { definition } = of.pages;
    const { body, response, position } = page;
    const first = { page, body, headers: response.headers, size: position.size };
    const inList = of.plan.records.every(({ text }) => text.endsWith("[*]"));
    const missing = missingPlace(definition, first, inList);
    if (missing !== undefined && !asker.hasSeenPlaces(of)) this.count.mayBeMore(missing);
  }

  private next(page: AskedPage, progress: Progress, where: Where): NextPage {
    const own = this.options.next;
    if (own === undefined) {
      const next = this.of.pages.next(page.position, page, progress, where);
      if (next.at !== "end" || next.unless === undefined) return next;
      this.looking = true;
      return next.unless;
    }
    const { body, records } = page;
    const { headers, url } = page.response;
    const seen = { body, headers, url, records, number: progress.pages };
    const next = callOwn("next", where, () => own(seen));
    if (next === undefined) return { at: "end" };
    if (next === null || (typeof next !== "string" && typeof next.link !== "string"))
      throw new BridgeError(
        "FUNCTION_FAILED",
        `The connector's own next has given ${aTypeName(next)}: a token, { link } or undefined is meant.`,
        { where },
      );
    return typeof next === "string" ? { at: "token", token: next } : { at: "link", link: next.link };
  }

  /** Asks for the next page before this one is worked on; for several where their places are known. */
  private askAhead(page: AskedPage, next: PagePosition, number: number): void {
    if (number === 1) this.ahead = this.of.pages.ahead(page.position, page);
    const known = this.ahead.findIndex((each) => placeOf(each) === placeOf(next));
    const atOnce = Math.min(MOST_AHEAD, this.asker.shared.connector.api.rate_limit.concurrency);
    const positions = known < 0 ? [next] : this.ahead.slice(known, known + atOnce);
    for (const [i, position] of positions.entries()) {
      if (this.underWay.has(placeOf(position))) continue;
      const pending = this.ask(position, this.asker.where(this.options.part, number + 1 + i));
      // awaited in its turn; if the caller leaves before, its failure concerns nobody
      pending.catch(() => {});
      this.underWay.set(placeOf(position), pending);
    }
  }

  /** Undefined where a look behind the end that a total has told finds no page. */
  private async arrival(position: PagePosition, where: Where): Promise<AskedPage | undefined> {
    const place = placeOf(position);
    const pending = this.underWay.get(place) ?? this.ask(position, where);
    this.underWay.delete(place);
    try {
      return await this.joined(await pending, where);
    } catch (error) {
      if (this.looking && isBridgeError(error) && NOTHING_THERE.includes(error.code)) return undefined;
      throw error;
    }
  }

  /** Asks for a page; where the API refuses its size, for a smaller one. */
  private async ask(position: PagePosition, where: Where): Promise<AskedPage> {
    const { values, parameters = {} } = this.options;
    try {
      return await this.asker.page(this.of, position, values, parameters, where, this.pageUrl);
    } catch (error) {
      const smaller = isSizeRefusal(error) ? this.of.pages.smaller(position) : undefined;
      if (smaller === undefined || this.closed) throw error;
      this.asker.noteSize(this.of, position.size, smaller.size);
      return this.ask(smaller, where);
    }
  }

  /**
   * A page by offset must overlap the one before it; where records have moved further, it is asked for further
   * back.
   */
  private async joined(arrived: AskedPage, where: Where): Promise<AskedPage> {
    const overlap = this.of.pages.definition?.overlap;
    let page = arrived;
    if (overlap === undefined) return page;
    for (let back = overlap; page.position.at === "offset" && !this.watch.joins(page.records); back *= 2) {
      const { position } = page;
      const first = this.of.pages.definition?.offset ?? 0;
      if (position.offset <= first) {
        this.watch.rewind(where);
        break;
      }
      this.asker.notice(
        `Records have moved while pages were read: the one at offset ${position.offset} is asked for further back.`,
      );
      page = await this.ask({ ...position, offset: Math.max(first, position.offset - back) }, where);
    }
    return page;
  }
}

/** What APIs answer when they are asked for a page behind the last one. */
const NOTHING_THERE: readonly ErrorCode[] = [
  "NOT_FOUND",
  "REQUEST_REFUSED",
  "RECORDS_NOT_FOUND",
  "RESPONSE_SKIPPED",
  "RESPONSE_UNLIKE",
];

const NO_PAGES_BEFORE = { before: [], overlaps: false };

function placeOf(position: PagePosition): string {
  return JSON.stringify(position);
}

function isSizeRefusal(error: unknown): boolean {
  return isBridgeError(error, "REQUEST_REFUSED") || isBridgeError(error, "BODY_TOO_LARGE");
}

function resultsCut(of: CompiledRequest, where: Where): BridgeError {
  const most = of.pages.definition?.max_pages;
  return new BridgeError("RESULTS_CUT", `The API gives ${most} pages at most, and there is more.`, { where });
}
