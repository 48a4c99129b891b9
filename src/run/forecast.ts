/** `forecast`: what reading a bridge's streams will take, from a page of each and from earlier runs. */

import { countPages } from "../core/ask/page-count.js";
import type { PagePosition } from "../core/ask/page-position.js";
import { wholeNumber } from "../core/ask/page-rule.js";
import { isBridgeError, toBridgeError } from "../core/errors.js";
import { lookAt } from "../core/sample/look.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import { startValue } from "../core/track/cursor.js";
import { newTally } from "../http/exchange.js";
import type { RunRecord, StreamOutcome } from "../warehouse/warehouse.js";
import { type Api, type ApiInside, insideOf } from "./api.js";
import type { Page } from "./ask/page-series.js";
import { type StreamAsk, windowPages } from "./ask/stream-ask.js";
import type { Bridge } from "./bridge.js";
import { type Stretch, someStretches } from "./stretches.js";

/** How far a figure can be trusted. */
export type Sureness = "counted" | "likely" | "rough" | "unknown";

/** A number, and what it rests on. `value` is undefined where nothing is known. */
export interface Figure {
  readonly value: number | undefined;
  readonly sureness: Sureness;
  readonly restsOn: string;
}

/** What a stream will take. */
export interface StreamForecast {
  readonly stream: string;
  /** for a reading of all there is, from the cursor's start */
  readonly requests: Figure;
  readonly records: Figure;
  readonly rows: Figure;
  readonly bytes: Figure;
  /** at the pace that is permitted, in ms; a budget of a day that is spent not counted */
  readonly ms: Figure;
  /** days, where the requests of a day are limited */
  readonly days: Figure | undefined;
  /** requests of a later run, which has a cursor to begin at */
  readonly later: Figure;
  /** requests that were sent for all this */
  readonly asked: number;
}

/** What is forecast, and by what. */
export interface ForecastOptions {
  readonly api: Api;
  /** whose earlier runs are looked at, and whose streams are meant; default: all of the API's */
  readonly bridge?: Bridge | undefined;
  readonly signal?: AbortSignal | undefined;
}

/** Details are asked for so many records of a page. */
const DETAILS = 5;
/** Pages that are followed where nothing tells how many there are. */
const MOST_FOLLOWED = 3;
const EARLIER_RUNS = 50;

/**
 * Asks each stream for a page, of parts and windows for the first, the middle and the last, and reads the ledger.
 * @throws BridgeError what opening the warehouse throws; a stream that cannot be asked is unknown, and says why
 */
export async function forecast({ api, bridge, signal }: ForecastOptions): Promise<StreamForecast[]> {
  const inside = insideOf(api);
  const names = bridge === undefined ? await inside.streamNames() : [...bridge.streams.keys()];
  const runs = bridge === undefined ? [] : await earlierRuns(bridge);
  const forecasts: StreamForecast[] = [];
  for (const name of names) {
    const stream = await inside.stream(name);
    const known = runs.flatMap(({ run, streams }) =>
      streams.flatMap((each) => (each.stream === name && each.outcome === "done" ? [{ ...each, run }] : [])),
    );
    forecasts.push(await new Forecaster(inside, stream, known, signal).forecast());
  }
  return forecasts;
}

async function earlierRuns(bridge: Bridge): Promise<readonly RunRecord[]> {
  try {
    const session = await bridge.warehouse.open({ readOnly: true });
    try {
      return await session.ledger.runs({ bridge: bridge.name, limit: EARLIER_RUNS });
    } finally {
      await session.close();
    }
  } catch (error) {
    // before the first run there is none
    if (isBridgeError(error, "WAREHOUSE_EMPTY")) return [];
    throw error;
  }
}

const NOT_COUNTED: Figure = {
  value: undefined,
  sureness: "unknown",
  restsOn: "the ledger counts records, and no rows of child tables",
};

type EarlierStream = StreamOutcome & { readonly run: number };

/** What a stretch was seen to take; `requests` is undefined where its end was not found. */
interface Measured {
  readonly requests: number | undefined;
  readonly records: number | undefined;
  /** the end was seen, and not reckoned by a total */
  readonly isSeen: boolean;
}

/** What all pages that were seen hold together. */
interface Seen {
  received: number;
  bytes: number;
  readonly records: unknown[];
}

class Forecaster {
  private readonly tally = newTally();
  private readonly seen: Seen = { received: 0, bytes: 0, records: [] };
  private readonly beganMs: number;

  constructor(
    private readonly api: ApiInside,
    private readonly stream: CompiledStream,
    /** newest first */
    private readonly earlier: readonly EarlierStream[],
    private readonly signal: AbortSignal | undefined,
  ) {
    this.beganMs = api.clock.now();
  }

  async forecast(): Promise<StreamForecast> {
    const { stream } = this;
    if (stream.definition.report !== undefined) return this.said("a report is not submitted for a forecast");
    try {
      const ask = await this.api.openStream(stream, {
        tally: this.tally,
        signal: this.signal,
        nowMs: this.beganMs,
      });
      const { some, count } = await someStretches(ask, "all");
      const before = this.tally.requests;
      const measured: Measured[] = [];
      for (const stretch of some) measured.push(await this.measure(ask, stretch));
      return this.from(measured, count, before);
    } catch (error) {
      this.signal?.throwIfAborted();
      return this.said(`it cannot be asked: ${toBridgeError(error).message}`);
    }
  }

  private async measure(ask: StreamAsk, stretch: Stretch): Promise<Measured> {
    const before = this.tally.requests;
    const pages: Page[] = [];
    for await (const page of this.pages(ask, stretch, undefined)) pages.push(page);
    const spent = () => this.tally.requests - before;
    let last = pages.at(-1);
    const first = ask.stream.request.pages.first();
    const total = last && countPages(ask.stream.request.pages, first, last);
    if (pages.length === 1 && last !== undefined && last.next.at !== "end" && total !== undefined) {
      const records = wholeNumber(last.envelope.total) ?? total * last.received;
      return { requests: spent() - 1 + total + this.details(records, last), records, isSeen: false };
    }
    for (let more = 1; pages.length === more && more < MOST_FOLLOWED && isOpen(last); more++)
      for await (const page of this.pages(ask, stretch, last.next)) {
        last = page;
        pages.push(page);
      }
    if (isOpen(last)) return { requests: undefined, records: undefined, isSeen: false };
    const records = pages.reduce((sum, { received }) => sum + received, 0);
    const details = pages.reduce((sum, page) => sum + this.details(page.received, page), 0);
    return { requests: spent() + details, records, isSeen: true };
  }

  /** One page, or as many as the window is in pieces that the API gives. */
  private async *pages(ask: StreamAsk, { part, window }: Stretch, position: PagePosition | undefined) {
    const since = startValue(this.stream.cursor?.start, this.beganMs);
    const start = { since, once: true, most: DETAILS, position };
    const pages =
      window === undefined ? ask.pages(part, start) : windowPages(ask, part, { ...start, window });
    for await (const page of pages) {
      this.seen.received += page.received;
      this.seen.bytes += page.bytes;
      for (const record of page.records) this.seen.records.push(record);
      yield page;
    }
  }

  /** Requests for the details of so many records, those that have been asked for left out. */
  private details(records: number, { records: looked }: Page): number {
    const { expand } = this.stream.definition;
    if (expand === undefined) return 0;
    return Math.max(0, Math.ceil((records - looked.length) / (expand.batch ?? 1)));
  }

  private from(measured: readonly Measured[], count: number, before: number): StreamForecast {
    const known = measured.flatMap(({ requests, records }) =>
      requests === undefined || records === undefined ? [] : [{ requests, records }],
    );
    if (known.length < measured.length || known.length === 0)
      return this.said("the API does not tell how many there are");
    const mean = (of: "requests" | "records") =>
      known.reduce((sum, each) => sum + each[of], 0) / known.length;
    const isAll = known.length === count;
    const isSeen = measured.every((each) => each.isSeen);
    const sureness = isAll ? "counted" : "likely";
    const restsOn = isAll
      ? isSeen
        ? "all of it was asked for"
        : "the API's own count and the size of its first page"
      : `${known.length} of ${count} parts and windows`;
    const requests = Math.round(before + mean("requests") * count);
    const records = Math.round(mean("records") * count);
    return this.withPace({
      requests: { value: requests, sureness, restsOn },
      records: { value: records, sureness, restsOn },
      ...this.sizes(records, sureness),
    });
  }

  /** Rows and bytes of so many records, as they were in what was seen. */
  private sizes(records: number, sureness: Sureness): Pick<StreamForecast, "rows" | "bytes"> {
    const { received, bytes, records: looked } = this.seen;
    const { tables, leftOut } = lookAt(this.stream, looked);
    const rows = tables.reduce((sum, table) => sum + table.rows.length, 0);
    const figure = (ratio: number, of: number, words: string): Figure => ({
      value: Math.round(records * ratio),
      sureness: records === of ? sureness : "likely",
      restsOn: words,
    });
    const left = leftOut === 0 ? "" : `, ${leftOut} of them left out`;
    return {
      rows: figure(rows / Math.max(1, looked.length), looked.length, `${looked.length} records${left}`),
      bytes: figure(bytes / Math.max(1, received), received, `${received} records`),
    };
  }

  /** Nothing can be told by asking: earlier runs may. The longest of them is the nearest to a reading of all. */
  private said(why: string): StreamForecast {
    const whole = this.earlier.toSorted((a, b) => b.received - a.received)[0];
    const figure = (value: number | undefined): Figure =>
      whole === undefined
        ? { value: undefined, sureness: "unknown", restsOn: why }
        : { value, sureness: "likely", restsOn: `run ${whole.run}; ${why}` };
    const unknown = figure(undefined);
    const sizes =
      whole === undefined || this.seen.records.length === 0
        ? { rows: unknown, bytes: figure(whole?.bytes) }
        : this.sizes(whole.received, "likely");
    const rows = whole === undefined || this.seen.records.length > 0 ? sizes.rows : NOT_COUNTED;
    return this.withPace({
      requests: figure(whole?.requests),
      records: figure(whole?.received),
      rows,
      bytes: sizes.bytes,
    });
  }

  private withPace(figures: Pick<StreamForecast, "requests" | "records" | "rows" | "bytes">): StreamForecast {
    const { value: requests, sureness } = figures.requests;
    const { per_second, per_minute, per_hour, per_day, concurrency } = this.api.connector.api.rate_limit;
    const cost = this.stream.definition.rate_limit?.cost ?? 1;
    const rates = [per_second, (per_minute ?? Number.NaN) / 60, (per_hour ?? Number.NaN) / 3600];
    const slowest = Math.min(
      ...rates.filter((each): each is number => each !== undefined && !Number.isNaN(each)),
    );
    const tookMs =
      (this.api.clock.now() - this.beganMs - this.tally.waitedMs) / Math.max(1, this.tally.requests);
    const byLimit = requests === undefined ? 0 : ((requests * cost) / slowest) * 1000;
    const byAnswers =
      requests === undefined ? 0 : (requests * tookMs) / (this.isParallel() ? concurrency : 1);
    const restsOn =
      byLimit > byAnswers ? "the published limit" : `${Math.round(tookMs)} ms that a response took`;
    const ms: Figure = {
      value: requests === undefined ? undefined : Math.round(Math.max(byLimit, byAnswers)),
      sureness: sureness === "unknown" ? "unknown" : byLimit > byAnswers ? sureness : "rough",
      restsOn: requests === undefined ? figures.requests.restsOn : restsOn,
    };
    const days: Figure | undefined =
      per_day === undefined || requests === undefined
        ? undefined
        : { value: Math.ceil((requests * cost) / per_day), sureness, restsOn: `${per_day} requests a day` };
    return {
      stream: this.stream.name,
      ...figures,
      ms,
      days,
      later: this.later(figures.requests),
      asked: this.tally.requests,
    };
  }

  /** Several parts, or pages whose places are known, are asked for at the same time. */
  private isParallel(): boolean {
    const { each, pages } = this.stream.definition;
    return each !== undefined || pages?.number !== undefined || pages?.offset !== undefined;
  }

  /** A later run of a stream without a cursor asks for all again; of one with a cursor, earlier runs tell. */
  private later(whole: Figure): Figure {
    const { cursor, definition } = this.stream;
    if (cursor === undefined && definition.windows === undefined) return whole;
    const later = this.earlier.slice(0, -1);
    if (later.length === 0)
      return { value: undefined, sureness: "unknown", restsOn: "a second run tells what changes take" };
    const mean = later.reduce((sum, { requests }) => sum + requests, 0) / later.length;
    const runs = later.length === 1 ? `run ${later[0]!.run}` : `the mean of ${later.length} runs`;
    return { value: Math.round(mean), sureness: later.length < 3 ? "rough" : "likely", restsOn: runs };
  }
}

function isOpen(page: Page | undefined): page is Page & { readonly next: PagePosition } {
  return page !== undefined && page.next.at !== "end" && page.next.at !== "within";
}
