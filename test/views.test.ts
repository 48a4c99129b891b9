/** Views of a project: made after a run, kept while their tables change, told of where they cannot be made. */

import { mkdirSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { openBridge, planViews } from "../src/index.js";
import { fakeApi } from "./support/fake-api.js";
import { inLong } from "./support/long.js";
import { bookingsService, command, demoProject, temporaryFolder } from "./support/project.js";
import { changeFile, queryFile } from "./support/truth.js";
import { isPostgres, isServer, namedFor, onWarehouse, warehouseAt } from "./support/warehouse.js";

/** Runs of one stream `s` with views, into one warehouse. */
function house() {
  const path = join(temporaryFolder(), "house.duckdb");
  const bridgeOf = async (records: readonly unknown[], views: Readonly<Record<string, string>>) => {
    const queries = Object.entries(views).map(
      async ([name, query]) => [name, await namedFor(path, query)] as const,
    );
    return openBridge({
      from: fakeApi({ get: "/s", key: "id" }, () => ({ body: records })).api,
      to: warehouseAt(path),
      name: "b",
      schema: "huts",
      views: Object.fromEntries(await Promise.all(queries)),
    });
  };
  return {
    path,
    run: async (records: readonly unknown[], views: Readonly<Record<string, string>>) =>
      (await bridgeOf(records, views)).run(),
    plan: async (views: Readonly<Record<string, string>>) => planViews(await bridgeOf([], views)),
    rows: (view: string) => queryFile(path, `SELECT * FROM huts.${view} ORDER BY 1`),
    change: (sql: string) => (isServer ? onWarehouse(path, sql) : changeFile(path, sql)),
  };
}

const LIST = "SELECT s.id, k.n FROM huts.s AS s JOIN huts.s_kids AS k ON k.s_id = s.id -- flat";

describe("views", () => {
  it("are made of their queries after a run, those that read others as well", async () => {
    const { run, rows, plan, path } = house();
    const views = { a_sum: "SELECT count(*) AS n FROM huts.list", list: `${LIST}\n;` };
    expect(await plan(views)).toEqual([
      { view: "huts.a_sum", warnings: [] },
      { view: "huts.list", warnings: [] },
    ]);
    const report = await run([{ id: 1, kids: [{ n: 3 }, { n: 4 }] }], views);
    expect(report).toMatchObject({
      outcome: "done",
      error: undefined,
      views: [
        { view: "a_sum", outcome: "made" },
        { view: "list", outcome: "made" },
      ],
    });
    expect(await rows("a_sum")).toEqual([{ n: "2" }]);
    expect(
      await queryFile(
        path,
        "SELECT bridge, table_schema, view_name, query, run::INTEGER AS run FROM early_bridge.views ORDER BY view_name",
      ),
    ).toEqual([
      {
        bridge: "b",
        table_schema: "huts",
        view_name: "a_sum",
        query: await namedFor(path, views.a_sum),
        run: 1,
      },
      { bridge: "b", table_schema: "huts", view_name: "list", query: await namedFor(path, LIST), run: 1 },
    ]);
    expect(await plan(views)).toEqual([
      { view: "huts.a_sum", warnings: [] },
      { view: "huts.list", warnings: [] },
    ]);
  });

  it("follow their queries: other columns, and away with the last of it", async () => {
    const { run, rows } = house();
    const records = [{ id: 1, kids: [{ n: 3 }] }];
    await run(records, {
      list: LIST,
      twice: "SELECT id AS first, n FROM huts.list",
      other: "SELECT 1 AS one",
    });
    const report = await run(records, {
      list: "SELECT 'x' AS sign, s.id FROM huts.s AS s",
      twice: "SELECT sign, id FROM huts.list",
    });
    expect(report.error).toBeUndefined();
    expect(report.views).toEqual([
      { view: "list", outcome: "made" },
      { view: "other", outcome: "dropped" },
      { view: "twice", outcome: "made" },
    ]);
    expect(await rows("twice")).toEqual([{ sign: "x", id: "1" }]);
    await expect(rows("other")).rejects.toThrow("other");
  });

  it("stand while columns that they read get wider types, or their table is replaced", async () => {
    const { run, rows } = house();
    const views = { seen: "SELECT id, v FROM huts.s", twice: "SELECT id, v FROM huts.seen" };
    await run([{ id: 1, v: 1 }], views);
    expect(await rows("twice")).toEqual([{ id: "1", v: "1" }]);
    const report = await run([{ id: 2, v: "two" }], views);
    expect(report.error).toBeUndefined();
    expect(await rows("twice")).toEqual([
      { id: "1", v: "1" },
      { id: "2", v: "two" },
    ]);
  });

  it.runIf(isPostgres)("of somebody else keep a column's type: the run says which one", async () => {
    const { run, rows, change } = house();
    await run([{ id: 1, v: 1 }], {});
    await change("CREATE VIEW huts.mine AS SELECT v FROM huts.s");
    const report = await run([{ id: 2, v: "two" }], {});
    expect(report).toMatchObject({ outcome: "failed", error: { code: "WAREHOUSE_FAILED" } });
    expect(report.error!.message).toContain("view huts.mine");
    expect(await rows("mine")).toEqual([{ v: "1" }]);
  });

  it("that cannot be made are told of; rows and other views are there all the same", async () => {
    const { run, rows, plan } = house();
    const views = { ok: "SELECT id FROM huts.s", wrong: "SELECT nothing FROM huts.s" };
    const report = await run([{ id: 1 }], views);
    expect(report).toMatchObject({
      outcome: "done",
      error: { code: "VIEW_FAILED", kind: "warehouse", where: { bridge: "b", table: "huts.wrong" } },
    });
    expect(report.error!.message).toMatch(/^View wrong could not be made: [^\n]*nothing/);
    expect(await rows("ok")).toEqual([{ id: "1" }]);
    const [, wrong] = await plan(views);
    expect(wrong!.warnings[0]).toContain("nothing");
    const mended = await run([{ id: 1 }], { ...views, wrong: "SELECT id AS nothing FROM huts.s" });
    expect(mended.error).toBeUndefined();
  });

  it("never take the place of what is not of their bridge's making", async () => {
    const { run, rows, change } = house();
    await run([{ id: 1 }], {});
    await change("CREATE VIEW huts.mine AS SELECT 1 AS one");
    const report = await run([{ id: 1 }], { mine: "SELECT 2 AS two", s: "SELECT 3 AS three" });
    expect(report.views).toEqual([
      { view: "mine", outcome: "failed", problem: expect.stringMatching(/^A view of that name/) },
      { view: "s", outcome: "failed", problem: expect.stringMatching(/^A table of that name/) },
    ]);
    expect(await rows("mine")).toEqual([{ one: 1 }]);
  });

  it("hold one query each, under a name that tables may have", async () => {
    const { run } = house();
    await expect(run([], { two: "SELECT 1; DROP TABLE huts.s" })).rejects.toMatchObject({
      code: "VIEW_INVALID",
      where: { bridge: "b", table: "two" },
    });
    await expect(run([], { "Two!": "SELECT 1" })).rejects.toMatchObject({ code: "VIEW_INVALID" });
  });
});

describe.skipIf(isServer)("the files of a project's views", () => {
  inLong("are told of by plan and run, with what is wrong", async () => {
    const project = demoProject((await bookingsService({ bookings: 40 })).url);
    const views = join(project.folder, "views");
    writeFileSync(join(views, "wrong.sql"), "SELECT nothing\nFROM bookings.huts");
    const planned = await command(["plan"], project.folder);
    expect(planned.stdout).toContain("view bookings.guest_list, made after the run");
    const run = await command(["run", "--plain"], project.folder);
    expect(run.code).toBe(6);
    expect(run.stdout).toMatch(/ done in /);
    expect(run.stdout).toContain("views  guest_list, nights_by_hut");
    expect(run.stderr).toContain("VIEW_FAILED  View wrong could not be made: ");
    expect((await command(["plan"], project.folder)).stdout).toMatch(
      /careful +As its tables are now: .*nothing/,
    );
    expect(
      await queryFile(project.database, "SELECT sum(bookings)::INTEGER AS n FROM bookings.nights_by_hut"),
    ).toEqual(
      await queryFile(
        project.database,
        "SELECT count(*)::INTEGER AS n FROM bookings.bookings WHERE state <> 'cancelled'",
      ),
    );
    rmSync(join(views, "wrong.sql"));
    const json = await command(["run", "--json"], project.folder);
    const ended = JSON.parse(json.stdout.trim().split("\n").at(-1)!);
    expect(ended.views).toEqual([
      { view: "guest_list", outcome: "made" },
      { view: "nights_by_hut", outcome: "made" },
    ]);
    rmSync(views, { recursive: true });
    const missing = await command(["run"], project.folder);
    expect(missing).toMatchObject({ code: 2, stderr: expect.stringContaining("CONFIG_NOT_FOUND") });
    mkdirSync(views);
    expect((await command(["run", "--plain"], project.folder)).stdout).toContain(
      "views dropped, for their files are gone  guest_list, nights_by_hut",
    );
  });
});
