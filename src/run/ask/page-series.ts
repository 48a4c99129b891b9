/**
 * The pages of one series of requests, in order: the next one is under way while the last one is worked on, and
 * several are where the page rule knows where they begin.
 */

import { missingPlace } from "../../core/ask/missing-place.js";
import type { NextPage, PagePosition, Sequel } from "../../core/ask/page-position.js";
import type { Progress } from "../../core/ask/page-rule.js";
import { PageWatch } from "../../core/ask/page-watch.js";
import type { Part } from "../../core/ask/parts.js";
import type { Parameters } from "../../core/ask/request-plan.js";
import type { TemplateValues } from "../../core/ask/template.js";
import type { CompiledRequest } from "../../core/define/compile-stream.js";
import type { StreamCode } from "../../core/define/connector-schema.js";
import { BridgeError, isBridgeError, type Where } from "../../core/errors.js";
import type { Asker, RawPage } from "./asker.js";

/** Pages asked for ahead of the one that is worked on, at most: each of them is held in memory. */
const MOST_AHEAD = 4;

export interface SeriesOptions {
  readonly part: Part;
  readonly values: TemplateValues;
  readonly parameters?: Parameters | undefined;
  /** where to begin; default: at the first page */
  readonly position?: PagePosition | undefined;
  readonly key?: readonly (readonly string[])[] | undefined;
  /** a next-page rule in TypeScript */
  readonly next?: StreamCode["next"];
}

export interface SeriesPage {
  /** 1 for the first */
  readonly number: number;
  readonly page: RawPage;
  readonly next: Sequel;
  /** the API's total has changed since the series began, or further pages may have been missed */
  readonly moved: boolean;
}

interface Arrived {
  readonly page: RawPage;
  /** where it began; the size may be smaller than asked for first */
  readonly position: PagePosition;
}

/** @throws BridgeError PAGE_REPEATED, RESULTS_CUT, TOKEN_NOT_TEXT, and what a request throws */
export async function* pageSeries(
  asker: Asker,
  of: CompiledRequest,
  options: SeriesOptions,
): AsyncGenerator<SeriesPage> {
  const series = new Series(asker, of, options);
  try {
    yield* series.pages();
  } catch (error) {
    if (!isBridgeError(error, "ANSWER_SKIPPED")) throw error;
    asker.notice(options.part.key === "" ? error.message : `${options.part.key}: ${error.message}`);
  } finally {
    series.close();
  }
}

class Series {
  private readonly watch: PageWatch;
  /** pages under way by position, oldest first */
  private readonly underWay = new Map<string, Promise<Arrived>>();
  /** positions that are known to follow */
  private ahead: readonly PagePosition[] = [];
  private closed = false;
  /** what would tell of further pages may be elsewhere than the connector says */
  private doubtful = false;
  private pageUrl: string | undefined;

  constructor(
    private readonly asker: Asker,
    private readonly of: CompiledRequest,
    private readonly options: SeriesOptions,
  ) {
    const definition = of.pages.definition;
    this.watch = new PageWatch({
      key: options.key ?? [],
      pastEnd: definition?.past_end ?? "empty",
      overlap: definition?.overlap ?? 0,
      query: definition?.query,
    });
  }

  close(): void {
    this.closed = true;
    this.underWay.clear();
  }

  async *pages(): AsyncGenerator<SeriesPage> {
    const { of, options } = this;
    let records = 0;
    let position: PagePosition = options.position ?? this.asker.ofKnownSize(of, of.pages.first());
    for (let number = 1; ; number++) {
      const where = this.asker.where(options.part, number);
      let arrived = await this.arrival(position, where);
      for await (const { page: piece, received, last } of this.asker.pieces(arrived.page, of, where)) {
        arrived = { ...arrived, page: { ...piece, received } };
        if (!last) yield { number, page: piece, next: { at: "within" }, moved: this.watch.moved };
      }
      const { page } = arrived;
      const sighting = this.watch.look(arrived.position, page, where);
      if (sighting.notice !== undefined) this.asker.notice(sighting.notice);
      if (number === 1 && options.position === undefined) this.lookForPlaces(arrived);
      // what repeats the last page adds nothing: it was the last
      if (sighting.repeats) return;
      records += page.received;
      const { shift, stale } = sighting;
      const next = this.next(arrived, { pages: number, records, shift, stale }, where);
      this.watch.follow(arrived.position, next, where);
      this.pageUrl = page.response.url;
      if (next.at !== "end") this.askAhead(arrived, next, number);
      yield { number, page, next, moved: this.watch.moved || this.doubtful };
      if (next.at === "end") {
        if (next.cut === true) throw resultsCut(of, where);
        return;
      }
      position = next;
    }
  }

  private lookForPlaces({ page, position }: Arrived): void {
    if (this.options.next !== undefined) return;
    const { body, response } = page;
    const first = { page, body, headers: response.headers, size: position.size };
    const missing = missingPlace(this.of.pages.definition, first);
    this.doubtful = missing !== undefined;
    if (missing !== undefined) this.asker.notice(missing);
  }

  private next({ page, position }: Arrived, progress: Progress, where: Where): NextPage {
    const own = this.options.next;
    if (own === undefined) return this.of.pages.next(position, page, progress, where);
    const { body, records } = page;
    const { headers, url } = page.response;
    const next = own({ body, headers, url, records, number: progress.pages });
    if (next === undefined) return { at: "end" };
    return typeof next === "string" ? { at: "token", token: next } : { at: "link", link: next.link };
  }

  /** Asks for the next page before this one is worked on; for several where their places are known. */
  private askAhead(arrived: Arrived, next: PagePosition, number: number): void {
    if (number === 1) this.ahead = this.of.pages.ahead(arrived.position, arrived.page);
    const known = this.ahead.findIndex((each) => placeOf(each) === placeOf(next));
    const atOnce = Math.min(MOST_AHEAD, this.asker.shared.connector.api.pace.at_once);
    const positions = known < 0 ? [next] : this.ahead.slice(known, known + atOnce);
    for (const [i, position] of positions.entries()) {
      if (this.underWay.has(placeOf(position))) continue;
      const pending = this.ask(position, this.asker.where(this.options.part, number + 1 + i));
      // awaited in its turn; if the caller leaves before, its failure concerns nobody
      pending.catch(() => {});
      this.underWay.set(placeOf(position), pending);
    }
  }

  private async arrival(position: PagePosition, where: Where): Promise<Arrived> {
    const place = placeOf(position);
    const pending = this.underWay.get(place) ?? this.ask(position, where);
    this.underWay.delete(place);
    const arrived = await pending;
    return this.joined(arrived, where);
  }

  /** Asks for a page; where the API refuses its size, for a smaller one. */
  private async ask(position: PagePosition, where: Where): Promise<Arrived> {
    const { values, parameters = {} } = this.options;
    try {
      const page = await this.asker.page(this.of, position, values, parameters, where, this.pageUrl);
      return { page, position };
    } catch (error) {
      const smaller = isSizeRefusal(error) ? this.of.pages.smaller(position) : undefined;
      if (smaller === undefined || this.closed) throw error;
      this.asker.noteSize(this.of, position.size, smaller.size);
      return this.ask(smaller, where);
    }
  }

  /** A page by offset must overlap the one before it; where records have moved further, it is asked for further back. */
  private async joined(arrived: Arrived, where: Where): Promise<Arrived> {
    const overlap = this.of.pages.definition?.overlap;
    let { page, position } = arrived;
    if (overlap === undefined || position.at !== "offset") return arrived;
    for (let back = overlap; !this.watch.joins(page.records); back *= 2) {
      const first = this.of.pages.definition?.offset ?? 0;
      if (position.offset <= first) {
        this.watch.rewind(where);
        break;
      }
      this.asker.notice(
        `Records have moved while pages were read: the one at offset ${position.offset} is asked for further back.`,
      );
      ({ page, position } = await this.ask(
        { ...position, offset: Math.max(first, position.offset - back) },
        where,
      ));
      if (position.at !== "offset") break;
    }
    return { page, position };
  }
}

function placeOf(position: PagePosition): string {
  return JSON.stringify(position);
}

function isSizeRefusal(error: unknown): boolean {
  return isBridgeError(error, "REQUEST_REFUSED") || isBridgeError(error, "BODY_TOO_LARGE");
}

function resultsCut(of: CompiledRequest, where: Where): BridgeError {
  const most = of.pages.definition?.at_most;
  return new BridgeError("RESULTS_CUT", `The API gives ${most} pages at most, and there is more.`, { where });
}
