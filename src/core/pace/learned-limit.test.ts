import { describe, expect, it } from "vitest";
import { Pace } from "./pace.js";

/** An API with a limit that it never tells; requests take 2 ms each way. Simulated time, in ms. */
function simulate(limit: number, windowMs: number, forMs: number, atOnce = 4) {
  const pace = new Pace({ atOnce });
  const admitted: number[] = [];
  const open: { ticket: ReturnType<Pace["take"]>; backAtMs: number; ok: boolean }[] = [];
  let now = 0;
  let sent = 0;
  let refused = 0;
  while (now < forMs) {
    const wait = pace.waitMs(now);
    if (wait === 0) {
      sent++;
      const at = now + 2;
      const ok = admitted.filter((each) => each > at - windowMs).length < limit;
      if (ok) admitted.push(at);
      else refused++;
      open.push({ ticket: pace.take(now), backAtMs: at + 2, ok });
      continue;
    }
    const back = open[0];
    if (back !== undefined && back.backAtMs <= now + wait) {
      open.shift();
      now = Math.max(now, back.backAtMs);
      if (back.ok) pace.received(back.ticket, now, {});
      else pace.refused(back.ticket, now, {});
    } else now += Math.ceil(wait);
  }
  const permitted = limit * Math.max(1, forMs / windowMs);
  return { share: admitted.length / permitted, refusals: refused / sent, refused };
}

describe("a limit that the API does not tell", () => {
  it.each([
    [5, 1000, 300_000],
    [20, 1000, 60_000],
    [50, 1000, 60_000],
    [200, 1000, 60_000],
    [100, 10_000, 300_000],
    [100, 60_000, 1_800_000],
  ])("of %i in %i ms is used to 90 %% and more, with less than 1 %% refused", (limit, windowMs, forMs) => {
    const { share, refusals } = simulate(limit, windowMs, forMs);
    expect(share).toBeGreaterThan(0.9);
    expect(refusals).toBeLessThan(0.01);
  });

  it("is not assumed where nothing is refused", () => {
    const pace = new Pace({ atOnce: 2 });
    for (let i = 0; i < 1000; i++) {
      expect(pace.waitMs(i)).toBe(0);
      pace.received(pace.take(i), i, {});
    }
  });

  it("makes room at once when the API begins to tell", () => {
    const pace = new Pace({ atOnce: 9 });
    for (let i = 0; i < 3; i++) pace.received(pace.take(0), 0, {});
    pace.refused(pace.take(1), 1, { retryAfterMs: 100 });
    expect(pace.waitMs(101)).toBeGreaterThan(0);
    pace.received(pace.take(200), 200, { limit: 500, windowMs: 1000 });
    expect(pace.waitMs(200)).toBe(0);
  });
});
