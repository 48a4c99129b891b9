/**
 * One exchange with an API: `retry( sign( pace( send ) ) )`. The answer is read inside the retry, for a body that
 * cannot be read is a failure like any other.
 */

import { type BridgeError, isBridgeError, type Where } from "../core/errors.js";
import { readLimits, retryAfter } from "../core/pace/limit-headers.js";
import type { Redactor } from "../core/redact.js";
import type { PaceGate } from "./pace-gate.js";
import { type RetryParts, withRetries } from "./retry.js";
import { checkStatus } from "./status-errors.js";
import type { HttpRequest, HttpResponse, Send } from "./transport.js";

/** Counts of one stream's requests; the exchange adds to it. */
export interface Tally {
  requests: number;
  retries: number;
  /** waiting for the pace or before a retry */
  waitedMs: number;
  bytes: number;
}

export function newTally(): Tally {
  return { requests: 0, retries: 0, waitedMs: 0, bytes: 0 };
}

/** What an exchange tells while it goes on. */
export type ExchangeEvent =
  | { readonly type: "waiting"; readonly reason: "pace" | "api asked"; readonly ms: number }
  | { readonly type: "retry"; readonly attempt: number; readonly ms: number; readonly why: string };

export interface ExchangeContext {
  readonly where: Where;
  readonly tally: Tally;
  readonly signal?: AbortSignal | undefined;
  readonly onEvent?: ((event: ExchangeEvent) => void) | undefined;
}

/** Adds credentials, and sends again with new ones after a 401. */
export type Signer = (next: Send) => Send;

export interface ExchangeParts extends RetryParts {
  readonly send: Send;
  readonly sign: Signer;
  readonly gate: PaceGate;
  readonly redactor: Redactor;
}

export type Exchange = <T>(
  request: HttpRequest,
  read: (response: HttpResponse) => T,
  context: ExchangeContext,
) => Promise<T>;

/** Joins the parts into an exchange for one account. */
export function createExchange(parts: ExchangeParts): Exchange {
  const { clock, gate } = parts;
  /** addresses that have given a good answer: what fails there later is a passing fault */
  const answered = new Set<string>();
  return async (request, read, context) => {
    const { tally, signal, onEvent } = context;
    const paced: Send = async (signed) => {
      const entered = await gate.enter(signal, (ms, reason) => onEvent?.({ type: "waiting", reason, ms }));
      tally.waitedMs += entered.ms;
      tally.requests++;
      try {
        const response = await parts.send(signed);
        gate.leave(entered.ticket, readLimits(response.headers, clock.now()));
        if (response.status === 429)
          gate.refused(retryAfter(response.headers["retry-after"], clock.now()) ?? 1000);
        tally.bytes += response.body.length;
        return response;
      } catch (error) {
        gate.leave(entered.ticket, undefined);
        throw error;
      }
    };
    const send = parts.sign(paced);
    const where = { ...context.where, request: parts.redactor.hide(`${request.method} ${request.url}`) };
    const attempt = async () => {
      const response = checkStatus(await send({ ...request, signal }), parts.redactor, clock.now());
      const value = read(response);
      answered.add(addressOf(request));
      return value;
    };
    const onRetry = (waitMs: number, error: BridgeError, tries: number) => {
      tally.retries++;
      tally.waitedMs += waitMs;
      onEvent?.({ type: "retry", attempt: tries, ms: waitMs, why: parts.redactor.hide(error.message) });
    };
    const isDoubtful = (error: BridgeError) =>
      (looksMisdirected(error) && !answered.has(addressOf(request))) ||
      (isUnreached(error) && answered.size === 0);
    try {
      return await withRetries(attempt, parts, { signal, isDoubtful, onRetry });
    } catch (error) {
      throw isBridgeError(error) ? error.at(where).saying(parts.redactor.hide(error.message)) : error;
    }
  };
}

function addressOf({ url }: HttpRequest): string {
  return url.split("?")[0]!;
}

/** A web page, or something else that is no JSON: mostly a wrong address, now and then a passing fault. */
function looksMisdirected(error: BridgeError): boolean {
  return error.code === "BODY_HTML" || error.code === "BODY_NOT_JSON";
}

function isUnreached(error: BridgeError): boolean {
  return error.code === "CONNECTION_REFUSED" || error.code === "HOST_UNKNOWN" || error.code === "TIMED_OUT";
}
