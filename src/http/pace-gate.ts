/** The gate of one account: requests wait here in line until the pace lets them go. */

import pLimit from "p-limit";
import type { Clock } from "../core/clock.js";
import type { LimitsTold } from "../core/pace/limit-headers.js";
import { Pace, type PaceLimits, type PaceTicket } from "../core/pace/pace.js";

export interface Entered {
  readonly ticket: PaceTicket;
  /** how long the request waited, in ms */
  readonly ms: number;
}

/** Told when a request has to wait noticeably: for how long, and whether the API asked for it. */
export type OnWait = (ms: number, reason: "pace" | "api asked") => void;

export class PaceGate {
  private readonly pace: Pace;
  private readonly line = pLimit(1);
  private wake: (() => void) | undefined;
  private asked = false;

  constructor(
    limits: PaceLimits,
    private readonly clock: Clock,
  ) {
    this.pace = new Pace(limits);
  }

  /** Requests that the API said are left; undefined when it says nothing. */
  get left(): number | undefined {
    return this.pace.left;
  }

  /** Waits in line, first come first served. Rejects when the signal is aborted. */
  enter(signal: AbortSignal | undefined, onWait: OnWait): Promise<Entered> {
    const from = this.clock.now();
    return this.line(async () => {
      for (;;) {
        signal?.throwIfAborted();
        const wait = this.pace.waitMs(this.clock.now());
        if (wait <= 0) break;
        // short pauses are the pace itself; telling of each would only flicker
        if (wait >= 250 && wait !== Number.POSITIVE_INFINITY) onWait(wait, this.asked ? "api asked" : "pace");
        await this.pause(wait, signal);
      }
      this.asked = false;
      const now = this.clock.now();
      return { ticket: this.pace.take(now), ms: now - from };
    });
  }

  leave(ticket: PaceTicket, told: LimitsTold | undefined): void {
    this.pace.received(ticket, this.clock.now(), told);
    this.wake?.();
  }

  /** The API answered 429: everyone waits. */
  refused(waitMs: number): void {
    this.asked = true;
    this.pace.holdUntil(this.clock.now() + waitMs);
  }

  /** Sleeps, or until a request has come back where only that helps. */
  private async pause(wait: number, signal: AbortSignal | undefined): Promise<void> {
    if (wait !== Number.POSITIVE_INFINITY) return this.clock.sleep(Math.ceil(wait), signal);
    await new Promise<void>((resolve, reject) => {
      const stop = () => reject(signal?.reason);
      signal?.addEventListener("abort", stop, { once: true });
      this.wake = () => {
        signal?.removeEventListener("abort", stop);
        resolve();
      };
    });
    this.wake = undefined;
  }
}
