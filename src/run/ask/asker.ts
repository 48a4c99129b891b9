/** One stream's way of asking in one run: its values, headers and place, and one request at a time. */

import type { PagePosition } from "../../core/ask/page-position.js";
import { type Part, WHOLE_STREAM } from "../../core/ask/parts.js";
import { type PageRead, readPage } from "../../core/ask/read-page.js";
import { type ApiRequest, type Parameters, planRequest, resolveLink } from "../../core/ask/request-plan.js";
import type { TemplateValues } from "../../core/ask/template.js";
import type { Clock } from "../../core/clock.js";
import type { CompiledRequest, CompiledStream } from "../../core/define/compile-stream.js";
import type { Account } from "../../core/define/connector.js";
import type { Connector } from "../../core/define/connector-schema.js";
import type { Where } from "../../core/errors.js";
import { formatMoment } from "../../core/track/cursor.js";
import type { Exchange, ExchangeEvent, Tally } from "../../http/exchange.js";
import type { HttpResponse } from "../../http/transport.js";

/** What all streams of an account share. */
export interface AccountParts {
  readonly connector: Connector;
  readonly account: Account;
  readonly exchange: Exchange;
  readonly clock: Clock;
  /** sent with every request */
  readonly headers: Readonly<Record<string, string>>;
  stream(name: string): CompiledStream;
  /** a file of the project, for values of a fan-out */
  readFile(path: string): Promise<Uint8Array>;
}

export type AskEvent = ExchangeEvent | { readonly type: "notice"; readonly message: string };

export interface AskOptions {
  readonly tally: Tally;
  readonly signal?: AbortSignal | undefined;
  readonly onEvent?: ((event: AskEvent) => void) | undefined;
  /** the run's time, ms since 1970; default: now */
  readonly nowMs?: number | undefined;
}

/** A page as the API gave it, with the address that it came from. */
export type RawPage = PageRead & { readonly body: unknown; readonly response: HttpResponse };

export class Asker {
  readonly nowMs: number;
  /** page sizes that the API takes, where it refused the one asked for first */
  private readonly sizes = new Map<CompiledRequest, number>();

  constructor(
    readonly shared: AccountParts,
    readonly stream: CompiledStream,
    readonly options: AskOptions,
  ) {
    this.nowMs = options.nowMs ?? shared.clock.now();
  }

  /** The same run's way of asking for another stream. */
  forStream(name: string): Asker {
    return new Asker(this.shared, this.shared.stream(name), { ...this.options, nowMs: this.nowMs });
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

  notice(message: string): void {
    this.options.onEvent?.({ type: "notice", message });
  }

  /** Sends a request and reads its answer, with all retries. */
  send<T>(
    request: ApiRequest,
    of: CompiledRequest,
    read: (response: HttpResponse) => T,
    where: Where,
  ): Promise<T> {
    const { tally, signal, onEvent } = this.options;
    const { group, cost } = this.stream.definition.pace ?? {};
    const charge = { lane: this.stream.name, group, cost };
    return this.shared.exchange.ask(request, read, {
      where,
      tally,
      signal,
      onEvent,
      charge,
      fails: of.fails,
    });
  }

  /** One page of a request, at a position. */
  page(
    of: CompiledRequest,
    position: PagePosition,
    values: TemplateValues,
    parameters: Parameters,
    where: Where,
    pageUrl: string | undefined,
  ): Promise<RawPage> {
    const { account, headers } = this.shared;
    const link =
      position.at === "link"
        ? resolveLink(position.link, pageUrl ?? `${account.baseUrl}/`, account.origins, where)
        : undefined;
    const request = planRequest(
      account.baseUrl,
      of.template,
      headers,
      { ...values, ...of.pages.values(position) },
      { ...parameters, ...of.pages.parameters(position) },
      link,
    );
    return this.send(request, of, (response) => ({ ...readPage(response, of.plan), response }), where);
  }
}
