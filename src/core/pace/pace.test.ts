import fc from "fast-check";
import { describe, expect, it } from "vitest";
import type { ReportedLimits } from "./limit-headers.js";
import { Pace, type PaceLimits, type PaceTicket } from "./pace.js";

/** A strict API: no more than `limit` arrivals in any window. Requests take random times there and back. */
function simulate(
  limits: PaceLimits,
  api: { limit: number; windowMs: number },
  requests: number,
  randomMs: () => number,
  tell: (remaining: number) => ReportedLimits | undefined = () => undefined,
) {
  const pace = new Pace(limits);
  const arrivals: number[] = [];
  const open: { ticket: PaceTicket; backAtMs: number; told: ReportedLimits | undefined }[] = [];
  let now = 0;
  let refused = 0;
  let lastSent = 0;
  for (let sent = 0; sent < requests; ) {
    const wait = pace.waitMs(now);
    if (wait === 0) {
      const arrivedAt = now + randomMs();
      const inWindow = arrivals.filter((at) => at > arrivedAt - api.windowMs).length;
      if (inWindow >= api.limit) refused++;
      else arrivals.push(arrivedAt);
      const told = tell(Math.max(0, api.limit - inWindow - 1));
      open.push({ ticket: pace.take(now), backAtMs: arrivedAt + randomMs(), told });
      lastSent = now;
      sent++;
      continue;
    }
    open.sort((a, b) => a.backAtMs - b.backAtMs);
    const back = open[0];
    if (back !== undefined && (back.backAtMs <= now + wait || wait === Number.POSITIVE_INFINITY)) {
      open.shift();
      now = Math.max(now, back.backAtMs);
      pace.received(back.ticket, now, back.told);
    } else now += Math.ceil(wait);
  }
  return { refused, tookMs: lastSent, permitted: 1 + (lastSent / api.windowMs) * api.limit };
}

describe("Pace", () => {
  it("never sends more than is published, however long requests take", () => {
    fc.assert(
      fc.property(
        fc.integer({ min: 1, max: 40 }),
        fc.integer({ min: 1, max: 16 }),
        fc.array(fc.nat(12), { minLength: 5 }),
        (limit, atOnce, delays) => {
          let turn = 0;
          const random = () => delays[turn++ % delays.length]!;
          const { refused } = simulate(
            { perSecond: limit, atOnce },
            { limit, windowMs: 1000 },
            limit * 4,
            random,
          );
          expect(refused).toBe(0);
        },
      ),
    );
  });

  it("uses at least 96 of 100 permitted requests when enough go at once", () => {
    const { refused, permitted } = simulate(
      { perSecond: 20, atOnce: 8 },
      { limit: 20, windowMs: 1000 },
      2000,
      () => 4,
    );
    expect(refused).toBe(0);
    expect(2000 / permitted).toBeGreaterThan(0.96);
  });

  it("learns a limit that headers tell", () => {
    const tell = (remaining: number): ReportedLimits => ({
      limit: 10,
      windowMs: 1000,
      remaining,
      resetMs: 1000,
    });
    const { refused, permitted } = simulate({ atOnce: 1 }, { limit: 10, windowMs: 1000 }, 500, () => 3, tell);
    expect(refused).toBe(0);
    expect(500 / permitted).toBeGreaterThan(0.95);
  });

  it("waits for the reset when others use up the same limit", () => {
    const pace = new Pace({ perSecond: 10, atOnce: 4 });
    pace.received(pace.take(0), 5, { remaining: 0, resetMs: 700 });
    expect(pace.waitMs(5)).toBe(700);
    expect(pace.left).toBe(0);
  });

  it("holds everyone back after a 429, and lets no more under way than may be", () => {
    const pace = new Pace({ atOnce: 2 });
    const first = pace.take(0);
    pace.take(0);
    expect(pace.waitMs(0)).toBe(Number.POSITIVE_INFINITY);
    pace.received(first, 10, undefined);
    pace.received(first, 10, undefined);
    expect(pace.waitMs(10)).toBe(0);
    pace.holdUntil(3010);
    expect(pace.waitMs(1010)).toBe(2000);
  });

  it("understands rates below one a second", () => {
    const pace = new Pace({ perSecond: 0.5, atOnce: 4 });
    pace.received(pace.take(0), 10, undefined);
    expect(pace.waitMs(1000)).toBe(1010);
  });
});
