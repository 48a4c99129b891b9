/**
 * The pace of one account: when the next request may go. A pure state machine; the clock is passed in.
 *
 *   waitMs(now) ──▶ 0: take(now), it is counted   ──▶ … ──▶ received(ticket, told, now) or refused(ticket, now)
 *               └─▶ ms to wait, or Infinity: until another request has come back
 *
 * Each limit is a sliding window over the last requests. The API counts a request when it arrives, which is after
 * it was sent and before the answer came: a place in the window becomes free one window after the latest moment
 * the request can have arrived, so the API never sees more than it permits.
 */

import { LearnedLimit } from "./learned-limit.js";
import type { LimitsTold } from "./limit-headers.js";
import { type Sent, SlidingWindow } from "./sliding-window.js";

export interface PaceLimits {
  readonly perSecond?: number | undefined;
  readonly perMinute?: number | undefined;
  readonly perHour?: number | undefined;
  readonly perDay?: number | undefined;
  /** requests under way at the same time */
  readonly atOnce: number;
}

/** A request that is not answered by then is taken to be at work there: it has arrived. In ms. */
const MOST_LAG_MS = 2000;
const SECOND_MS = 1000;
const MINUTE_MS = 60_000;
const HOUR_MS = 3_600_000;
const DAY_MS = 86_400_000;

export type PaceTicket = Sent;

export class Pace {
  private readonly windows: SlidingWindow[] = [];
  /** what is learned from refusals, while neither the connector nor the API tells a limit */
  private learned: LearnedLimit | undefined;
  private heldUntilMs = 0;
  private underWay = 0;
  private remaining: number | undefined;

  constructor(private readonly limits: PaceLimits) {
    if (limits.perSecond !== undefined) this.addWindow(limits.perSecond, SECOND_MS);
    if (limits.perMinute !== undefined) this.addWindow(limits.perMinute, MINUTE_MS);
    if (limits.perHour !== undefined) this.addWindow(limits.perHour, HOUR_MS);
    if (limits.perDay !== undefined) this.addWindow(limits.perDay, DAY_MS);
    if (this.windows.length === 0) this.learned = new LearnedLimit();
  }

  /** What the API said last of the requests left; undefined when it says nothing. */
  get left(): number | undefined {
    return this.remaining;
  }

  /** Milliseconds until a request may go; 0: now (then call `take`); Infinity: when one has come back. */
  waitMs(nowMs: number, cost = 1): number {
    if (this.underWay >= this.limits.atOnce) return Number.POSITIVE_INFINITY;
    let until = Math.max(this.heldUntilMs, this.learned?.freeAtMs(cost, nowMs) ?? 0);
    for (const window of this.windows) until = Math.max(until, window.freeAtMs(cost, nowMs));
    return Math.max(0, until - nowMs);
  }

  /** Counts a request that goes now. */
  take(nowMs: number, cost = 1): PaceTicket {
    const sent: Sent = { sentMs: nowMs, cost, arrivedMs: nowMs + MOST_LAG_MS, open: true };
    for (const window of this.windows) window.add(sent);
    this.learned?.take(sent);
    this.underWay++;
    return sent;
  }

  /** The answer came, or the request failed (nothing is told then). */
  received(ticket: PaceTicket, nowMs: number, told: LimitsTold | undefined): void {
    if (!this.close(ticket, nowMs)) return;
    if (told === undefined) return;
    this.learn(told, ticket.sentMs, nowMs);
    this.learned?.answered(ticket, nowMs);
  }

  /** The API answered 429: nobody goes before the time it names, or before a back-off of ours. */
  refused(ticket: PaceTicket, nowMs: number, told: LimitsTold): void {
    if (!this.close(ticket, nowMs)) return;
    this.learn(told, ticket.sentMs, nowMs);
    // "at once" (0) says that no limit was reached
    const ownMs =
      told.retryAfterMs === 0 ? 0 : (this.learned?.refused(ticket, nowMs, told.retryAfterMs) ?? SECOND_MS);
    this.holdUntil(nowMs + (told.retryAfterMs ?? told.resetMs ?? ownMs));
  }

  /** Nothing goes before this moment. */
  holdUntil(atMs: number): void {
    this.heldUntilMs = Math.max(this.heldUntilMs, atMs);
  }

  /** Requests of earlier runs, which count in the limits of an hour and longer. */
  noteEarlier(atMs: number, count: number): void {
    const sent: Sent = { sentMs: atMs, cost: count, arrivedMs: atMs, open: false };
    for (const window of this.windows) if (window.windowMs >= HOUR_MS) window.add(sent);
  }

  private close(ticket: PaceTicket, nowMs: number): boolean {
    if (!ticket.open) return false;
    ticket.open = false;
    this.underWay--;
    ticket.arrivedMs = Math.min(ticket.arrivedMs, nowMs);
    return true;
  }

  private learn(told: LimitsTold, sentMs: number, nowMs: number): void {
    const { limit, windowMs, remaining, resetMs } = told;
    if (remaining !== undefined) this.remaining = remaining;
    if (limit !== undefined && limit >= 1 && windowMs !== undefined && windowMs > 0) {
      const known = this.windows.find((window) => window.windowMs === windowMs);
      if (known === undefined) this.addWindow(limit, windowMs);
      else known.limit = Math.min(known.limit, Math.floor(limit));
      this.learned = undefined;
    }
    if (remaining === undefined || remaining > 0 || resetMs === undefined) return;
    // Nothing was left when the request was counted. Where our own windows explain that, they know better when the
    // next place is free; else others use the same limit, or its window is not known: wait until it begins anew.
    const explained = this.windows.some((window) => window.countAt(sentMs) >= window.limit);
    if (!explained) this.holdUntil(nowMs + resetMs);
  }

  /** A rate below one per window becomes one per a longer window. */
  private addWindow(limit: number, windowMs: number): void {
    if (limit >= 1) this.windows.push(new SlidingWindow(Math.floor(limit), windowMs));
    else this.windows.push(new SlidingWindow(1, windowMs / limit));
  }
}
