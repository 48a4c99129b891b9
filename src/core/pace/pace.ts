/**
 * The pace of one account: when the next request may go. A pure state machine; the clock is passed in.
 *
 *   take(now) ──▶ 0: go, and it is counted   ──▶ … ──▶ received(ticket, told, now)
 *             └─▶ ms to wait, or Infinity: until another request has come back
 *
 * Each limit is a sliding window over the last requests. The API counts a request when it arrives, which is after
 * it was sent and before the answer came: a place in the window becomes free one window after the latest moment
 * the request can have arrived, so the API never sees more than it permits.
 */

import type { LimitsTold } from "./limit-headers.js";

export interface PaceLimits {
  readonly perSecond?: number | undefined;
  readonly perMinute?: number | undefined;
  /** requests under way at the same time */
  readonly atOnce: number;
}

/** A request that is not answered by then is taken to be at work there: it has arrived. In ms. */
const MOST_LAG_MS = 2000;

interface Sent {
  readonly sentMs: number;
  /** the latest moment the request can have arrived at the API, as far as is known */
  arrivedMs: number;
  open: boolean;
}

export type PaceTicket = Sent;

interface Window {
  limit: number;
  readonly windowMs: number;
  /** the last `limit` requests, oldest first */
  readonly sent: Sent[];
}

export class Pace {
  private readonly windows: Window[] = [];
  private heldUntilMs = 0;
  private underWay = 0;
  private remaining: number | undefined;

  constructor(private readonly limits: PaceLimits) {
    if (limits.perSecond !== undefined) this.addWindow(limits.perSecond, 1000);
    if (limits.perMinute !== undefined) this.addWindow(limits.perMinute, 60_000);
  }

  /** What the API said last of the requests left; undefined when it says nothing. */
  get left(): number | undefined {
    return this.remaining;
  }

  /** Milliseconds until a request may go; 0: now (then call `take`); Infinity: when one has come back. */
  waitMs(nowMs: number): number {
    if (this.underWay >= this.limits.atOnce) return Number.POSITIVE_INFINITY;
    let until = this.heldUntilMs;
    for (const window of this.windows) {
      const oldest = window.sent[window.sent.length - window.limit];
      if (oldest !== undefined) until = Math.max(until, oldest.arrivedMs + window.windowMs);
    }
    return Math.max(0, until - nowMs);
  }

  /** Counts a request that goes now. */
  take(nowMs: number): PaceTicket {
    const sent: Sent = { sentMs: nowMs, arrivedMs: nowMs + MOST_LAG_MS, open: true };
    for (const window of this.windows) {
      window.sent.push(sent);
      if (window.sent.length > window.limit) window.sent.shift();
    }
    this.underWay++;
    return sent;
  }

  /** The answer came, or the request failed. */
  received(ticket: PaceTicket, nowMs: number, told: LimitsTold | undefined): void {
    if (!ticket.open) return;
    ticket.open = false;
    this.underWay--;
    ticket.arrivedMs = Math.min(ticket.arrivedMs, nowMs);
    if (told !== undefined) this.learn(told, ticket.sentMs, nowMs);
  }

  /** Nothing goes before this moment, because the API said so. */
  holdUntil(atMs: number): void {
    this.heldUntilMs = Math.max(this.heldUntilMs, atMs);
  }

  private learn(told: LimitsTold, sentMs: number, nowMs: number): void {
    const { limit, windowMs, remaining, resetMs } = told;
    if (remaining !== undefined) this.remaining = remaining;
    if (limit !== undefined && limit >= 1 && windowMs !== undefined && windowMs > 0) {
      const known = this.windows.find((window) => window.windowMs === windowMs);
      if (known === undefined) this.addWindow(limit, windowMs);
      else known.limit = Math.min(known.limit, Math.floor(limit));
    }
    if (remaining === undefined || remaining > 0 || resetMs === undefined) return;
    // Nothing was left when the request was counted. Where our own windows explain that, they know better when the
    // next place is free; else others use the same limit, or its window is not known: wait until it begins anew.
    const explained = this.windows.some((window) => this.ownCount(window, sentMs) >= window.limit);
    if (!explained) this.holdUntil(nowMs + resetMs);
  }

  private ownCount(window: Window, atMs: number): number {
    return window.sent.filter((sent) => sent.arrivedMs + window.windowMs > atMs).length;
  }

  /** A rate below one per window becomes one per a longer window. */
  private addWindow(limit: number, windowMs: number): void {
    if (limit >= 1) this.windows.push({ limit: Math.floor(limit), windowMs, sent: [] });
    else this.windows.push({ limit: 1, windowMs: windowMs / limit, sent: [] });
  }
}
