import { describe, expect, it } from "vitest";
import { readLimits } from "./limit-headers.js";
import { backOffMs, isPassingStatus, RETRY_DEFAULTS } from "./retry-policy.js";

const NOW = Date.UTC(2026, 0, 1);

describe("readLimits", () => {
  it.each([
    [{ "retry-after": "3" }, { retryAfterMs: 3000 }],
    [{ "retry-after": "Thu, 01 Jan 2026 00:00:07 GMT" }, { retryAfterMs: 7000 }],
    [{ "retry-after": "soon" }, { retryAfterMs: undefined }],
    [
      { "ratelimit-policy": '"default";q=20;w=1', ratelimit: '"default";r=5;t=1' },
      { limit: 20, windowMs: 1000, remaining: 5, resetMs: 1000 },
    ],
    [{ ratelimit: "limit=10, remaining=4, reset=30" }, { limit: undefined, remaining: 4, resetMs: 30_000 }],
    [
      { "ratelimit-limit": "100, 100;w=60", "ratelimit-remaining": "99", "ratelimit-reset": "50" },
      { limit: 100, windowMs: 60_000, remaining: 99, resetMs: 50_000 },
    ],
    [
      { "x-ratelimit-remaining": "0", "x-ratelimit-reset": String(NOW / 1000 + 12) },
      { remaining: 0, resetMs: 12_000 },
    ],
    [{ "x-rate-limit-reset": String(NOW + 900) }, { resetMs: 900 }],
    [{ "x-ratelimit-reset": "2026-01-01T00:00:02Z" }, { resetMs: 2000 }],
    [
      { ratelimit: '"a";r=;;', "x-ratelimit-limit": "many" },
      { limit: undefined, remaining: undefined },
    ],
  ])("reads %j", (headers, told) => {
    const limits = readLimits(headers as Record<string, string>, NOW);
    for (const [name, value] of Object.entries(told))
      expect(limits[name as keyof typeof limits], name).toBe(value);
  });
});

describe("backOffMs", () => {
  const failed = { tries: 1, waitedMs: 0, retryable: true, doubtful: false, retryAfterMs: undefined };

  it("doubles its ceiling, takes a random share of it, and ends after the last try", () => {
    const ceilings = [1, 2, 3, 4].map((tries) => backOffMs({ ...failed, tries }, RETRY_DEFAULTS, () => 1));
    expect(ceilings).toEqual([250, 500, 1000, 2000]);
    expect(backOffMs({ ...failed, tries: 3 }, RETRY_DEFAULTS, () => 0.25)).toBe(250);
    expect(backOffMs({ ...failed, tries: RETRY_DEFAULTS.tries }, RETRY_DEFAULTS, () => 0)).toBeUndefined();
  });

  it("obeys Retry-After in full, or gives up; it never shortens it", () => {
    const asked = (retryAfterMs: number) => backOffMs({ ...failed, retryAfterMs }, RETRY_DEFAULTS, () => 0);
    expect(asked(120_000)).toBe(120_000);
    expect(asked(RETRY_DEFAULTS.budgetMs + 1)).toBeUndefined();
  });

  it("gives up early where the address is doubtful, and at once where a try is no use", () => {
    expect(backOffMs({ ...failed, tries: 3, doubtful: true }, RETRY_DEFAULTS, () => 0)).toBeUndefined();
    expect(backOffMs({ ...failed, retryable: false }, RETRY_DEFAULTS, () => 0)).toBeUndefined();
  });

  it("tries passing statuses again and no others", () => {
    const passing = [200, 400, 401, 404, 408, 409, 425, 429, 500, 501, 502, 503, 504, 505].filter(
      isPassingStatus,
    );
    expect(passing).toEqual([408, 425, 429, 500, 502, 503, 504]);
  });
});
