import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { tries } from "../../../test/support/long.js";
import { windowsSchema } from "../define/parts-schema.js";
import { type Covered, cover, gaps, halve, openWindows, type Window, windowValues } from "./windows.js";

const NOW = Date.UTC(2026, 10, 1, 12, 30);
const DAY = 86_400_000;
const rule = (options: object = {}) => windowsSchema.parse({ span: "P7D", start: "2026-10-01", ...options });

const zone = fc.constantFrom(
  "UTC",
  "Europe/Zurich",
  "America/St_Johns",
  "Asia/Kathmandu",
  "Australia/Lord_Howe",
);
const span = fc.constantFrom("PT1H", "PT7H", "P1D", "P7D", "P1M", "P3M", "P1Y");
const moment = fc.integer({ min: Date.UTC(2025, 0, 1), max: Date.UTC(2027, 0, 1) });
const window = fc
  .tuple(moment, moment)
  .map(([a, b]) => ({ fromMs: Math.min(a, b), toMs: Math.max(a, b) + 1 }));

/** Whether the windows lie end to end over a range. */
function expectTiling(windows: readonly Window[], fromMs: number, toMs: number): void {
  let at = fromMs;
  for (const each of [...windows].sort((a, b) => a.fromMs - b.fromMs)) {
    expect(each.fromMs).toBe(at);
    expect(each.toMs).toBeGreaterThan(each.fromMs);
    at = each.toMs;
  }
  expect(at).toBe(toMs);
}

describe("windows", () => {
  it("leave no gap and no overlap, over any range, span and change of the clock", () => {
    fc.assert(
      fc.property(span, zone, window, fc.boolean(), (length, inZone, { fromMs, toMs }, newest) => {
        const start = new Date(fromMs).toISOString();
        const end = new Date(toMs).toISOString();
        const of = rule({
          span: length,
          zone: inZone,
          start,
          end,
          format: "milliseconds",
          order: newest ? "newest_first" : "oldest_first",
        });
        fc.pre(!(length === "PT1H" && toMs - fromMs > 90 * DAY));
        const windows = openWindows(of, [], NOW);
        // windows of days begin with a day, in their zone
        const first = Math.min(...windows.map((each) => each.fromMs));
        expect(first).toBeLessThanOrEqual(fromMs);
        expect(fromMs - first).toBeLessThan(/T/.test(length) ? 1 : 26 * 3_600_000);
        expectTiling(windows, first, toMs);
        if (newest) expect(windows[0]!.toMs).toBe(toMs);
      }),
      { numRuns: tries(40, 100) },
    );
  });

  it("end and begin with whole seconds, so that no second is in two of them", () => {
    const of = rule({ span: "PT1H", start: "2026-11-01T12:00:00Z" });
    const first = openWindows(of, [], NOW + 500);
    expect(first).toEqual([{ fromMs: NOW - 1_800_000, toMs: NOW }]);
    // what was done to the middle of a second is asked for from its beginning
    expect(openWindows(of, [[NOW - 1_800_000, NOW + 500]], NOW + 2700)).toEqual([
      { fromMs: NOW, toMs: NOW + 2000 },
    ]);
    const seconds = { ...of, format: "seconds" as const };
    expect(windowValues(seconds, { fromMs: NOW, toMs: NOW + 2000 })).toEqual({
      from: String(NOW / 1000),
      to: String(NOW / 1000 + 2),
    });
    expect(halve(rule({ span: "PT1H", smallest: "PT1S" }), { fromMs: NOW, toMs: NOW + 3000 })).toEqual([
      { fromMs: NOW, toMs: NOW + 1000 },
      { fromMs: NOW + 1000, toMs: NOW + 3000 },
    ]);
  });

  it("that are done, in any order and number, leave just the rest to be asked", () => {
    fc.assert(
      fc.property(fc.array(window, { maxLength: 12 }), window, (done, whole) => {
        const covered = done.reduce<Covered>(cover, []);
        for (const [i, [from, to]] of covered.entries()) {
          expect(from).toBeLessThan(to);
          if (i > 0) expect(from).toBeGreaterThan(covered[i - 1]![1]);
        }
        const isDone = (ms: number) => done.some(({ fromMs, toMs }) => fromMs <= ms && ms < toMs);
        const open = gaps(covered, whole);
        const edges = [whole, ...done].flatMap(({ fromMs, toMs }) => [fromMs, toMs - 1, toMs]);
        for (const ms of edges.filter((each) => each >= whole.fromMs && each < whole.toMs))
          expect(open.some(({ fromMs, toMs }) => fromMs <= ms && ms < toMs)).toBe(!isDone(ms));
      }),
    );
  });

  it("are halved without gap or overlap, down to the smallest", () => {
    fc.assert(
      fc.property(window, zone, fc.constantFrom("date_time", "date"), (whole, inZone, format) => {
        const of = rule({ zone: inZone, format, smallest: "PT6H" });
        const halves = halve(of, whole);
        if (halves === undefined) return;
        expectTiling(halves, whole.fromMs, whole.toMs);
        for (const { fromMs, toMs } of halves) expect(toMs - fromMs).toBeGreaterThanOrEqual(6 * 3_600_000);
      }),
    );
    expect(halve(rule({ smallest: "P1D" }), { fromMs: 0, toMs: 1.5 * DAY })).toBeUndefined();
  });

  it("begin again before what is done, by the overlap", () => {
    const covered = [[Date.UTC(2026, 9, 1), Date.UTC(2026, 9, 31)]] as const;
    expect(openWindows(rule(), covered, NOW)).toEqual([{ fromMs: Date.UTC(2026, 9, 31), toMs: NOW }]);
    expect(openWindows(rule({ overlap: "P2D" }), covered, NOW)).toEqual([
      { fromMs: Date.UTC(2026, 9, 29), toMs: NOW },
    ]);
    expect(openWindows(rule({ end: "2026-10-31" }), covered, NOW)).toEqual([]);
  });

  it.each([
    [{}, ["2026-10-01T00:00:00Z", "2026-10-08T00:00:00Z"]],
    [{ to_is: "inclusive" }, ["2026-10-01T00:00:00Z", "2026-10-07T23:59:59.999999Z"]],
    [{ format: "seconds" }, ["1790812800", "1791417600"]],
    [{ format: "seconds", to_is: "inclusive" }, ["1790812800", "1791417599"]],
    [{ format: "milliseconds", to_is: "inclusive" }, ["1790812800000", "1791417599999"]],
    [{ format: "date" }, ["2026-10-01", "2026-10-08"]],
    [{ format: "date", to_is: "inclusive" }, ["2026-10-01", "2026-10-07"]],
    [{ format: "date", to_is: "inclusive", zone: "America/St_Johns" }, ["2026-09-30", "2026-10-07"]],
  ])("are sent as the API wants them: %j", (options, [from, to]) => {
    const whole = { fromMs: Date.UTC(2026, 9, 1), toMs: Date.UTC(2026, 9, 8) };
    expect(windowValues(rule(options), whole)).toEqual({ from, to });
  });

  it("sent as dates, ask for the whole of a day that is not over", () => {
    const of = rule({ format: "date", span: "P1M" });
    const [first, ...rest] = openWindows(of, [], NOW);
    expect(windowValues(of, first!)).toEqual({ from: "2026-10-01", to: "2026-11-01" });
    expect(rest.map((each) => windowValues(of, each))).toEqual([{ from: "2026-11-01", to: "2026-11-02" }]);
    // and the next run begins with that day again
    const next = openWindows(of, [[first!.fromMs, NOW]], NOW + 3_600_000);
    expect(next.map((each) => windowValues(of, each))).toEqual([{ from: "2026-11-01", to: "2026-11-02" }]);
  });
});
