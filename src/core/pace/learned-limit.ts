/**
 * A limit that the API tells nothing of, learned from its refusals (429) alone.
 *
 *   no refusal yet     no limit but the requests at once
 *   first refusal      the limit is what was admitted in the window before it
 *   the next one       one less than was tried; three quarters of it where nothing was tried (multiplicative
 *                      decrease); a longer window where far less than the limit was sent
 *   a while without    one more is tried (additive increase); each refusal doubles that while
 */

import { type Sent, SlidingWindow } from "./sliding-window.js";

/** Windows that limits usually have, in ms. */
const WINDOWS_MS = [1000, 10_000, 60_000, 600_000, 3_600_000];
const FIRST_PROBE_MS = 5000;
const LAST_PROBE_MS = 600_000;
const FIRST_HOLD_MS = 250;

export class LearnedLimit {
  private readonly admitted: Sent[] = [];
  private step = 0;
  private window: SlidingWindow | undefined;
  private loweredMs = Number.NEGATIVE_INFINITY;
  private probeGapMs = FIRST_PROBE_MS;
  private nextProbeMs = 0;
  /** the limit was raised since the last refusal: the next one tells that this was too much */
  private raised = true;
  private inARow = 0;

  freeAtMs(cost: number, nowMs: number): number {
    return this.window?.freeAtMs(cost, nowMs) ?? 0;
  }

  take(sent: Sent): void {
    this.window?.add(sent);
  }

  /** An answer that was no refusal. */
  answered(sent: Sent, nowMs: number): void {
    this.inARow = 0;
    this.admitted.push(sent);
    if (this.admitted.length > 20_000) this.admitted.splice(0, 10_000);
    const { window } = this;
    if (window === undefined || nowMs < this.nextProbeMs) return;
    // only a limit that is used shows whether there is more
    if (window.countAt(nowMs) < window.limit * 0.9) return;
    window.limit += Math.max(1, Math.floor(window.limit * 0.02));
    this.nextProbeMs = nowMs + this.probeGapMs;
    this.raised = true;
  }

  /**
   * A refusal: ms that nothing is sent for, where the API names no time itself. A time that it does name shows how
   * long its window is at least.
   */
  refused(sent: Sent, nowMs: number, toldMs = 0): number {
    // several were under way together: they tell of one and the same event
    if (sent.sentMs <= this.loweredMs) return 0;
    const persists = this.inARow > 0;
    const hold = FIRST_HOLD_MS * 2 ** Math.min(this.inARow++, 8);
    const { raised } = this;
    this.raised = false;
    this.loweredMs = nowMs;
    this.probeGapMs = Math.min(LAST_PROBE_MS, this.probeGapMs * 2);
    this.nextProbeMs = nowMs + this.probeGapMs;
    const limit = this.window?.limit ?? Number.POSITIVE_INFINITY;
    const told = WINDOWS_MS.findIndex((windowMs) => windowMs >= toldMs);
    const widened = told > this.step;
    if (widened) this.step = told;
    let count = this.countBefore(sent.sentMs);
    if (widened) return this.restart(count, hold);
    // a lone refusal may mean anything: one that persists though little was sent means a longer window
    while (persists && count < limit / 2 && Number.isFinite(limit) && this.step < WINDOWS_MS.length - 1) {
      this.step++;
      count = this.countBefore(sent.sentMs);
      if (count >= limit / 2) return this.restart(count, hold);
    }
    const seen = Math.min(count, limit - 1);
    return this.restart(raised ? seen : Math.floor(seen * 0.75), hold);
  }

  private restart(limit: number, hold: number): number {
    const window = new SlidingWindow(Math.max(1, limit), WINDOWS_MS[this.step]!);
    for (const sent of this.admitted) window.add(sent);
    this.window = window;
    return hold;
  }

  /** Requests admitted in the window before a moment. */
  private countBefore(atMs: number): number {
    const from = atMs - WINDOWS_MS[this.step]!;
    let count = 0;
    for (const { arrivedMs, cost } of this.admitted) if (arrivedMs > from) count += cost;
    return count;
  }
}
