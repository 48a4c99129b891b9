/** Rows that go into the tables of a DuckDB file ahead of their checkpoint: what stands in the end is what came. */

import { fork } from "node:child_process";
import { once } from "node:events";
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { join } from "node:path";
import fc from "fast-check";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { Ahead } from "../src/warehouse/duckdb/ahead.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { STAGE_SIZES } from "../src/warehouse/duckdb/stage-sizes.js";
import { bridgeInto } from "./support/carry.js";
import { fakeApi } from "./support/fake-api.js";
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
import { temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";

const usual = { ...STAGE_SIZES };

beforeEach(() => {
  // every page is a file
  Object.assign(STAGE_SIZES, { fewRows: 1, groupRows: 1, fileBytes: 0, aheadRows: 1 });
});

afterEach(() => {
  Object.assign(STAGE_SIZES, usual);
  vi.restoreAllMocks();
});

const house: HutHouse = {
  fresh: async () => join(temporaryFolder(), "house.duckdb"),
  warehouse: (path) => duckdb(path),
  on: async (path, statement) => await queryFile(path, statement),
};
const carry = (pages: Pages, ways?: Ways) => carryPages(house, pages, ways);
const stands = (path: string) => standing(house, path);

/** The checkpoints whose rows were on their way ahead: those that stayed in their tables, and the others. */
function watched() {
  const stayed = new Set<Ahead>();
  const { settle } = Ahead.prototype;
  vi.spyOn(Ahead.prototype, "settle").mockImplementation(async function (this: Ahead, areNew) {
    await settle.call(this, areNew);
    if (this.committing !== undefined) stayed.add(this);
  });
  const put = vi.spyOn(Ahead.prototype, "put");
  return {
    get stayed() {
      return stayed.size;
    },
    get wentBack() {
      return new Set(put.mock.contexts).size - stayed.size;
    },
  };
}

describe("rows that are all new", () => {
  it.each(["upsert", "replace"] as const)("go ahead, by %s", async (write) => {
    const ahead = watched();
    const { url, told } = await carry(huts(12), { write });
    expect(told).toMatchObject({ outcome: "done", added: 24, changed: 0, unchanged: 0 });
    expect(await stands(url)).toEqual(asLast(huts(12)));
    expect(ahead.stayed).toBeGreaterThanOrEqual(3);
    // what is built beside has its tables from the first checkpoint on
    expect(ahead.wentBack).toBe(write === "replace" ? 1 : 0);
    const [row] = await queryFile(
      url,
      `SELECT (SELECT count(*) FROM huts.s_beds WHERE eb_run = 1 AND eb_loaded_at IS NOT NULL)::INTEGER AS beds,
       (SELECT count(DISTINCT eb_loaded_at) FROM huts.s)::INTEGER AS times,
       (SELECT sum("rows") FROM early_bridge.checkpoints)::INTEGER AS noted`,
    );
    expect(row).toEqual({ beds: 48, times: 1, noted: 24 });
  });

  it("stay out of a run that fails, but for those of its checkpoints", async () => {
    const ahead = watched();
    const before = (page: number) => (page < 9 ? undefined : 400);
    const { url, report } = await carry(huts(12), { before, checkpoint: 20 });
    expect(report.outcome).toBe("failed");
    const [noted] = await queryFile(url, 'SELECT sum("rows")::INTEGER AS n FROM early_bridge.checkpoints');
    expect(await stands(url)).toHaveLength(Number(noted?.n));
    const again = await carry(huts(12), { url });
    expect(again.report.outcome).toBe("done");
    expect(await stands(url)).toEqual(asLast(huts(12)));
    expect(ahead.stayed).toBeGreaterThan(0);
  });

  it("without a key go ahead as well", async () => {
    const ahead = watched();
    const { url, told } = await carry(huts(8), { stream: { key: undefined }, write: "replace" });
    expect(told).toMatchObject({ outcome: "done", added: 16 });
    expect(ahead.stayed).toBeGreaterThan(0);
    const [row] = await queryFile(
      url,
      "SELECT count(*)::INTEGER AS n, count(DISTINCT id)::INTEGER AS ids FROM huts.s",
    );
    expect(row).toEqual({ n: 16, ids: 16 });
  });

  it("go ahead where they go on from what stands", async () => {
    const all = huts(16);
    const { url } = await carry(all.slice(0, 6), { stream: CURSOR });
    const ahead = watched();
    const { told } = await carry(all.slice(6), { url, stream: CURSOR });
    expect(told).toMatchObject({ outcome: "done", added: 20, changed: 0 });
    expect(ahead.stayed).toBeGreaterThan(0);
    expect(await stands(url)).toEqual(asLast(all));
  });
});

/** Huts of many beds each: those of the beds' table are the only ones that are enough for a file. */
const crowded = (pages: number) =>
  huts(pages).map((page) =>
    page.map((each) => ({ ...each, beds: Array.from({ length: 9 }, (_, no) => ({ no })) })),
  );

it("where only those of a child table begin to go ahead, their records follow", async () => {
  STAGE_SIZES.aheadRows = 16;
  const ahead = watched();
  const all = crowded(20);
  const { url, told } = await carry(all, { checkpoint: 80 });
  expect(told).toMatchObject({ outcome: "done", added: 40 });
  expect(ahead.stayed).toBeGreaterThan(0);
  expect(await stands(url)).toEqual(asLast(all));
});

it("what is enough for a file at the checkpoint alone goes in as others do", async () => {
  STAGE_SIZES.fileBytes = 1_000_000;
  STAGE_SIZES.aheadRows = 16;
  const ahead = watched();
  const all = crowded(20);
  const { url, told } = await carry(all, { checkpoint: 80 });
  expect(told).toMatchObject({ outcome: "done", added: 40 });
  expect(ahead.stayed + ahead.wentBack).toBe(0);
  expect(await stands(url)).toEqual(asLast(all));
});

it("streams beside one another go ahead in turn, and none is in another's way", async () => {
  const ahead = watched();
  const names = ["east", "north", "south", "west"];
  const all = new Map(names.map((name) => [name, huts(12)]));
  const stream = (name: string) => ({
    get: `/${name}`,
    key: "id",
    records: "$.items[*]",
    pages: { token: "$.next", query: "page" },
  });
  const streams = Object.fromEntries(names.map((name) => [name, stream(name)]));
  const { api } = fakeApi({ streams }, ({ path, query }) => {
    const page = Number(query.get("page") ?? 1);
    const items = all.get(path.slice(1))![page - 1];
    return { body: { items, next: page < 12 ? String(page + 1) : null } };
  });
  const path = await house.fresh();
  const bridge = await bridgeInto(duckdb(path), api, { checkpoint: { rows: 12 } });
  const { outcome, error, streams: told } = await bridge.run();
  expect(error?.message).toBeUndefined();
  expect([outcome, ...told.map(({ added }) => added)]).toEqual(["done", 24, 24, 24, 24]);
  for (const name of names) {
    const query = `SELECT count(*)::INTEGER AS n, (SELECT count(*) FROM huts.${name}_beds)::INTEGER AS beds FROM huts.${name}`;
    expect(await queryFile(path, query)).toEqual([{ n: 24, beds: 48 }]);
  }
  expect(ahead.stayed).toBeGreaterThan(0);
});

describe("what is not as expected takes them back", () => {
  const pages = huts(10);
  it.each<[string, Hut, object?]>([
    ["a record that came since the last checkpoint", hut(9, { beds: [] })],
    ["a record that stands", hut(1, { name: "again" })],
    ["a field that is new", hut(50, { altitude: 2400 })],
    ["a value of another type", hut(50, { beds: [{ no: "upper 1" }] })],
    ["a list that is new", hut(50, { guests: [{ name: "Ada" }] })],
  ])("%s", async (_what, odd) => {
    const ahead = watched();
    const all = [...pages.slice(0, 7), [{ ...odd, at: later() }], ...pages.slice(7)];
    const { url, told, report } = await carry(all, { checkpoint: 24, stream: CURSOR });
    expect(report.error?.message).toBeUndefined();
    expect(told.outcome).toBe("done");
    expect(await stands(url)).toEqual(asLast(all));
    expect(ahead.wentBack).toBeGreaterThan(0);
    const [beds] = await queryFile(url, "SELECT count(*)::INTEGER AS n FROM huts.s_beds");
    const last = new Map(all.flat().map((each) => [each.id, each.beds ?? []]));
    expect(beds?.n).toBe([...last.values()].flat().length);
  });

  it("a record that is gone", async () => {
    const ahead = watched();
    const all = [...pages.slice(0, 7), [{ id: 3, gone: true, at: later() }], ...pages.slice(7)];
    const { url, told } = await carry(all, {
      checkpoint: 24,
      stream: { ...CURSOR, gone: "record.gone == true" },
    });
    expect(told.outcome).toBe("done");
    expect(await stands(url)).toEqual(asLast(pages).filter((row) => !row.startsWith("3 ")));
    expect(ahead.wentBack).toBeGreaterThan(0);
  });
});

it("whatever comes, in whatever pages and checkpoints, what stands is what came last", async () => {
  const ahead = watched();
  await fc.assert(
    fc.asyncProperty(anyPages(), fc.integer({ min: 1, max: 20 }), async (all, checkpoint) => {
      const { url, told, report } = await carry(all, { checkpoint, stream: CURSOR });
      expect(report.error?.message).toBeUndefined();
      expect(told.outcome).toBe("done");
      expect(await stands(url)).toEqual(asLast(all));
    }),
    { numRuns: tries(12, 100) },
  );
  expect(ahead.stayed).toBeGreaterThan(0);
  expect(ahead.wentBack).toBeGreaterThan(0);
}, 300_000);

describe("a process that is killed while rows are ahead", () => {
  const CARRIER = join(import.meta.dirname, "support", "carry-texts.mjs");
  const [PAGES, SIZE] = [60, 5000];

  it.each(tries(2, 8) === 2 ? [26, 47] : [12, 19, 26, 33, 40, 47, 54, 59])(
    "at page %i",
    async (last) => {
      let isOver = false;
      const server = createServer((request, response) => {
        const page = Number(new URL(request.url!, "http://huts.example").searchParams.get("page") ?? 1);
        if (page === last && !isOver) {
          isOver = true;
          child.kill("SIGKILL");
          return;
        }
        const from = (page - 1) * SIZE;
        const ids = Array.from({ length: page > PAGES ? 0 : SIZE }, (_, n) => from + n);
        response.end(JSON.stringify(ids.map((id) => ({ id, note: `a note of ${id}` }))));
      });
      await once(server.listen(0, "127.0.0.1"), "listening");
      const path = join(temporaryFolder(), "killed.duckdb");
      const carried = () =>
        fork(CARRIER, [`http://127.0.0.1:${(server.address() as AddressInfo).port}/`, path]);
      let child = carried();
      expect((await once(child, "exit"))[1]).toBe("SIGKILL");
      const noted = `SELECT coalesce(sum("rows"), 0)::INTEGER AS n FROM early_bridge.checkpoints`;
      const held = "SELECT count(*)::INTEGER AS n, count(DISTINCT id)::INTEGER AS ids FROM texts.notes";
      // what no checkpoint has committed is not there; the first one makes the table
      const [{ n } = {}] = await queryFile(path, noted);
      if (n !== 0) expect(await queryFile(path, held)).toEqual([{ n, ids: n }]);
      child = carried();
      const [told] = await once(child, "message");
      expect(told).toMatchObject({ outcome: "done" });
      expect(await queryFile(path, held)).toEqual([{ n: PAGES * SIZE, ids: PAGES * SIZE }]);
      server.close();
    },
    60_000,
  );
});
