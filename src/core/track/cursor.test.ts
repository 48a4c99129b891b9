import fc from "fast-check";
import { describe, expect, it } from "vitest";
import type { PagePosition } from "../ask/page-position.js";
import {
  type CursorRule,
  EMPTY_SPAN,
  joinSpans,
  nextCursor,
  POSITION_LIFE_MS,
  type SavedCursor,
  startOfCursor,
} from "./cursor.js";
import { CursorField, spanOf } from "./cursor-field.js";
import { compareCursors, cursorValue, sendValue, withOverlap } from "./cursor-value.js";

const spanOfRecords = (records: readonly unknown[]) => spanOf(records, ["at"], "instant");
const T2: PagePosition = { at: "token", token: "t2" };
const NOW = Date.UTC(2026, 10, 1);
const CLOCK = { nowMs: NOW, behindMs: 0 };
const rule = (options: Partial<CursorRule> = {}): CursorRule => ({
  kind: "field",
  field: ["at"],
  query: "after",
  order: "ascending",
  bounds: "exclusive",
  format: "date_time",
  ...options,
});

/** Whole seconds of one minute, so that many records share a value. */
const instant = fc
  .integer({ min: 0, max: 59 })
  .map((second) => `2026-01-01T00:00:${String(second).padStart(2, "0")}Z`);
const record = fc.record({
  at: fc.oneof({ weight: 9, arbitrary: instant }, { weight: 1, arbitrary: fc.constant(null) }),
});

describe("spans", () => {
  it("join to the same, wherever pages end", () => {
    fc.assert(
      fc.property(fc.array(record), fc.nat(20), fc.nat(20), (records, i, j) => {
        const [a, b] = [Math.min(i, j), Math.max(i, j)];
        const pages = [records.slice(0, a), records.slice(a, b), records.slice(b)].map((page) =>
          spanOfRecords(page),
        );
        const whole = spanOfRecords(records);
        expect(joinSpans(joinSpans(pages[0]!, pages[1]!), pages[2]!)).toEqual(whole);
        expect(joinSpans(pages[0]!, joinSpans(pages[1]!, pages[2]!))).toEqual(whole);
        expect(joinSpans(EMPTY_SPAN, whole)).toEqual(whole);
      }),
    );
  });

  it("compare instants by time, not by how they are written", () => {
    const span = spanOfRecords([{ at: "2026-01-01T10:00:00+02:00" }, { at: "2026-01-01T09:00:00Z" }]);
    expect(span).toMatchObject({ ascending: true, max: { micros: Date.UTC(2026, 0, 1, 9) * 1000 } });
  });
});

/** An API that gives records after a value (exclusively), a page at a time, with opaque tokens. */
function fakeApi(all: readonly { id: number; at: string }[], pageSize: number) {
  return (since: string | undefined, token: string | undefined) => {
    const from = token === undefined ? 0 : Number(token);
    const list = all.filter((each) => since === undefined || Date.parse(each.at) > Date.parse(since));
    const next = from + pageSize;
    return { records: list.slice(from, next), nextToken: next < list.length ? String(next) : undefined };
  };
}

/** Reads from where the saved cursor says; breaks off after `pages` pages and keeps what a checkpoint would. */
function pass(
  api: ReturnType<typeof fakeApi>,
  cursor: CursorRule,
  saved: SavedCursor | undefined,
  pages: number,
  loaded: Set<number>,
): { saved: SavedCursor | undefined; ended: boolean } {
  const start = startOfCursor(cursor, saved, NOW);
  let span = start.span;
  let token = start.position?.at === "token" ? start.position.token : undefined;
  for (let n = 0; n < pages; n++) {
    const page = api(start.since, token);
    for (const each of page.records) loaded.add(each.id);
    span = joinSpans(span, spanOfRecords(page.records));
    token = page.nextToken;
    if (token === undefined)
      return {
        saved: nextCursor(cursor, saved, start, { span, isOnePage: true, next: undefined }, CLOCK),
        ended: true,
      };
  }
  return {
    saved:
      pages === 0
        ? saved
        : nextCursor(
            cursor,
            saved,
            start,
            { span, isOnePage: false, next: { at: "token", token: token! } },
            CLOCK,
          ),
    ended: false,
  };
}

describe("a pass that is broken off again and again", () => {
  it.each(["ascending", "any"] as const)("loads every record in the end (order: %s)", (order) => {
    fc.assert(
      fc.property(
        fc.array(instant, { maxLength: 40 }),
        fc.integer({ min: 1, max: 7 }),
        fc.array(fc.integer({ min: 0, max: 4 }), { maxLength: 12 }),
        fc.boolean(),
        (times, pageSize, breaks, sorted) => {
          const list = times.map((at, id) => ({ id, at }));
          if (sorted || order === "ascending") list.sort((a, b) => Date.parse(a.at) - Date.parse(b.at));
          const api = fakeApi(list, pageSize);
          const loaded = new Set<number>();
          let state: { saved: SavedCursor | undefined; ended: boolean } = { saved: undefined, ended: false };
          for (const pages of [...breaks, 1000]) {
            if (!state.ended) state = pass(api, rule({ order }), state.saved, pages, loaded);
          }
          expect(loaded.size).toBe(list.length);
          // and later records are found from there
          const later = { id: 999, at: "2026-01-01T00:01:00Z" };
          pass(fakeApi([...list, later], pageSize), rule({ order }), state.saved, 1000, loaded);
          expect(loaded.has(999)).toBe(true);
        },
      ),
      { numRuns: 400 },
    );
  });

  it("does not trust an order that the API breaks: the value stays where the pass began", () => {
    const span = spanOfRecords([{ at: "2026-01-02T00:00:00Z" }, { at: "2026-01-01T00:00:00Z" }]);
    const saved = { value: "2025-12-01T00:00:00Z" };
    const next = nextCursor(
      rule(),
      saved,
      startOfCursor(rule(), saved, NOW),
      { span, isOnePage: false, next: T2 },
      CLOCK,
    );
    expect(next).toMatchObject({ value: saved.value, resume: { position: T2 } });
  });
});

describe("where a pass begins", () => {
  it.each([
    [{ start: "-P90D" }, "2026-08-03T00:00:00Z"],
    [{ start: "2026-01-01" }, "2026-01-01"],
    [{ start: 17 }, "17"],
    [{}, undefined],
  ])("first, with %j, it is %s", (options, since) => {
    expect(startOfCursor(rule(options), undefined, NOW).since).toBe(since);
  });

  it.each([
    ["2026-01-01T00:10:00.25Z", "PT5M", "2026-01-01T00:05:00.25Z"],
    ["2026-01-01T00:10:00Z", undefined, "2026-01-01T00:09:59Z"],
    ["2026-03-31T00:00:00Z", "P1M", "2026-02-28T00:00:00Z"],
    ["9007199254740995", 2, "9007199254740993"],
    ["100", undefined, "99"],
    ["abc", undefined, "abc"],
  ])("later, behind %s with overlap %s, it is %s", (value, overlap, since) => {
    expect(withOverlap(cursorValue(value)!, overlap, undefined)).toBe(since);
  });

  it("a token is followed for an hour, then the pass begins anew", () => {
    const saved: SavedCursor = {
      value: "2026-01-01T00:00:00Z",
      resume: { position: T2, since: "s", beganMs: NOW, atMs: NOW },
    };
    expect(startOfCursor(rule(), saved, NOW + POSITION_LIFE_MS - 1)).toMatchObject({
      position: T2,
      since: "s",
    });
    expect(startOfCursor(rule(), saved, NOW + POSITION_LIFE_MS)).toMatchObject({
      position: undefined,
      since: "2025-12-31T23:59:59Z",
    });
  });

  it("a record from the future does not carry the cursor past today", () => {
    const span = spanOfRecords([{ at: "2026-01-01T00:00:00Z" }, { at: "2099-01-01T00:00:00Z" }]);
    const next = nextCursor(
      rule(),
      undefined,
      startOfCursor(rule(), undefined, NOW),
      { span, isOnePage: true, next: undefined },
      CLOCK,
    );
    expect(next).toEqual({ value: "2026-11-01T00:00:00Z", kind: "instant" });
  });

  it.each([
    ["seconds", {}, 1_000_000_000, 4_000_000_000, "1793491200"],
    ["milliseconds", {}, 1_700_000_000_000, 4_000_000_000_000, "1793491200000"],
    ["seconds that are said to be", { format: "seconds" as const }, 5, 4_000_000_000, "1793491200"],
    ["numbers that tell no time", {}, 17, 4_000_000_000, "4000000000"],
  ])("nor does one in %s", (_what, options, past, future, value) => {
    const field = new CursorField({ ...rule(options), field: ["at"] }, NOW);
    const span = field.span([{ at: past }, { at: future }]);
    const start = startOfCursor(rule(options), undefined, NOW);
    const next = nextCursor(
      rule(options),
      undefined,
      start,
      { span, isOnePage: true, next: undefined },
      CLOCK,
    );
    expect(next).toEqual({ value, kind: "number" });
  });

  it("a key leads on for good: a backfill of days goes on where it was", () => {
    const saved: SavedCursor = {
      resume: { position: { at: "after", after: "17" }, beganMs: NOW, atMs: NOW },
    };
    const start = startOfCursor(rule({ order: "any" }), saved, NOW + 100 * POSITION_LIFE_MS);
    expect(start.position).toEqual({ at: "after", after: "17" });
  });
});

describe("values", () => {
  it.each([
    ["2026-01-01T02:45:00.000Z", "PT5M", "2026-01-01T02:40:00.000Z"],
    ["2026-01-01T02:45:00.1234567Z", "PT5M", "2026-01-01T02:40:00.1234560Z"],
    ["2026-01-01T02:45:00+02:00", "PT1H", "2026-01-01T01:45:00+02:00"],
    ["2026-01-01T02:45:00.5+0200", "PT1H", "2026-01-01T01:45:00.5+0200"],
    ["2026-01-01 00:00:00", "PT1S", "2025-12-31 23:59:59"],
    ["2026-01-01", "PT1S", "2025-12-31"],
    ["2026-01-01T02:45:00.000Z", 0, "2026-01-01T02:45:00.000Z"],
    ["00120", 21, "00099"],
    ["1700000000.25", 1, "1699999999.25"],
    ["-5", 3, "-8"],
  ])("%s less %s is written in the same way: %s", (value, overlap, since) => {
    expect(withOverlap(cursorValue(value)!, overlap, undefined)).toBe(since);
  });

  it("a duration is taken from numbers that tell times, and from no others", () => {
    expect(withOverlap(cursorValue(1_700_000_000)!, "PT5M", "seconds")).toBe("1699999700");
    expect(withOverlap(cursorValue(1_700_000_000_000)!, "PT5M", "milliseconds")).toBe("1699999700000");
    const saved: SavedCursor = { value: "17", kind: "number" };
    expect(() => startOfCursor(rule({ overlap: "PT5M" }), saved, NOW)).toThrow(
      /overlap: PT5M cannot be taken/,
    );
    expect(() => startOfCursor(rule({ overlap: 5 }), { value: "2026-01-01", kind: "instant" }, NOW)).toThrow(
      /the cursor's values are times/,
    );
  });

  it.each([
    ["9", "10"],
    ["9007199254740993", "9007199254740995"],
    ["0.1", "0.25"],
    ["99999999999999999999.1", "99999999999999999999.2"],
    ["2026-01-01T00:00:00.1234561Z", "2026-01-01T00:00:00.1234562Z"],
    ["2026-01-01T00:00:00.123456Z", "2026-01-01T00:00:00.1234561Z"],
    ["2026-01-01T02:00:00+0200", "2026-01-01T00:30:00Z"],
  ])("%s comes before %s", (a, b) => {
    expect(compareCursors(cursorValue(a)!, cursorValue(b)!)).toBeLessThan(0);
    expect(compareCursors(cursorValue(b)!, cursorValue(a)!)).toBeGreaterThan(0);
  });

  it("go back as they were written, or in the form that is asked for", () => {
    expect(sendValue("2026-01-01T02:45:00.000Z", "date_time")).toBe("2026-01-01T02:45:00.000Z");
    expect(sendValue("2026-01-01T02:45:00.000Z", "seconds")).toBe("1767235500");
    expect(sendValue("00017", "seconds")).toBe("00017");
  });

  it("are of one kind, decided by the first records; others are counted", () => {
    const field = new CursorField({ ...rule(), field: ["at"] }, NOW);
    const span = field.span([{ at: "900" }, { at: 1000 }, { at: "n/a" }, { at: null }, {}]);
    expect(field.kind).toBe("number");
    expect(span).toMatchObject({ missing: 3, strange: 1, stranger: "n/a", ascending: true });
    expect(span.max?.raw).toBe("1000");
    expect(field.span([{ at: "abc" }])).toMatchObject({ missing: 1, strange: 1 });
  });

  it("a relative start is compared with numbers that tell times, and told where they do not", () => {
    const options = { start: "-P90D" };
    const since = startOfCursor(rule(options), undefined, NOW).since!;
    const old = NOW / 1000 - 100 * 86_400;
    const field = () => new CursorField({ ...rule(options), field: ["at"] }, NOW);
    expect(field().notBefore([{ at: old }, { at: NOW / 1000 - 60 }], since)).toHaveLength(1);
    expect(field().notBefore([{ at: old * 1000 }, { at: NOW - 60 }], since)).toHaveLength(1);
    expect(() => field().notBefore([{ at: 17 }], since)).toThrow(/cannot be compared with cursor.field at/);
  });
});
