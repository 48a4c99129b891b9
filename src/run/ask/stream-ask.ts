/**
 * A stream asked in one run: its parts, and the pages of each part, ready to be shaped.
 *
 *   lists ─▶ parts ─▶ windows ─▶ pages (or a report, or figures joined) ─▶ expand ─▶ added fields and conditions
 */

import pLimit, { type LimitFunction } from "p-limit";
import { joinOnDimensions } from "../../core/ask/breakdown.js";
import type { PagePosition, Sequel } from "../../core/ask/page-position.js";
import { PageWatch } from "../../core/ask/page-watch.js";
import type { Part } from "../../core/ask/parts.js";
import { PassCount } from "../../core/ask/pass-count.js";
import { type PageRead, pageOfRecords, withRecords } from "../../core/ask/read-page.js";
import { addedFields, applyRules, leaveOutEarly, type RecordRules } from "../../core/ask/record-rules.js";
import type { Parameters } from "../../core/ask/request-plan.js";
import { BridgeError, callOwn, isBridgeError } from "../../core/errors.js";
import type { TemplateValues } from "../../core/language/template.js";
import type { CompiledReport, CompiledStream } from "../../core/stream/compile-stream.js";
import { CursorField } from "../../core/track/cursor-field.js";
import { type CursorValue, compareCursors, sendValue } from "../../core/track/cursor-value.js";
import { halve, openWindows, type Window, windowValues } from "../../core/track/windows.js";
import { type AccountParts, Asker, type AskOptions } from "./asker.js";
import { wholeChanges } from "./changes.js";
import { completePage } from "./complete.js";
import { expandPage } from "./expand.js";
import { type Page, pageSeries, type SeriesOptions } from "./page-series.js";
import { fetchLists, fetchParts } from "./part-source.js";
import { fetchReport } from "./report.js";

/** How the pages of a pass are counted. */
type Counting = Pick<SeriesOptions, "mayComeAgain" | "smaller" | "field"> & { readonly count: PassCount };

/** Where a part's pages begin. */
export interface PartStart {
  readonly since?: string | undefined;
  readonly position?: PagePosition | undefined;
  readonly window?: Window | undefined;
  /** records may be given twice: those of a window that turns out too large come again with its halves */
  readonly mayRepeat?: boolean | undefined;
  /** read once, whatever comes: what may be missing is not asked for again. Default false */
  readonly once?: boolean | undefined;
  /** a sample: only the first page is asked for, and no more than so many of its records are looked at */
  readonly most?: number | undefined;
}

export class StreamAsk {
  /** how values of the cursor's field are read; undefined where it has none */
  readonly cursorField: CursorField | undefined;
  private readonly asker: Asker;
  private lists: Promise<TemplateValues> | undefined;
  /** lets no more reports be under way than the API permits */
  private reports: LimitFunction | undefined;
  private found: Promise<readonly Part[]> | undefined;

  constructor(
    shared: AccountParts,
    readonly stream: CompiledStream,
    options: AskOptions,
  ) {
    this.asker = new Asker(shared, stream, options);
    const { cursor } = stream;
    this.cursorField =
      cursor?.field === undefined
        ? undefined
        : new CursorField({ ...cursor, field: cursor.field }, this.asker.nowMs);
  }

  get nowMs(): number {
    return this.asker.nowMs;
  }

  /** The first request for a page, in words; undefined before it. */
  get firstAsked(): string | undefined {
    return this.asker.firstAsked;
  }

  /** The stream's parts; asked for once. `known`: keys of those that an earlier run had. */
  parts(known: readonly string[] = []): Promise<readonly Part[]> {
    const open = ({ shared, stream, options }: Asker) =>
      new StreamAsk(shared, stream, { ...options, onlyRows: false });
    this.found ??= this.fetchedLists().then((lists) => fetchParts(this.asker, lists, open, known));
    return this.found;
  }

  private fetchedLists(): Promise<TemplateValues> {
    this.lists ??= fetchLists(this.asker);
    return this.lists;
  }

  /** All pages of one part; windows from their begin to now. */
  async *pagesOf(part: Part, start: PartStart = {}): AsyncGenerator<Page> {
    const { windows } = this.stream.definition;
    if (windows === undefined) yield* this.pages(part, start);
    else
      for (const window of openWindows(windows, [], this.nowMs))
        yield* windowPages(this, part, { ...start, window });
  }

  /**
   * The pages of one part, in one window where the stream has windows. What may have been missed is read once more,
   * in smaller pages where there are some.
   * @throws BridgeError INCOMPLETE, KEY_NOT_UNIQUE behind the last page, where it cannot be whole
   */
  async *pages(part: Part, start: PartStart = {}): AsyncGenerator<Page> {
    const { key, identity = key, cursor } = this.stream;
    // a feed of changes gives a record as often as it changed
    const count = new PassCount(cursor?.kind === "delta" ? [] : identity.map((parts) => parts.join(".")));
    yield* this.reading(part, start, count, false);
    // a sample is not meant to be whole
    if (start.most !== undefined) return;
    let short = count.shortfall();
    const hasSmaller = (this.stream.definition.pages?.size?.smaller.length ?? 0) > 0;
    const mayHelp = count.isKeyed && (!count.isDoubtful || hasSmaller);
    if (short?.code === "INCOMPLETE" && start.once !== true && mayHelp) {
      this.asker.notice(`${short.message} It is read once more.`);
      count.readAgain();
      yield* this.reading(part, { ...start, position: undefined }, count, true);
      short = count.shortfall();
    }
    if (short !== undefined) throw short.at(this.asker.where(part));
  }

  private async *reading(
    part: Part,
    start: PartStart,
    count: PassCount,
    smaller: boolean,
  ): AsyncGenerator<Page> {
    const lists = await this.fetchedLists();
    const values = this.valuesOf(part, start, lists);
    const rules = this.rulesOf(part, lists);
    const { expand } = this.stream.definition;
    const { expand: expandRequest } = this.stream;
    const field = this.cursorField;
    let max: CursorValue | undefined;
    // what has come already and is newer than all before it has changed meanwhile
    const mayComeAgain =
      field &&
      ((record: unknown) => {
        const value = field.value(record);
        return value !== undefined && max !== undefined && compareCursors(value, max) >= 0;
      });
    const counting = { count, field, mayComeAgain, smaller };
    const { set, cursor } = this.stream;
    const changed = cursor?.kind === "delta" && start.since !== undefined ? set : undefined;
    for await (const page of this.askedPages(part, start, values, counting)) {
      const { number, next, moved, span } = page;
      if (span?.max !== undefined && (max === undefined || compareCursors(span.max, max) > 0)) max = span.max;
      // only an OData service has a way to tell that what it expands is cut
      const { isControl } = this.stream;
      const few = start.most === undefined ? page : withRecords(page, page.records.slice(0, start.most));
      // what was scanned was seen to be whole
      const isTold = changed === undefined || few.source !== undefined;
      const named = isTold ? few : await wholeChanges(this.asker, changed, few, part);
      const asked = isControl === undefined ? named : await completePage(this.asker, named, part);
      const news = this.onlyNews(asked, start.since);
      const whole =
        expand === undefined || expandRequest === undefined
          ? news
          : await expandPage(this.asker, expand, expandRequest, leaveOutEarly(news, rules), part, values);
      yield { ...applyRules(whole, rules), number, part, next, moved, span };
    }
  }

  private async *askedPages(
    part: Part,
    start: PartStart,
    values: TemplateValues,
    counting: Counting,
  ): AsyncGenerator<Page> {
    if (this.stream.measures.length > 1) {
      const page = await this.joinedFigures(part, start, values);
      yield this.onlyPage(page, part, { at: "end" });
      return;
    }
    const pages = this.series(part, start, values, counting);
    if (start.window === undefined) yield* pages;
    else if (start.mayRepeat === true || !this.mayBeCut()) yield* this.uncut(pages, part);
    else {
      // its halves would give the same again: the window is read to its end before any of it is given
      const held: Page[] = [];
      for await (const page of this.uncut(pages, part)) held.push(page);
      yield* held;
    }
  }

  /** The pages as they come: of a report one, its download. */
  private series(
    part: Part,
    start: PartStart,
    values: TemplateValues,
    counting: Counting,
  ): AsyncGenerator<Page> {
    const { request, key, identity = key, code, report } = this.stream;
    if (report !== undefined) return this.reportSeries(report, part, values, counting);
    const parameters = this.parametersOf(start);
    const position = start.position ?? deltaLink(this.stream, start.since);
    const next = code?.next;
    const alone = start.most !== undefined;
    return pageSeries(this.asker, request, {
      part,
      values,
      parameters,
      position,
      key: identity,
      next,
      alone,
      ...counting,
    });
  }

  private async *reportSeries(
    report: CompiledReport,
    part: Part,
    values: TemplateValues,
    { count }: Counting,
  ): AsyncGenerator<Page> {
    this.reports ??= pLimit(report.definition.concurrency);
    const page = await this.reports(() => fetchReport(this.asker, report, part, values));
    const where = this.asker.where(part);
    const watch = new PageWatch({
      key: this.stream.identity ?? this.stream.key,
      pastEnd: "empty",
      overlap: 0,
      query: undefined,
    });
    let sameResponse = false;
    for await (const piece of this.asker.pieces(page, this.stream.request, values, where)) {
      const { records } = piece;
      count.take({ records, ids: watch.keysOf(records), before: [], overlaps: false, sameResponse }, where);
      sameResponse = true;
      yield this.onlyPage(piece, part, { at: piece.isLast ? "end" : "within" });
    }
  }

  /** A page that none follows, or a piece of it. */
  private onlyPage(page: PageRead, part: Part, next: Sequel): Page {
    return { ...page, number: 1, part, next, moved: false, span: this.cursorField?.span(page.came) };
  }

  /** @throws BridgeError RESULTS_CUT where as many records come as the API gives at most */
  private async *uncut(pages: AsyncGenerator<Page>, part: Part): AsyncGenerator<Page> {
    const most = this.stream.definition.windows?.max_records ?? Number.POSITIVE_INFINITY;
    let records = 0;
    for await (const each of pages) {
      // a page's last piece tells of all its records
      if (each.next.at !== "within") records += each.received;
      if (records >= most)
        throw new BridgeError("RESULTS_CUT", `The API gives ${most} records at most, and that many came.`, {
          where: this.asker.where(part, each.number),
        });
      yield each;
    }
  }

  private mayBeCut(): boolean {
    const { windows, pages, rules } = this.stream.definition;
    const all = [...rules, ...this.asker.shared.connector.api.rules];
    return (
      windows?.max_records !== undefined ||
      pages?.max_pages !== undefined ||
      all.some((rule) => rule.means === "halve")
    );
  }

  /** More measures than one request takes: each group is read to its end, then all are joined. */
  private async joinedFigures(part: Part, start: PartStart, values: TemplateValues): Promise<PageRead> {
    const answers = this.stream.measures.map(async (measures) => {
      const records: unknown[] = [];
      let bytes = 0;
      // each group is a pass of its own: it may be cut, and it may be short
      const count = new PassCount([]);
      const pages = this.series(part, start, { ...values, measures }, { count });
      for await (const page of this.uncut(pages, part)) {
        for (const record of page.records) records.push(record);
        bytes += page.bytes;
      }
      const short = count.shortfall();
      if (short !== undefined) throw short.at(this.asker.where(part));
      return { records, bytes };
    });
    const read = await Promise.all(answers);
    const dimensions = this.stream.definition.dimensions?.names ?? [];
    const joined = joinOnDimensions(
      read.map(({ records }) => records),
      dimensions,
    );
    return pageOfRecords(
      joined,
      read.reduce((sum, { bytes }) => sum + bytes, 0),
    );
  }

  private valuesOf(part: Part, { since, window }: PartStart, lists: TemplateValues): TemplateValues {
    const { cursor, definition } = this.stream;
    return {
      ...this.asker.baseValues(),
      ...lists,
      ...part.values,
      ...(cursor === undefined
        ? {}
        : { since: since === undefined ? undefined : sendValue(since, cursor.format) }),
      ...(definition.windows === undefined || window === undefined
        ? {}
        : windowValues(definition.windows, window)),
      ...(definition.dimensions === undefined ? {} : { dimensions: definition.dimensions.names }),
      ...(definition.measures === undefined ? {} : { measures: this.stream.measures[0] }),
    };
  }

  private parametersOf({ since, window }: PartStart): Parameters {
    const { cursor, definition } = this.stream;
    const { windows } = definition;
    const parameters: Record<string, string | undefined> = {};
    if (cursor?.query !== undefined && since !== undefined) {
      const value = sendValue(since, cursor.format);
      parameters[cursor.query] = cursor.send === undefined ? value : cursor.send(value);
    }
    if (windows !== undefined && window !== undefined) {
      const { from, to } = windowValues(windows, window);
      if (windows.from !== undefined) parameters[windows.from] = from;
      if (windows.to !== undefined) parameters[windows.to] = to;
    }
    return parameters;
  }

  private rulesOf(part: Part, lists: TemplateValues): RecordRules {
    const { where, code, definition } = this.stream;
    const keep = code?.keep;
    const own =
      keep &&
      ((record: Readonly<Record<string, unknown>>) =>
        callOwn("keep", this.asker.where(part), () => keep(record)));
    const values = { ...this.asker.baseValues(), ...lists, ...part.values };
    const add = addedFields(definition.add, values);
    const { isRemoval, faultOf, compute } = this.stream;
    return { where, keep: own, add, compute, isRemoval, faultOf };
  }

  /** Where the API has no filter for changes, what is older than the cursor is left out on our side. */
  private onlyNews(page: PageRead, since: string | undefined): PageRead {
    if (!this.stream.oldLeftOut || since === undefined || this.cursorField === undefined) return page;
    return withRecords(page, this.cursorField.notBefore(page.records, since));
  }
}

/** A delta that the API gave as an address is where the next pass begins. */
function deltaLink({ cursor }: CompiledStream, since: string | undefined): PagePosition | undefined {
  if (cursor?.kind !== "delta" || since === undefined || cursor.query !== undefined) return undefined;
  const isLink = cursor.deltaIsLink === true || /^(https?:\/\/|\/)/.test(since);
  return isLink ? { at: "link", link: since } : undefined;
}

/** All pages of all parts, one part after the other; windows from their begin to now. */
export async function* everyPage(ask: StreamAsk, start: PartStart = {}): AsyncGenerator<Page> {
  for (const part of await ask.parts()) yield* ask.pagesOf(part, start);
}

/** The pages of a window; of its halves, where the API gives no more at a time. */
export async function* windowPages(
  ask: StreamAsk,
  part: Part,
  start: PartStart & { readonly window: Window },
): AsyncGenerator<Page> {
  const { windows } = ask.stream.definition;
  try {
    yield* ask.pages(part, start);
  } catch (error) {
    const halves =
      windows !== undefined && isBridgeError(error, "RESULTS_CUT") ? halve(windows, start.window) : undefined;
    if (halves === undefined) throw error;
    const inOrder = windows?.order === "newest_first" ? [...halves].reverse() : halves;
    for (const half of inOrder) yield* windowPages(ask, part, { ...start, window: half });
  }
}
