/** `peek`: a few records of a stream, from the begin, the middle and the end, looked at as a run would. */

import type { PagePosition } from "../core/ask/page-position.js";
import { placesBehind, wholeNumber } from "../core/ask/page-rule.js";
import { checkValue } from "../core/define/check.js";
import { columnsSchema } from "../core/define/column-schema.js";
import { BridgeError } from "../core/errors.js";
import { compileCondition } from "../core/language/condition.js";
import { keepable, type LookedAt, lookAt } from "../core/sample/look.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import { startValue } from "../core/track/cursor.js";
import type { Window } from "../core/track/windows.js";
import { newTally } from "../http/exchange.js";
import { type Api, type ApiInside, insideOf } from "./api.js";
import type { AskEvent } from "./ask/asker.js";
import type { Page } from "./ask/page-series.js";
import type { StreamAsk } from "./ask/stream-ask.js";
import { asBridged } from "./bridge-stream.js";
import { type Stretch, someStretches } from "./stretches.js";

/** Where in a stream some of a sample's records stood. */
export interface SamplePlace {
  readonly place: "first" | "middle" | "last";
  /** the part or the window that it is of, in words; undefined where the stream has neither */
  readonly of: string | undefined;
  readonly records: number;
}

/** Some records of a stream. It is plain JSON, and holds no value that a column's rules hide. */
export interface Sample {
  readonly connector: string;
  readonly account: string;
  readonly stream: string;
  /** RFC 3339 */
  readonly takenAt: string;
  readonly places: readonly SamplePlace[];
  /** records of the stream, as the API counts them; undefined where it does not */
  readonly total: number | undefined;
  readonly records: readonly unknown[];
}

/** What is looked at, and what is tried over it. */
export interface PeekOptions<Stream extends string = string> {
  readonly api: Api<Stream>;
  readonly stream: Stream;
  /** at most; default 60 */
  readonly records?: number | undefined;
  /** a condition in the place of the stream's own */
  readonly where?: string | undefined;
  /** rules for columns, beside the stream's own */
  readonly columns?: Readonly<Record<string, object>> | undefined;
  /** looked at instead of the API: nothing is sent */
  readonly sample?: Sample | undefined;
  readonly signal?: AbortSignal | undefined;
  readonly onEvent?: ((event: AskEvent) => void) | undefined;
}

/** A sample, and what it shows. */
export interface Peek extends LookedAt {
  readonly sample: Sample;
  /** sent for the sample, those for parts and details included */
  readonly requests: number;
}

const RECORDS = 60;

/**
 * Takes a sample and looks at it. Of pages by number or offset with a total, of windows and of parts, it takes the
 * first, the middle and the last; of all others the first.
 * @throws BridgeError CONFIG_INVALID, CONFIG_UNKNOWN_NAME, and what asking throws
 */
export async function peek<Stream extends string>(options: PeekOptions<Stream>): Promise<Peek> {
  const inside = insideOf(options.api);
  const stream = withTrial(await inside.stream(options.stream), options, inside);
  const tally = newTally();
  const sample = options.sample ?? (await takeSample(inside, stream, options, tally));
  return { ...lookAt(stream, sample.records), sample, requests: tally.requests };
}

/** The stream with what is only tried. */
function withTrial(
  stream: CompiledStream,
  { where, columns }: Pick<PeekOptions, "where" | "columns">,
  api: ApiInside,
): CompiledStream {
  const rules = checkValue(columnsSchema, columns ?? {}, { name: "columns", place: () => "columns" });
  const tried = asBridged(stream, { columns: rules, fields: undefined }, api);
  return { ...tried, where: where === undefined ? stream.where : triedCondition(where) };
}

function triedCondition(text: string): CompiledStream["where"] {
  try {
    return compileCondition(text, "record");
  } catch (error) {
    const words = (error as Error).message.split("\n")[0];
    throw new BridgeError("CONFIG_INVALID", `where is no condition: ${words}`, {
      hint: "It is a CEL expression over record, such as record.beds > 0.",
    });
  }
}

async function takeSample(
  inside: ApiInside,
  stream: CompiledStream,
  { records: most = RECORDS, signal, onEvent }: PeekOptions,
  tally: ReturnType<typeof newTally>,
): Promise<Sample> {
  const nowMs = inside.clock.now();
  // rules decide when the sample is looked at; asking knows of none
  const plain = {
    ...stream,
    where: undefined,
    faultOf: undefined,
    compute: [],
    code: { ...stream.code, keep: undefined },
  };
  const ask = await inside.openStream(plain, { tally, signal, onEvent, nowMs });
  const taken = await new Sampler(ask, most, startValue(stream.cursor?.start, nowMs)).take();
  return {
    connector: inside.connector.connector,
    account: inside.account.name,
    stream: stream.name,
    takenAt: new Date(nowMs).toISOString(),
    places: taken.places,
    total: taken.total,
    records: taken.records.slice(0, most).map((record) => keepable(record, stream.columns)),
  };
}

class Sampler {
  readonly records: unknown[] = [];
  readonly places: SamplePlace[] = [];
  total: number | undefined;

  constructor(
    private readonly ask: StreamAsk,
    private readonly most: number,
    private readonly since: string | undefined,
  ) {}

  async take(): Promise<this> {
    const { some: stretches } = await someStretches(this.ask, "last");
    const [only] = stretches;
    if (stretches.length > 1 || only === undefined)
      for (const stretch of stretches) await this.page(stretch, Math.ceil(this.most / stretches.length));
    else await this.pagesOf(only);
    return this;
  }

  /** The first page, and where the API's total tells where they begin, the middle and the last one. */
  private async pagesOf(stretch: Stretch): Promise<void> {
    const begin = this.ask.stream.request.pages.first();
    // a smaller page is enough, where its size can be asked for
    const position = begin.at === "link" ? begin : withSize(begin, this.most);
    const first = await this.page(stretch, this.most, position);
    if (first === undefined) return;
    this.total = wholeNumber(first.envelope.total);
    const places = placesBehind(position, first);
    if (places === undefined) return;
    const each = Math.ceil(this.most / 3);
    const { middle, last } = places;
    this.keep(each);
    if (!isSamePlace(middle, position) && !isSamePlace(middle, last))
      await this.page({ ...stretch, place: "middle" }, each, middle);
    await this.page({ ...stretch, place: "last" }, each, last);
  }

  private keep(most: number): void {
    this.records.length = Math.min(this.records.length, most);
    this.places[0] = { ...this.places[0]!, records: this.records.length };
  }

  private async page(
    { place, part, window }: Stretch,
    most: number,
    position?: PagePosition,
  ): Promise<Page | undefined> {
    const start = { since: this.since, once: true, most, position, window };
    for await (const page of this.ask.pages(part, start)) {
      for (const record of page.records) this.records.push(record);
      const words = [part.key, window === undefined ? "" : windowText(window)].filter((each) => each !== "");
      const of = words.length === 0 ? undefined : words.join(", ");
      this.places.push({ place, of, records: page.records.length });
      return page;
    }
    return undefined;
  }
}

function isSamePlace(a: PagePosition, b: PagePosition): boolean {
  return JSON.stringify(a) === JSON.stringify(b);
}

function withSize<P extends { readonly size?: number | undefined }>(position: P, most: number): P {
  return position.size === undefined ? position : { ...position, size: Math.min(position.size, most) };
}

function windowText({ fromMs, toMs }: Window): string {
  const day = (ms: number) => new Date(ms).toISOString().slice(0, 10);
  return `${day(fromMs)} to ${day(toMs)}`;
}
