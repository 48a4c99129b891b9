/** Rows that go straight into their tables on a server: what stands in the end is what came, whatever comes between. */

import fc from "fast-check";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { SENT_AT_ONCE } from "../src/warehouse/sql/stage.js";
import { STRAIGHT_RULE } from "../src/warehouse/sql/straight.js";
import { StraightTable } from "../src/warehouse/sql/straight-table.js";
import {
  anyPages,
  asLast,
  CURSOR,
  carryPages,
  type Hut,
  type HutHouse,
  hut,
  huts,
  later,
  type Pages,
  standing,
  type Ways,
} from "./support/hut-pages.js";
import { tries } from "./support/long.js";
import { isPostgres, theServer } from "./support/warehouse.js";

/** Runs a statement on the server. */
const on = (url: string, statement: string) =>
  theServer.connected(url, (query) => query(theServer.named(url, statement)));
const usual = { rule: { ...STRAIGHT_RULE }, sent: { ...SENT_AT_ONCE } };
const temporary = process.env.TMPDIR;

beforeEach(() => {
  STRAIGHT_RULE.firstRows = 2;
  // every page is sent by itself
  SENT_AT_ONCE.bytes = 1;
});

afterEach(() => {
  Object.assign(STRAIGHT_RULE, usual.rule);
  Object.assign(SENT_AT_ONCE, usual.sent);
  if (temporary === undefined) delete process.env.TMPDIR;
  else process.env.TMPDIR = temporary;
  vi.restoreAllMocks();
});

/** After how many rows the second checkpoint comes; on PostgreSQL the first one as well, which costs nothing there. */
const LATE = isPostgres ? 12 : 1000;

/** What was sent straight, by table, and how often it was taken back. */
function watched() {
  const kept = vi.spyOn(StraightTable.prototype, "keep");
  const back = vi.spyOn(StraightTable.prototype, "intoStage");
  return {
    /** rows of a table that went straight */
    rows: (table: string) =>
      kept.mock.calls.reduce((sum, [, rows], i) => {
        const of = kept.mock.contexts[i] as StraightTable;
        return sum + (of.table === table ? rows : 0);
      }, 0),
    get timesBack() {
      return back.mock.calls.length;
    },
  };
}

const house: HutHouse = {
  fresh: () => theServer.fresh(),
  warehouse: (url) => theServer.warehouse(url),
  on,
};
const carry = (pages: Pages, ways?: Ways) => carryPages(house, pages, ways);
const stands = (url: string) => standing(house, url);

describe("rows that are all new", () => {
  it.each(["upsert", "replace"] as const)(
    "go straight into their tables from the second checkpoint on, by %s",
    async (write) => {
      const sent = watched();
      const { url, told } = await carry(huts(10), { write });
      expect(told).toMatchObject({ outcome: "done", added: 20, changed: 0, unchanged: 0 });
      expect(await stands(url)).toEqual(asLast(huts(10)));
      expect(sent.timesBack).toBe(0);
      // the first checkpoint has a page or two of them
      expect(sent.rows("s")).toBeGreaterThanOrEqual(14);
      expect(sent.rows("s_beds")).toBe(sent.rows("s") * 2);
      const [row] = await on(
        url,
        `SELECT (SELECT count(*) FROM huts.s_beds WHERE eb_run = 1 AND eb_loaded_at IS NOT NULL) AS beds,
         (SELECT count(DISTINCT eb_loaded_at) FROM huts.s) AS times,
         (SELECT sum(\`rows\`) FROM early_bridge.checkpoints) AS noted`.replaceAll("`", '"'),
      );
      expect(row).toEqual({ beds: "40", times: "1", noted: "20" });
    },
  );

  it("are seen by nobody before their checkpoint, and are gone with a run that fails", async () => {
    const sent = watched();
    const seen: number[] = [];
    const before = async (page: number, at: string) => {
      if (page < 6) return undefined;
      const [row] = await on(at, "SELECT count(*) AS n FROM huts.s");
      seen.push(Number(row?.n));
      return 400;
    };
    const { url, report } = await carry(huts(8), { before, checkpoint: LATE });
    expect(report.outcome).toBe("failed");
    const [noted] = await on(url, 'SELECT sum("rows") AS n FROM early_bridge.checkpoints');
    const [first] = seen;
    // what came before the failure is committed with the cursor that belongs to it, all or nothing
    expect(first).toBeLessThan(10);
    expect(await stands(url)).toHaveLength(Number(noted?.n));
    const again = await carry(huts(8), { url });
    expect(again.report.outcome).toBe("done");
    expect(await stands(url)).toEqual(asLast(huts(8)));
    expect(sent.rows("s")).toBeGreaterThan(0);
  });

  it("without a key go straight as well", async () => {
    const sent = watched();
    const { url, told } = await carry(huts(6), { stream: { key: undefined }, write: "replace" });
    expect(told).toMatchObject({ outcome: "done", added: 12 });
    expect(sent.rows("s")).toBeGreaterThanOrEqual(6);
    const [row] = await on(url, "SELECT count(*) AS n, count(DISTINCT id) AS ids FROM huts.s");
    expect(row).toEqual({ n: "12", ids: "12" });
  });
});

describe("what is not as expected takes them back", () => {
  const pages = huts(8);
  it.each<[string, Hut, object?]>([
    ["a record that came since the last checkpoint", hut(9, { beds: [] })],
    ["a field that is new", hut(50, { altitude: 2400 })],
    ["a value of another type", hut(50, { beds: [{ no: "upper 1" }] })],
    ["a list that is new", hut(50, { guests: [{ name: "Ada" }] })],
  ])("%s", async (_what, odd) => {
    const sent = watched();
    const all = [...pages.slice(0, 5), [{ ...odd, at: later() }], ...pages.slice(5)];
    const { url, told, report } = await carry(all, { checkpoint: LATE, stream: CURSOR });
    expect(report.error?.message).toBeUndefined();
    expect(told.outcome).toBe("done");
    expect(await stands(url)).toEqual(asLast(all));
    expect(sent.timesBack).toBeGreaterThan(0);
    const [beds] = await on(url, "SELECT count(*) AS n FROM huts.s_beds");
    const last = new Map(all.flat().map((each) => [each.id, each.beds ?? []]));
    expect(Number(beds?.n)).toBe([...last.values()].flat().length);
  });

  it("a field that is new, until the tables have it", async () => {
    const sent = watched();
    const all = pages.map((page, n) => (n < 3 ? page : page.map((each) => ({ ...each, altitude: each.id }))));
    const { url, told } = await carry(all, { checkpoint: 6 });
    expect(told).toMatchObject({ outcome: "done", added: 16, changed: 0 });
    expect(await stands(url)).toEqual(asLast(all));
    // all but those of the first checkpoint, and of that which the field came with
    expect(sent.rows("s")).toBeGreaterThanOrEqual(10);
  });

  it("a record that stands already", async () => {
    const { url } = await carry([[hut(11, { name: "Adlerhorst", beds: [{ no: 7 }] })]]);
    const sent = watched();
    const { told } = await carry(pages, { url, checkpoint: LATE });
    expect(told).toMatchObject({ outcome: "done", added: 15, changed: 1 });
    expect(await stands(url)).toEqual(asLast(pages));
    expect(sent.timesBack).toBe(2);
  });

  it("a record that is gone", async () => {
    const sent = watched();
    const all = [...pages.slice(0, 5), [{ id: 3, gone: true }], ...pages.slice(5)];
    const { url, told } = await carry(all, { checkpoint: LATE, stream: { gone: "record.gone == true" } });
    expect(told.outcome).toBe("done");
    expect(await stands(url)).toEqual(asLast(pages).filter((row) => !row.startsWith("3 ")));
    expect(sent.rows("s")).toBeGreaterThan(0);
  });

  it("a folder for temporary files that is not there", async () => {
    process.env.TMPDIR = "/nowhere";
    const { url, told, report } = await carry(pages);
    expect(report.error?.message).toBeUndefined();
    expect(told).toMatchObject({ outcome: "done", added: 16 });
    expect(await stands(url)).toEqual(asLast(pages));
  });
});

describe("tables that do not refuse a second row of a key", () => {
  it("get their rows by stages: what comes again is found there", async () => {
    const { url } = await carry(huts(1));
    await on(
      url,
      isPostgres ? "ALTER TABLE huts.s DROP CONSTRAINT s_pkey" : "ALTER TABLE huts.s DROP PRIMARY KEY",
    );
    const sent = watched();
    const pages = [...huts(5).slice(1), [hut(4, { name: "again" })]];
    const { told } = await carry(pages, { url, checkpoint: 3 });
    expect(told).toMatchObject({ outcome: "done", added: 8, changed: 1 });
    expect(sent.rows("s")).toBe(0);
    expect(await stands(url)).toEqual(asLast([...huts(1), ...pages]));
  });

  it.runIf(theServer.key === "mariadb")(
    "nor, where a table knows no transactions, give rows back",
    async () => {
      const { url } = await carry(huts(1));
      await on(url, "ALTER TABLE huts.s_beds ENGINE = Aria");
      const sent = watched();
      const pages = huts(5).slice(1);
      expect((await carry(pages, { url, checkpoint: 3 })).told).toMatchObject({ outcome: "done", added: 8 });
      expect(sent.rows("s")).toBe(0);
    },
  );

  it("where the key is a text, which an index takes in part: not so on PostgreSQL", async () => {
    const sent = watched();
    const pages = huts(6).map((page) => page.map(({ id, ...rest }) => ({ id: `h${id}` as never, ...rest })));
    const { told } = await carry(pages);
    expect(told).toMatchObject({ outcome: "done", added: 12 });
    expect(sent.rows("s") > 0).toBe(isPostgres);
  });
});

it("whatever comes, in whatever pages and checkpoints, what stands is what came last", async () => {
  const sent = watched();
  await fc.assert(
    fc.asyncProperty(anyPages(), fc.integer({ min: 1, max: 20 }), async (all, checkpoint) => {
      const { url, told, report } = await carry(all, { checkpoint, stream: CURSOR });
      expect(report.error?.message).toBeUndefined();
      expect(told.outcome).toBe("done");
      expect(await stands(url)).toEqual(asLast(all));
    }),
    { numRuns: tries(60, 400) },
  );
  expect(sent.rows("s")).toBeGreaterThan(0);
}, 300_000);
