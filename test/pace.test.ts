/**
 * The pace against simulated servers: every kind of limit, told or not, with stray refusals and a clock that is
 * off.
 */

import { describe, expect, it } from "vitest";
import { type ReportedLimits, readLimits } from "../src/core/pace/limit-headers.js";
import { Pace, type PaceTicket } from "../src/core/pace/pace.js";
import { everyNth } from "./support/long.js";

/** A limit as a server keeps it. `left` and `resetMs` are for its headers; times are ms. */
interface Limit {
  admit(nowMs: number, underWay: number): boolean;
  left(nowMs: number): number;
  resetMs(nowMs: number): number;
  /** requests that it permits in a time, if they are well spread */
  permitted(forMs: number, latencyMs: number): number;
}

const fixed = (limit: number, windowMs: number): Limit => {
  let window = -1;
  let used = 0;
  const turn = (nowMs: number) => {
    const now = Math.floor(nowMs / windowMs);
    if (now !== window) used = 0;
    window = now;
  };
  return {
    admit(nowMs) {
      turn(nowMs);
      return used < limit && ++used > 0;
    },
    left: (nowMs) => {
      turn(nowMs);
      return limit - used;
    },
    resetMs: (nowMs) => windowMs - (nowMs % windowMs),
    permitted: (forMs) => (forMs / windowMs) * limit,
  };
};

const sliding = (limit: number, windowMs: number): Limit => {
  const admitted: number[] = [];
  const turn = (nowMs: number) => {
    while (admitted.length > 0 && admitted[0]! <= nowMs - windowMs) admitted.shift();
  };
  return {
    admit(nowMs) {
      turn(nowMs);
      return admitted.length < limit && admitted.push(nowMs) > 0;
    },
    left: (nowMs) => {
      turn(nowMs);
      return limit - admitted.length;
    },
    resetMs: (nowMs) => (admitted.length === 0 ? 0 : admitted[0]! + windowMs - nowMs),
    permitted: (forMs) => (forMs / windowMs) * limit,
  };
};

const bucket = (capacity: number, perMs: number): Limit => {
  let tokens = capacity;
  let atMs = 0;
  const turn = (nowMs: number) => {
    tokens = Math.min(capacity, tokens + (nowMs - atMs) * perMs);
    atMs = nowMs;
  };
  return {
    admit(nowMs) {
      turn(nowMs);
      if (tokens < 1) return false;
      tokens--;
      return true;
    },
    left: (nowMs) => {
      turn(nowMs);
      return Math.floor(tokens);
    },
    resetMs: () => Math.ceil((capacity - tokens) / perMs),
    permitted: (forMs) => forMs * perMs,
  };
};

const atOnce = (most: number): Limit => ({
  admit: (_nowMs, underWay) => underWay < most,
  left: () => most,
  resetMs: () => 0,
  permitted: (forMs, latencyMs) => (forMs / latencyMs) * most,
});

interface Server {
  readonly limit: Limit;
  /** there and back, in ms */
  readonly latencyMs: number;
  /** the first requests take longer, by so much each */
  readonly slowFirst?: { readonly requests: number; readonly byMs: number } | undefined;
  /** headers of a response, beside Date */
  readonly tell?: ((limit: Limit, nowMs: number) => Record<string, string>) | undefined;
  readonly refusal?: Record<string, string> | undefined;
  /** the server's clock is ahead by so much */
  readonly aheadMs?: number | undefined;
  /** moments at which one request is refused for no reason */
  readonly strays?: readonly number[] | undefined;
}

interface Outcome {
  readonly sent: number;
  readonly refused: number;
  /** when each request got in */
  readonly gotIn: readonly number[];
}

const BEGAN = Date.UTC(2026, 10, 1);

/** Sends as fast as the pace permits. All in simulated time. */
function simulate(server: Server, forMs: number, most = 8): Outcome {
  const pace = new Pace({ atOnce: most });
  const { limit, latencyMs, slowFirst, tell, refusal = {}, aheadMs = 0 } = server;
  const strays = [...(server.strays ?? [])];
  const gotIn: number[] = [];
  const arriving: { readonly ticket: PaceTicket; readonly atMs: number }[] = [];
  const returning: { ticket: PaceTicket; atMs: number; ok: boolean; told: ReportedLimits }[] = [];
  let [now, sent, refused, underWay] = [0, 0, 0, 0];
  const arrive = ({ ticket, atMs }: (typeof arriving)[number]) => {
    const stray = strays.length > 0 && strays[0]! <= atMs && strays.shift() !== undefined;
    const ok = !stray && limit.admit(BEGAN + atMs, underWay);
    if (ok) {
      gotIn.push(atMs);
      underWay++;
    } else refused++;
    const date = new Date(BEGAN + atMs + aheadMs).toUTCString();
    const headers = { date, ...tell?.(limit, BEGAN + atMs), ...(ok ? {} : refusal) };
    const slowMs = slowFirst !== undefined && gotIn.length <= slowFirst.requests ? slowFirst.byMs : 0;
    const backMs = ok ? latencyMs - 2 + slowMs : 2;
    returning.push({ ticket, atMs: atMs + backMs, ok, told: readLimits(headers, BEGAN + atMs + backMs) });
    returning.sort((a, b) => a.atMs - b.atMs);
  };
  while (now < forMs) {
    const wait = pace.waitMs(BEGAN + now);
    const next = wait === 0 ? now : now + Math.ceil(wait);
    if (arriving[0] !== undefined && arriving[0].atMs <= Math.min(next, returning[0]?.atMs ?? next)) {
      now = Math.max(now, arriving[0].atMs);
      arrive(arriving.shift()!);
    } else if (returning[0] !== undefined && returning[0].atMs <= next) {
      const { ticket, atMs, ok, told } = returning.shift()!;
      now = Math.max(now, atMs);
      if (ok) underWay--;
      if (ok) pace.received(ticket, BEGAN + now, told);
      else pace.refused(ticket, BEGAN + now, told);
    } else if (wait === 0) {
      arriving.push({ ticket: pace.take(BEGAN + now), atMs: now + 2 });
      sent++;
    } else now = next;
  }
  return { sent, refused, gotIn };
}

const MINUTE = 60_000;
const LIMITS: Record<string, () => Limit> = {
  "a fixed window, 20 a second": () => fixed(20, 1000),
  "a fixed window, 100 a minute": () => fixed(100, MINUTE),
  "a sliding window, 20 a second": () => sliding(20, 1000),
  "a sliding window, 5 a second": () => sliding(5, 1000),
  "a sliding window, 100 in 10 seconds": () => sliding(100, 10_000),
  "a sliding window, 100 a minute": () => sliding(100, MINUTE),
  "a bucket of 50, 10 a second": () => bucket(50, 0.01),
};

/** How headers tell what is left: with a reset as seconds from now, or as a moment by the server's own clock. */
const TOLD: Record<string, (aheadMs: number) => Server["tell"]> = {
  "what is left, and seconds": () => (limit, nowMs) => ({
    "ratelimit-remaining": String(limit.left(nowMs)),
    "ratelimit-reset": String(limit.resetMs(nowMs) / 1000),
  }),
  "what is left, and a moment": (aheadMs) => (limit, nowMs) => ({
    "x-ratelimit-remaining": String(limit.left(nowMs)),
    "x-ratelimit-reset": String(Math.ceil((nowMs + aheadMs + limit.resetMs(nowMs)) / 1000)),
  }),
};

/** A stray refusal now and then, when the limit has been found. */
const STRAYS = [200_000, 201_500, 350_000, 550_000];

describe("a limit that headers tell", () => {
  const cases = Object.entries(LIMITS).flatMap(([name, make]) =>
    Object.entries(TOLD).flatMap(([how, telling]) =>
      [0, 90_000, -90_000].flatMap((aheadMs) =>
        [[], STRAYS].map(
          (strays) => [name, how, aheadMs, strays.length, make, telling(aheadMs), strays] as const,
        ),
      ),
    ),
  );
  it.each(everyNth(cases, 8))(
    "(%s; %s; a clock ahead by %i ms; %i stray refusals) is used up and kept",
    (_name, how, aheadMs, _strays, make, tell, strays) => {
      const limit = make();
      const forMs = 10 * MINUTE;
      const refusal = strays.length === 0 ? {} : { "retry-after": "1" };
      const { sent, refused, gotIn } = simulate(
        { limit, latencyMs: 40, tell, aheadMs, strays, refusal },
        forMs,
      );
      const share = gotIn.length / limit.permitted(forMs, 40);
      expect(refused / sent).toBeLessThanOrEqual(0.01);
      // whole seconds say less of a window of one second
      if (how.endsWith("seconds") || limit.permitted(MINUTE, 40) < 300)
        expect(share).toBeGreaterThanOrEqual(0.98);
    },
  );
});

describe("a limit that nothing tells", () => {
  const limits = {
    ...LIMITS,
    "no more than 3 at once": () => atOnce(3),
    "a sliding window, 200 a second": () => sliding(200, 1000),
  };
  const all = Object.entries(limits).flatMap(([name, make]) =>
    [undefined, "1"].flatMap((retryAfter) =>
      [[], STRAYS].map(
        (strays) => [name, retryAfter ?? "none", strays.length, make, retryAfter, strays] as const,
      ),
    ),
  );
  it.each(everyNth(all, 5))(
    "(%s; Retry-After %s; %i stray refusals) is found",
    (name, _after, _strays, make, retryAfter, strays) => {
      const limit = make();
      const forMs = 30 * MINUTE;
      const latencyMs = name.includes("200") ? 6 : 40;
      const refusal = retryAfter === undefined ? {} : { "retry-after": retryAfter };
      const { sent, refused, gotIn } = simulate({ limit, latencyMs, refusal, strays }, forMs);
      expect(refused / sent).toBeLessThanOrEqual(0.01);
      expect(gotIn.length / limit.permitted(forMs, latencyMs)).toBeGreaterThanOrEqual(0.9);
    },
  );
});

describe("a limit that is met when only few of its window are free again", () => {
  it.each([1, 2, 3, 4, 5, 6, 8, 10])("(%i slow requests first) is found within seconds", (requests) => {
    const limit = sliding(20, 1000);
    const slowFirst = { requests, byMs: 40 };
    const { sent, refused, gotIn } = simulate({ limit, latencyMs: 12, slowFirst }, MINUTE, 1);
    expect(refused / sent).toBeLessThanOrEqual(0.01);
    expect(gotIn.filter((atMs) => atMs >= 15_000).length).toBeGreaterThanOrEqual(0.85 * 20 * 45);
  });
});

describe("a refusal that is no limit", () => {
  it.each<[string, number[], Record<string, string>]>([
    ["one", [5000], {}],
    ["one, with Retry-After", [5000], { "retry-after": "1" }],
    ["two, one soon after the other", [5000, 6200], { "retry-after": "1" }],
    ["three", [5000, 6200, 7400], { "retry-after": "1" }],
    ["five in ten seconds", [5000, 7000, 9000, 11_000, 13_000], {}],
  ])("(%s) leaves no trace: a minute later the speed is what it was", (_how, strays, refusal) => {
    const limit = sliding(1_000_000, 1000);
    const { gotIn } = simulate({ limit, latencyMs: 40, strays, refusal }, 3 * MINUTE);
    const from = strays.at(-1)! + MINUTE;
    const inTen = gotIn.filter((at) => at >= from && at < from + 10_000).length;
    expect(inTen).toBeGreaterThan(0.97 * (10_000 / 40) * 8);
  });

  it("is waited out as told, and then the old speed is tried again", () => {
    const pace = new Pace({ atOnce: 8 });
    for (let i = 0; i < 100; i++) pace.received(pace.take(i), i, {});
    pace.refused(pace.take(100), 100, { retryAfterMs: 1000 });
    expect(pace.waitMs(100)).toBe(1000);
    // one goes first, to see whether it was long enough
    const first = pace.take(1100);
    expect(pace.waitMs(1100)).toBe(Number.POSITIVE_INFINITY);
    pace.received(first, 1101, {});
    for (let i = 0; i < 8; i++) {
      expect(pace.waitMs(1101)).toBe(0);
      pace.take(1101);
    }
  });

  it("is not assumed where nothing is refused", () => {
    const pace = new Pace({ atOnce: 2 });
    for (let i = 0; i < 1000; i++) {
      expect(pace.waitMs(i)).toBe(0);
      pace.received(pace.take(i), i, {});
    }
  });

  it("counts those under way where headers tell what is left, and in no window", () => {
    const pace = new Pace({ atOnce: 8 });
    for (let i = 0; i < 4; i++) pace.take(0);
    pace.received(pace.take(0), 40, { remaining: 6, resetMs: 5000 });
    // four are under way: two more may go
    for (let i = 0; i < 2; i++) {
      expect(pace.waitMs(40)).toBe(0);
      pace.take(40);
    }
    expect(pace.waitMs(40)).toBeGreaterThan(4900);
  });
});
