/**
 * One exchange with an API: `retry( record( pace( sign( send ) ) ) )`. A request is signed after its wait, for a token
 * may end meanwhile. The response is judged and read inside the retry, for a body that cannot be read is a failure like
 * any other.
 */

import { type FailRule, judge, unlikeInRule } from "../core/ask/fail-rules.js";
import { KeyDigests } from "../core/ask/key-digests.js";
import type { Clock } from "../core/clock.js";
import { parseBody } from "../core/decode/json.js";
import { BridgeError, isBridgeError, type Where } from "../core/errors.js";
import { type ReportedLimits, readLimits } from "../core/pace/limit-headers.js";
import { RETRY_DEFAULTS } from "../core/pace/retry-policy.js";
import type { Redactor } from "../core/redact.js";
import type { Concealed } from "../core/shape/concealed-values.js";
import { type Charge, type Entered, limitSpent, type PaceGate } from "./pace-gate.js";
import { type RetryParts, type RunBudget, withRetries } from "./retry.js";
import type { HttpRequest, HttpResponse, Send } from "./send.js";
import { checkStatus, isSignInPage } from "./status-errors.js";

/** Counts of one stream's requests; the exchange adds to it. */
export interface Tally {
  requests: number;
  retries: number;
  /** time in which some request waited for the pace or before a retry; several at once count once */
  waitedMs: number;
  bytes: number;
  /** requests that wait now, and since when the first of them does */
  waiting: number;
  waitingSinceMs: number;
}

export function newTally(): Tally {
  return { requests: 0, retries: 0, waitedMs: 0, bytes: 0, waiting: 0, waitingSinceMs: 0 };
}

/** Does something that is waiting, and notes how long it takes. */
export async function whileWaiting<T>(tally: Tally, clock: Clock, work: () => Promise<T>): Promise<T> {
  if (tally.waiting++ === 0) tally.waitingSinceMs = clock.now();
  try {
    return await work();
  } finally {
    if (--tally.waiting === 0) tally.waitedMs += clock.now() - tally.waitingSinceMs;
  }
}

/** What an exchange tells while it goes on. */
export type ExchangeEvent =
  | { readonly type: "waiting"; readonly reason: "pace" | "api_asked"; readonly ms: number }
  | { readonly type: "retry"; readonly attempt: number; readonly ms: number; readonly why: string }
  | { readonly type: "notice"; readonly message: string };

export interface ExchangeContext {
  readonly where: Where;
  readonly tally: Tally;
  readonly charge?: Charge | undefined;
  /** what responses mean beyond their status */
  readonly fails?: readonly FailRule[] | undefined;
  /** it is asked for on condition: that nothing has changed (304) is an answer */
  readonly mayBeUnchanged?: boolean | undefined;
  /** fields whose values stand in no recording: anywhere in the response where such a path begins */
  readonly concealed?: readonly Concealed[] | undefined;
  readonly signal?: AbortSignal | undefined;
  readonly onEvent?: ((event: ExchangeEvent) => void) | undefined;
}

/** Adds credentials, and sends again with new ones after a 401. */
export type Signer = (next: Send) => Send;

/** An exchange as it is recorded: before credentials were added, the response as it came. */
export interface RecordedExchange {
  readonly request: HttpRequest;
  readonly response: HttpResponse;
  readonly startedMs: number;
  readonly endedMs: number;
  readonly concealed: readonly Concealed[];
}

export interface ExchangeParts extends RetryParts {
  readonly send: Send;
  readonly sign: Signer;
  readonly gate: PaceGate;
  readonly redactor: Redactor;
  /** scopes that were granted, where that is known */
  readonly granted?: (() => string | undefined) | undefined;
  /** the API's own origins: redirects are followed within them only */
  readonly origins?: readonly string[] | undefined;
  readonly onRecord?: ((recorded: RecordedExchange) => void) | undefined;
}

/** A request, and whether it may be sent again after it may have arrived. */
export type ExchangeRequest = HttpRequest & { readonly repeatable?: boolean | undefined };

export interface Exchange {
  /** @throws BridgeError */
  ask<T>(request: ExchangeRequest, read: (response: HttpResponse) => T, context: ExchangeContext): Promise<T>;
  /** ms that the API's clock is behind ours, as far as its Date headers show; 0 where it is not */
  behindMs(): number;
  /** Begins the retry budget of a run anew. */
  beginRun(): void;
}

/** Joins the parts into an exchange for one account. */
export function createExchange(parts: ExchangeParts): Exchange {
  return new AccountExchange(parts);
}

class AccountExchange implements Exchange {
  /** addresses that have given a good response: what fails there later is a passing fault */
  private readonly answered = new KeyDigests();
  private behind = 0;
  /** rules that compare unlike kinds, and are said to */
  private readonly noticedRules = new Set<FailRule>();
  /** addresses that have moved for good, and are said to have */
  private readonly moved = new KeyDigests();
  private budget: RunBudget = { requests: 0, retries: 0 };

  constructor(private readonly parts: ExchangeParts) {}

  behindMs(): number {
    return this.behind;
  }

  beginRun(): void {
    this.budget = { requests: 0, retries: 0 };
  }

  async ask<T>(
    request: ExchangeRequest,
    read: (response: HttpResponse) => T,
    context: ExchangeContext,
  ): Promise<T> {
    const { parts } = this;
    const { tally, signal, onEvent } = context;
    const send = this.recorded(this.paced(context), context);
    const where = { ...context.where, request: parts.redactor.hide(`${request.method} ${request.url}`) };
    let refusedOnce = false;
    const attempt = async (): Promise<T> => {
      try {
        const response = await send({ ...request, signal });
        const value = await readOrRelease(response, () => read(this.judged(response, context)));
        this.answered.add(addressOf(request), 1);
        return value;
      } catch (error) {
        // one refusal of good credentials may be a slip of the API's own
        if (isBridgeError(error, "TOKEN_REFUSED") && !refusedOnce && request.repeatable !== false) {
          refusedOnce = true;
          onRetry(0, error, 1);
          return attempt();
        }
        throw request.repeatable === false ? onceOnly(error) : error;
      }
    };
    const onRetry = (waitMs: number, error: BridgeError, tries: number) => {
      tally.retries++;
      onEvent?.({ type: "retry", attempt: tries, ms: waitMs, why: parts.redactor.hide(error.message) });
    };
    const isDoubtful = (error: BridgeError) =>
      (looksMisdirected(error) && !this.answered.has(addressOf(request))) ||
      (isUnreached(error) && this.answered.size === 0);
    try {
      const sleep = (ms: number) => whileWaiting(tally, parts.clock, () => parts.clock.sleep(ms, signal));
      return await withRetries(attempt, parts, { signal, sleep, isDoubtful, onRetry, budget: this.budget });
    } catch (error) {
      if (!isBridgeError(error)) throw error;
      throw this.impatient(error).at(where).saying(parts.redactor.hide(error.message));
    }
  }

  /** A wait that the API asks for, beyond all max_wait, ends the run instead. */
  private impatient(error: BridgeError): BridgeError {
    const waits = error.retryAfterMs ?? 0;
    const { retry, clock } = this.parts;
    const patient = waits <= (retry?.budgetMs ?? RETRY_DEFAULTS.budgetMs);
    return error.code !== "RATE_LIMITED" || patient ? error : limitSpent(clock.now() + waits);
  }

  /** Signs and sends when the pace permits, and learns from the response. */
  private paced({ tally, signal, onEvent, charge = {} }: ExchangeContext): Send {
    const { gate, sign, clock } = this.parts;
    const onWait = (ms: number, reason: "pace" | "api_asked") => onEvent?.({ type: "waiting", reason, ms });
    const enter = () => whileWaiting(tally, clock, () => gate.enter(charge, signal, onWait));
    return async (request) => {
      let entered: Entered | undefined = await enter();
      // a signer sends again, with a new token, what was refused by the old one: that counts as well
      const send: Send = async (signed) => {
        const mine = entered ?? (await enter());
        entered = undefined;
        return this.sendEntered(mine, signed, tally);
      };
      try {
        return await this.followed(request, sign(send), onEvent);
      } finally {
        if (entered !== undefined) gate.leave(entered, undefined);
      }
    };
  }

  /**
   * Follows redirects of a GET within the API's own origins (RFC 9110, section 15.4); each address is signed anew. One
   * to a page for people is left as it is: it says that nobody is signed in.
   */
  private async followed(
    request: HttpRequest,
    send: Send,
    onEvent: ExchangeContext["onEvent"],
  ): Promise<HttpResponse> {
    const { origins = [], redactor } = this.parts;
    let at = request;
    for (let hops = 0; ; hops++) {
      const response = await send(at);
      const to = redirectOf(at, response);
      if (to === undefined || hops === MOST_REDIRECTS || !origins.includes(to.origin)) return response;
      const from = addressOf(at);
      const isForGood = response.status === 301 || response.status === 308;
      if (isForGood && this.moved.add(from, 1) === "new") {
        const message = `${from} has moved to ${to.origin}${to.pathname} (${response.status}): write that address instead.`;
        onEvent?.({ type: "notice", message: redactor.hide(message) });
      }
      at = { ...at, url: to.href };
    }
  }

  private async sendEntered(entered: Entered, signed: HttpRequest, tally: Tally): Promise<HttpResponse> {
    const { gate, send, clock } = this.parts;
    gate.departed(entered);
    tally.requests++;
    this.budget.requests++;
    const sentMs = clock.now();
    try {
      const response = await send(signed);
      const reported = readLimits(response.headers, clock.now());
      if (response.status === 429) gate.refused(entered, reported);
      else gate.leave(entered, reported);
      this.noteClock(response, sentMs);
      tally.bytes += response.spool?.size ?? response.body.length;
      return response;
    } catch (error) {
      gate.leave(entered, undefined);
      throw error;
    }
  }

  private recorded(send: Send, { concealed = [] }: ExchangeContext): Send {
    const { onRecord, clock } = this.parts;
    if (onRecord === undefined) return send;
    return async (request) => {
      const startedMs = clock.now();
      // a recording holds whole bodies
      const response = await send({ ...request, spoolAbove: undefined });
      onRecord({ request, response, startedMs, endedMs: clock.now(), concealed });
      return response;
    };
  }

  /** The API's Date (RFC 9110, section 6.6.1) is cut to the second: it is behind when even its end is past. */
  private noteClock({ headers }: HttpResponse, sentMs: number): void {
    const date = Date.parse(headers.date ?? "");
    if (!Number.isNaN(date)) this.behind = date + 1000 < sentMs ? sentMs - date : 0;
  }

  /** The connector's rules go first, then the status. */
  private judged(
    response: HttpResponse,
    { fails = [], onEvent, mayBeUnchanged = false }: ExchangeContext,
  ): HttpResponse {
    if (mayBeUnchanged && response.status === 304) return response;
    const { redactor, clock } = this.parts;
    const answer = { ...response, body: () => bodyTree(response.body) };
    for (const rule of fails) {
      if (this.noticedRules.has(rule)) continue;
      const message = unlikeInRule(rule, answer);
      if (message === undefined) continue;
      this.noticedRules.add(rule);
      onEvent?.({ type: "notice", message });
    }
    const verdict = judge(fails, answer);
    const reported: ReportedLimits = readLimits(response.headers, clock.now());
    switch (verdict?.means) {
      case "retry":
        throw new BridgeError("RESPONSE_BUSY", `The API is not ready: ${verdict.why}`, {
          retryAfterMs: reported.retryAfterMs,
        });
      case "stop":
        throw new BridgeError("RESPONSE_FAILED", `The API says no (${response.status}): ${verdict.why}`);
      case "skip":
        throw new BridgeError("RESPONSE_SKIPPED", `Nothing is there: ${verdict.why}`);
      case "halve":
        throw new BridgeError("RESULTS_CUT", `The API gives no more at a time: ${verdict.why}`);
      default:
        return checkStatus(response, redactor, clock.now(), this.parts.granted?.());
    }
  }
}

/** Reads a response; one in a file that turns out to be none is let go. */
async function readOrRelease<T>(response: HttpResponse, read: () => T): Promise<T> {
  try {
    return read();
  } catch (error) {
    await response.spool?.close();
    throw error;
  }
}

/** What rules look into: JSON, or the text itself. */
function bodyTree(body: Uint8Array): unknown {
  try {
    return parseBody(body, {});
  } catch {
    return new TextDecoder().decode(body.subarray(0, 65_536));
  }
}

/** A request that may have been carried out must not be sent twice (RFC 9110, section 9.2.2). */
function onceOnly(error: unknown): unknown {
  if (!isBridgeError(error) || !error.retryable) return error;
  const neverArrived = ["CONNECTION_REFUSED", "HOST_UNKNOWN", "RATE_LIMITED", "RESPONSE_BUSY"];
  if (neverArrived.includes(error.code)) return error;
  return new BridgeError(error.code, error.message, {
    where: error.where,
    hint: "It may have been carried out, so it is not sent again; if it changes nothing, write safe_to_retry: true.",
    cause: error.cause,
    triedOut: true,
  });
}

const MOST_REDIRECTS = 5;
const REDIRECTS: readonly number[] = [301, 302, 303, 307, 308];

function redirectOf({ method, url }: HttpRequest, { status, headers }: HttpResponse): URL | undefined {
  const { location } = headers;
  if (method !== "GET" || !REDIRECTS.includes(status) || location === undefined) return undefined;
  if (isSignInPage(location) || !URL.canParse(location, url)) return undefined;
  return new URL(location, url);
}

function addressOf({ url }: HttpRequest): string {
  return url.split("?")[0]!;
}

/** A web page, or something else that is no JSON: mostly a wrong address, now and then a passing fault. */
function looksMisdirected(error: BridgeError): boolean {
  return ["BODY_HTML", "BODY_NOT_JSON", "BODY_UNREADABLE", "RESPONSE_UNLIKE"].includes(error.code);
}

function isUnreached(error: BridgeError): boolean {
  return error.code === "CONNECTION_REFUSED" || error.code === "HOST_UNKNOWN" || error.code === "TIMED_OUT";
}
