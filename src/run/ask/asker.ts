/** One stream's way of asking in one run: its values, headers and place, and one request at a time. */

import type { PagePosition } from "../../core/ask/page-position.js";
import { type Part, WHOLE_STREAM } from "../../core/ask/parts.js";
import {
  type Express,
  type PageRead,
  pageOfRecords,
  readEnvelope,
  readPage,
} from "../../core/ask/read-page.js";
import { addedFields, keepsBy } from "../../core/ask/record-rules.js";
import {
  type ApiRequest,
  LONGEST_ADDRESS,
  type Parameters,
  planRequest,
  queryInBody,
  resolveLink,
  withoutSelect,
} from "../../core/ask/request-plan.js";
import type { Clock } from "../../core/clock.js";
import type { Account } from "../../core/define/connector.js";
import type { Connector } from "../../core/define/connector-schema.js";
import { BridgeError, isBridgeError, type Where } from "../../core/errors.js";
import { Outliner } from "../../core/express/outline.js";
import type { TemplateValues } from "../../core/language/template.js";
import { type Concealed, concealedPaths } from "../../core/shape/concealed-values.js";
import type { Shape } from "../../core/shape/shape.js";
import type { CompiledRequest, CompiledStream } from "../../core/stream/compile-stream.js";
import { outlinePlan } from "../../core/stream/outline-plan.js";
import { formatMoment } from "../../core/track/cursor-value.js";
import { type Exchange, type ExchangeEvent, type Tally, whileWaiting } from "../../http/exchange.js";
import type { HttpResponse, SpoolPiece } from "../../http/send.js";
import type { Network, Ports } from "../ports.js";

/** Longer bodies are kept aside instead of in memory; bytes. */
const SPOOL_ABOVE = 16 * 1024 * 1024;

/** What is asked for, where neither account nor connector says so (RFC 9110, section 12.5.1). */
const ACCEPT = {
  json: "application/json",
  json_lines: "application/jsonl, application/json;q=0.8, */*;q=0.5",
  csv: "text/csv, */*;q=0.5",
  xml: "text/xml, application/xml, */*;q=0.5",
} as const;

/** What all streams of an account share. */
export interface AccountParts {
  readonly connector: Connector;
  readonly account: Account;
  readonly exchange: Exchange;
  readonly clock: Clock;
  /** an address of the API without the credentials in its query */
  withoutSecrets(address: string): string;
  /** sent with every request */
  readonly headers: Readonly<Record<string, string>>;
  stream(name: string): Promise<CompiledStream>;
  /** what it needs of the machine */
  readonly readFile: Ports["readFile"];
  readonly unpackFile: Ports["unpackFile"];
  /** every record is made as an object, and looked at one by one */
  readonly readsPlainly: boolean;
  readonly network: Network;
}

export type AskEvent = ExchangeEvent;

export interface AskOptions {
  /** a stream with what the bridge says of its fields; default: as the connector has it */
  readonly bridged?: ((stream: CompiledStream) => CompiledStream) | undefined;
  readonly tally: Tally;
  readonly signal?: AbortSignal | undefined;
  readonly onEvent?: ((event: AskEvent) => void) | undefined;
  /** the run's time, ms since 1970; default: now */
  readonly nowMs?: number | undefined;
  /** records are wanted as rows alone: where that can be, no objects are made of them */
  readonly onlyRows?: boolean | undefined;
  /** the shape that makes rows of them, once it is there */
  readonly shape?: (() => Shape | undefined) | undefined;
}

/** A page that was asked for, or a piece of one that is kept aside. */
export interface AskedPage extends PageRead {
  readonly body: unknown;
  readonly response: HttpResponse;
  /** where it began; the size may be smaller than asked for first */
  readonly position: PagePosition;
  /** nothing of the same response follows; `received` then counts all of its records */
  readonly isLast: boolean;
}

export class Asker {
  readonly nowMs: number;
  /** the first request for a page of the stream, in words */
  firstAsked: string | undefined;
  /** page sizes that the API takes, where it refused the one asked for first */
  private readonly sizes = new Map<CompiledRequest, number>();
  /** requests whose responses have told of a next page where the connector says that they do */
  private readonly placesSeen = new Set<CompiledRequest>();
  /** null: the stream's records have to be seen whole */
  private outliner: Outliner | null | undefined;
  private readonly concealed: readonly Concealed[];
  /** the same for a response that holds a piece of a record only: a path may have begun outside it */
  private readonly concealedInPieces: readonly Concealed[];
  /** the service takes no requests in batches */
  refusesBatches = false;
  /** the service takes no query in a body, though its version has it */
  private bodiesRefused = false;
  /** requests that have given a list of records */
  private readonly listsSeen = new Set<CompiledRequest>();

  constructor(
    readonly shared: AccountParts,
    readonly stream: CompiledStream,
    readonly options: AskOptions,
  ) {
    this.nowMs = options.nowMs ?? shared.clock.now();
    this.concealed = concealedPaths(stream.columns);
    this.concealedInPieces = this.concealed.flatMap(({ steps, conceal }) =>
      steps.map((_, i) => ({ steps: steps.slice(i), conceal })),
    );
  }

  /** The same run's way of asking for another stream. */
  async forStream(name: string): Promise<Asker> {
    const stream = await this.shared.stream(name);
    const { bridged = (of: CompiledStream) => of } = this.options;
    return new Asker(this.shared, bridged(stream), { ...this.options, nowMs: this.nowMs });
  }

  where(part: Part = WHOLE_STREAM, page?: number): Where {
    return {
      account: this.shared.account.name,
      stream: this.stream.name,
      part: part.key === "" ? undefined : part.key,
      page,
    };
  }

  /** The values that every request may use. */
  baseValues(): TemplateValues {
    const now = formatMoment(this.nowMs * 1000, "date_time");
    return { ...this.shared.account.values, now, today: now.slice(0, 10) };
  }

  /** A first position with the page size that the API is known to take. */
  ofKnownSize(of: CompiledRequest, position: PagePosition): PagePosition {
    const size = this.sizes.get(of);
    return size === undefined || position.at === "link" ? position : { ...position, size };
  }

  noteSize(of: CompiledRequest, refused: number | undefined, taken: number | undefined): void {
    if (taken === undefined || (this.sizes.get(of) ?? Number.POSITIVE_INFINITY) <= taken) return;
    this.sizes.set(of, taken);
    this.notice(`The API refuses pages of ${refused} records: ${taken} are asked for instead.`);
  }

  noteSeenPlaces(of: CompiledRequest): void {
    this.placesSeen.add(of);
  }

  /** Whether the place that tells of a next page is known to be right. */
  hasSeenPlaces(of: CompiledRequest): boolean {
    return this.placesSeen.has(of);
  }

  wait(ms: number): Promise<void> {
    const { clock } = this.shared;
    return whileWaiting(this.options.tally, clock, () => clock.sleep(ms, this.options.signal));
  }

  notice(message: string): void {
    this.options.onEvent?.({ type: "notice", message });
  }

  /** Sends a request and reads its response, with all retries. */
  send<T>(
    request: ApiRequest,
    of: CompiledRequest,
    read: (response: HttpResponse) => T,
    where: Where,
  ): Promise<T> {
    const { tally, signal, onEvent } = this.options;
    const { group, cost } = this.stream.definition.rate_limit ?? {};
    const charge = { lane: this.stream.name, group, cost };
    // a rule that looks into the body needs all of it in memory
    const long = of.plan.decoder.inPieces && of.fails.every(({ readsBody }) => !readsBody);
    const asked = { ...request, spoolAbove: long ? SPOOL_ABOVE : undefined };
    return this.shared.exchange.ask(asked, read, {
      where,
      tally,
      signal,
      onEvent,
      charge,
      fails: of.fails,
      concealed: of === this.stream.request ? this.concealed : this.concealedInPieces,
    });
  }

  /** A response as a page; one that is in a file is read later, piece by piece. */
  read(
    response: HttpResponse,
    of: CompiledRequest,
    position: PagePosition = { at: "start" },
    values: TemplateValues = {},
  ): AskedPage {
    const { spool, headers } = response;
    if (spool === undefined) {
      const page = this.readKnown(response, of, values);
      this.listsSeen.add(of);
      return { ...page, response, position, isLast: true };
    }
    const envelope = readEnvelope(undefined, headers, of.plan);
    const empty = pageOfRecords([], spool.size);
    return { ...empty, envelope, body: undefined, response, position, isLast: false };
  }

  /** The first page is looked at whole: what is wrong with all of its records is a mistake in the connector. */
  private expressOf(of: CompiledRequest, values: TemplateValues): Express | undefined {
    const { stream, options, shared } = this;
    if (options.onlyRows !== true || shared.readsPlainly || of !== stream.request || !this.listsSeen.has(of))
      return undefined;
    if (this.outliner === undefined) {
      const plan = outlinePlan(stream);
      this.outliner = plan === undefined ? null : new Outliner(plan);
    }
    if (this.outliner === null) return undefined;
    const news = addedFields(stream.definition.add, values);
    const { where, compute } = stream;
    const keeps = where === undefined || compute.length > 0 ? undefined : keepsBy(where, news);
    return { outliner: this.outliner, shape: options.shape?.(), news, keeps };
  }

  /** Where lists have come before, a response without one is a fault of the moment, and no mistake of the connector. */
  private readKnown(
    response: HttpResponse,
    of: CompiledRequest,
    values: TemplateValues,
  ): ReturnType<typeof readPage> {
    try {
      const body = this.shared.unpackFile(response.body);
      return readPage({ ...response, body }, of.plan, {}, this.expressOf(of, values));
    } catch (error) {
      if (!isBridgeError(error, "RECORDS_NOT_FOUND") || !this.listsSeen.has(of)) throw error;
      const message = `A response is of another form than those before it. ${error.message}`;
      throw new BridgeError("RESPONSE_UNLIKE", message, { where: error.where, cause: error });
    }
  }

  /** A page in pieces, where it is kept aside; else as it is. */
  async *pieces(
    page: AskedPage,
    of: CompiledRequest,
    values: TemplateValues,
    where: Where,
  ): AsyncGenerator<AskedPage> {
    const { spool } = page.response;
    if (spool === undefined) return yield page;
    const { envelope } = page;
    let received = 0;
    let held: PageRead | undefined;
    for await (const piece of spool.pieces(of.plan.decoder, where)) {
      if (held !== undefined) yield { ...page, ...held, envelope, bytes: 0 };
      held = this.readPiece(piece, of, values, where);
      received += held.received;
    }
    const last = held ?? pageOfRecords([], 0);
    yield { ...page, ...last, envelope, bytes: spool.size, received, isLast: true };
  }

  private readPiece(
    { bytes, decoder, linesBefore }: SpoolPiece,
    of: CompiledRequest,
    values: TemplateValues,
    where: Where,
  ): PageRead {
    const express = decoder === of.plan.decoder ? this.expressOf(of, values) : undefined;
    try {
      const { body: _, ...page } = readPage(
        { body: bytes, headers: {} },
        { ...of.plan, decoder },
        where,
        express,
      );
      this.listsSeen.add(of);
      return page;
    } catch (error) {
      if (linesBefore === 0 || !isBridgeError(error, "BODY_UNREADABLE")) throw error;
      throw error.saying(
        `${error.message} (Its lines are counted from line ${linesBefore + 1} of the file on.)`,
      );
    }
  }

  /** One page of a request, at a position. */
  page(
    of: CompiledRequest,
    position: PagePosition,
    values: TemplateValues,
    parameters: Parameters,
    where: Where,
    pageUrl: string | undefined,
  ): Promise<AskedPage> {
    const request = this.planned(of, position, values, parameters, where, pageUrl);
    if (of === this.stream.request) this.firstAsked ??= `${request.method} ${request.url}`;
    const isOwn = position.at !== "link" && of.takesQueryInBody === true;
    const read = (response: HttpResponse) => this.read(response, of, position, values);
    return isOwn && request.url.length > LONGEST_ADDRESS
      ? this.sendLong(request, of, read, where)
      : this.send(request, of, read, where);
  }

  /** The request for a page. @throws BridgeError LINK_NOT_OURS */
  planned(
    of: CompiledRequest,
    position: PagePosition,
    values: TemplateValues,
    parameters: Parameters,
    where: Where,
    pageUrl: string | undefined,
  ): ApiRequest {
    const { account, headers } = this.shared;
    const base = of.base ?? account.baseUrl;
    const link =
      position.at === "link"
        ? resolveLink(position.link, pageUrl ?? `${base}/`, account.origins, where)
        : undefined;
    const said = [parameters, of.pages.parameters(position)];
    return planRequest(
      base,
      of.template,
      { ...headers, accept: headers.accept ?? ACCEPT[of.plan.decoder.kind] },
      { ...(of.addressValues?.(values) ?? values), ...of.pages.values(position) },
      of.joinParameters?.(said, values) ?? Object.assign({}, ...said),
      link,
    );
  }

  /** With its query in a body; to a service that takes none, without what makes it long. */
  private async sendLong<T>(
    request: ApiRequest,
    of: CompiledRequest,
    read: (response: HttpResponse) => T,
    where: Where,
  ): Promise<T> {
    if (this.bodiesRefused) return this.send(withoutSelect(request), of, read, where);
    try {
      return await this.send(queryInBody(request), of, read, where);
    } catch (error) {
      const isRefused = isBridgeError(error, "REQUEST_REFUSED") || isBridgeError(error, "NOT_FOUND");
      if (!isRefused || withoutSelect(request).url === request.url) throw error;
      this.bodiesRefused = true;
      this.notice(
        "The service takes no query in a body: all properties are asked for, not only those that are wanted.",
      );
      return this.send(withoutSelect(request), of, read, where);
    }
  }
}
