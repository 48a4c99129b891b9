/**
 * The pace of one account: when the next request may go. A pure state machine; the clock is passed in.
 *
 *   waitMs(now) ──▶ 0: take(now), it is counted   ──▶ … ──▶ received(ticket, reported, now) or refused(ticket, now)
 *               └─▶ ms to wait, or Infinity: until another request has come back
 *
 * Each limit is a sliding window over the last requests. The API counts a request when it arrives, which is after
 * it was sent and before the response came: a place in the window becomes free one window after the latest moment
 * the request can have arrived, so the API never sees more than it permits.
 */

import { LearnedLimit } from "./learned-limit.js";
import type { ReportedLimits } from "./limit-headers.js";
import { type Sent, SlidingWindow } from "./sliding-window.js";

/** What an API allows, as its documentation tells it. */
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
/** Requests remembered where the API tells what is left: a limit of more is not used up within one of its windows. */
const MOST_RECENT = 20_000;
const SECOND_MS = 1000;
const MINUTE_MS = 60_000;
const HOUR_MS = 3_600_000;
const DAY_MS = 86_400_000;

export type PaceTicket = Sent;

/** What an API says is left until a moment, and what it is likely to give then. */
interface Budget {
  left: number;
  untilMs: number;
}

/** Keeps limits by requests per time and by requests under way; pure, the clock is passed in. */
export class Pace {
  private readonly windows: SlidingWindow[] = [];
  /** what is learned from refusals, while neither the connector nor the API tells a limit */
  private learned: LearnedLimit | undefined;
  private heldUntilMs = 0;
  private underWay = 0;
  private remaining: number | undefined;
  /** where the API tells what is left, and in no window: those under way count as used */
  private budget: Budget | undefined;
  /** the most that was ever left, the longest time to a reset, and what was sent in that time */
  private mostLeft = 0;
  private longestMs = 0;
  private recent: Sent[] = [];
  /** the share of a request's time that lies behind the moment when its limit was counted, as far as is known */
  private countedEarly = 0.9;
  private refusedMs = 0;

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
    const { learned, budget } = this;
    const most = Math.min(this.limits.atOnce, learned?.mostAtOnce ?? Number.POSITIVE_INFINITY);
    if (this.underWay >= most) return Number.POSITIVE_INFINITY;
    let until = Math.max(this.heldUntilMs, learned?.freeAtMs(nowMs) ?? 0);
    if (budget !== undefined && nowMs < budget.untilMs && budget.left < cost)
      until = Math.max(until, budget.untilMs);
    for (const window of this.windows) until = Math.max(until, window.freeAtMs(cost, nowMs));
    return Math.max(0, until - nowMs);
  }

  /** Counts a request that goes now. */
  take(nowMs: number, cost = 1): PaceTicket {
    const among = ++this.underWay;
    const sent: Sent = { sentMs: nowMs, cost, arrivedMs: nowMs + MOST_LAG_MS, open: true, among };
    for (const window of this.windows) window.add(sent);
    this.learned?.take(sent);
    const { budget } = this;
    if (budget !== undefined) {
      // until a response tells, what was not used in the longest time to a reset is taken to be there
      if (nowMs >= budget.untilMs)
        this.budget = {
          left: Math.max(cost, this.mostLeft - this.sentSince(nowMs - this.longestMs)),
          untilMs: nowMs + SECOND_MS,
        };
      this.budget!.left -= cost;
      this.recent.push(sent);
      if (this.recent.length > MOST_RECENT) this.recent.splice(0, MOST_RECENT / 2);
    }
    return sent;
  }

  /** The request goes out only now: a token had to be fetched for it first. */
  departed(ticket: PaceTicket, nowMs: number): void {
    if (!ticket.open) return;
    ticket.sentMs = nowMs;
    ticket.arrivedMs = nowMs + MOST_LAG_MS;
  }

  /** The response came, or the request failed (nothing is told then). */
  received(ticket: PaceTicket, nowMs: number, reported: ReportedLimits | undefined): void {
    if (!this.close(ticket, nowMs)) return;
    if (reported === undefined) return;
    this.learn(reported, ticket, nowMs);
    this.learned?.answered(ticket, nowMs);
  }

  /** The API answered 429: nobody goes before the time it names, or before a back-off of ours. */
  refused(ticket: PaceTicket, nowMs: number, reported: ReportedLimits): void {
    if (!this.close(ticket, nowMs)) return;
    // the limit was not free yet when it was taken to be
    if (ticket.sentMs > this.refusedMs) this.countedEarly = Math.max(0, this.countedEarly - 0.1);
    this.refusedMs = nowMs;
    this.learn(reported, { ...ticket, cost: 0 }, nowMs);
    const namedMs = reported.retryAfterMs ?? reported.resetMs;
    this.holdUntil(nowMs + (this.learned?.refused(ticket, nowMs, namedMs) ?? namedMs ?? SECOND_MS));
  }

  /** Nothing goes before this moment. */
  holdUntil(atMs: number): void {
    this.heldUntilMs = Math.max(this.heldUntilMs, atMs);
  }

  /** Requests of earlier runs, which count in the limits of an hour and longer. */
  noteEarlier(atMs: number, count: number): void {
    const sent: Sent = { sentMs: atMs, cost: count, arrivedMs: atMs, open: false, among: 1 };
    for (const window of this.windows) if (window.windowMs >= HOUR_MS) window.add(sent);
  }

  /** What was sent after a moment, where the API tells what is left. */
  private sentSince(atMs: number): number {
    const first = this.recent.findIndex(({ sentMs }) => sentMs > atMs);
    this.recent = first < 0 ? [] : this.recent.slice(first);
    return this.recent.reduce((sum, { cost }) => sum + cost, 0);
  }

  private close(ticket: PaceTicket, nowMs: number): boolean {
    if (!ticket.open) return false;
    ticket.open = false;
    this.underWay--;
    ticket.arrivedMs = Math.min(ticket.arrivedMs, nowMs);
    return true;
  }

  /** `cost`: what the request counted in the limits; 0 where it was refused. */
  private learn(
    reported: ReportedLimits,
    { sentMs, cost }: Pick<Sent, "sentMs" | "cost">,
    nowMs: number,
  ): void {
    const { limit, windowMs, remaining, resetMs } = reported;
    if (remaining !== undefined) this.remaining = remaining;
    if (limit !== undefined && limit >= 1 && windowMs !== undefined && windowMs > 0) {
      const known = this.windows.find((window) => window.windowMs === windowMs);
      if (known === undefined) this.addWindow(limit, windowMs);
      else known.limit = Math.min(known.limit, Math.floor(limit));
      this.learned = undefined;
    }
    if (remaining === undefined || resetMs === undefined) return;
    if (this.windows.length === 0) {
      this.learned = undefined;
      this.mostLeft = Math.max(this.mostLeft, limit ?? remaining + cost);
      this.longestMs = Math.max(this.longestMs, resetMs);
      // those under way may not be counted yet; as they come back, what they tell sets it right
      const untilMs = nowMs - (nowMs - sentMs) * this.countedEarly + resetMs;
      this.budget = { left: remaining - this.underWay, untilMs };
      return;
    }
    if (remaining > 0) return;
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
