/** Runs beside each other, and output that nobody reads any more. */

import { spawn } from "node:child_process";
import { join, resolve } from "node:path";
import { describe, expect, it } from "vitest";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { bridgeInto } from "./support/carried.js";
import { fakeApi } from "./support/fake-api.js";
import { inLong, isLong } from "./support/long.js";
import { bookingsService, command, demoProject, startCommand, temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";

const LOOPS = isLong ? 3 : 1;

describe("many small streams", () => {
  it(`share a warehouse, ${LOOPS} times over, and every one is done`, async () => {
    const names = Array.from({ length: 12 }, (_, i) => `s${i}`);
    const streams = Object.fromEntries(
      names.map((name) => [name, { get: `/${name}`, key: "id", pages: { number: 1, query: "page" } }]),
    );
    const path = join(temporaryFolder(), "many.duckdb");
    for (let loop = 0; loop < LOOPS; loop++) {
      const { api } = fakeApi({ streams, api: { rate_limit: { concurrency: 12 } } }, ({ query }) => ({
        body:
          Number(query.get("page")) > 4
            ? []
            : [{ id: query.get("page"), kids: [{ n: loop }], [`x${loop}`]: 1 }],
      }));
      const checkpoint = { rows: 1 };
      const report = await (await bridgeInto(path, api, { checkpoint })).run();
      const failed = report.streams.filter(({ outcome }) => outcome !== "done");
      expect(failed.map(({ error }) => error?.message)).toEqual([]);
    }
    for (const name of names)
      expect(await queryFile(path, `SELECT count(*)::INTEGER AS n FROM ${name}`)).toEqual([{ n: 4 }]);
  }, 600_000);
});

describe("one bridge twice", () => {
  it("in one process runs once at a time, and says why", async () => {
    const path = join(temporaryFolder(), "twice.duckdb");
    const runOnce = async () => {
      const { api } = fakeApi({ get: "/s", key: "id" }, () => ({ body: [{ id: 1 }] }));
      return (await bridgeInto(path, api)).run();
    };
    const both = await Promise.allSettled([runOnce(), runOnce()]);
    const told = both.flatMap((each) => (each.status === "rejected" ? [each.reason] : []));
    expect(told).toMatchObject([{ code: "BRIDGE_RUNNING", hint: expect.stringContaining("--wait") }]);
    expect((await runOnce()).outcome).toBe("done");
    const outcomes = await queryFile(path, "SELECT DISTINCT outcome FROM early_bridge.runs");
    expect(outcomes).toEqual([{ outcome: "done" }]);
  });

  it("in two processes is refused, or waits until the file is free", async () => {
    const { url } = await bookingsService({ bookings: 50 });
    const { folder, database } = demoProject(url);
    const session = await duckdb(database).open();
    const refused = await command(["run", "--plain"], folder);
    expect(refused).toMatchObject({ code: 6, stderr: expect.stringContaining("WAREHOUSE_LOCKED") });
    const waiting = startCommand(["run", "--plain", "--wait"], folder);
    await expect.poll(waiting.output, { timeout: 60_000 }).toContain("Waiting until it is free");
    await session.close();
    expect(await waiting.ended).toMatchObject({ code: 0 });
  });
});

describe("output that nobody reads", () => {
  it("ends the run quietly, at a checkpoint", async () => {
    const { url } = await bookingsService({ bookings: 3000, perSecond: 10 });
    const { folder, database } = demoProject(url);
    const main = resolve("dist/cli/main.js");
    const child = spawn("sh", ["-c", `"${process.execPath}" "${main}" run --json | head -n 3`], {
      cwd: folder,
    });
    let [out, errors] = ["", ""];
    child.stdout.on("data", (data) => (out += String(data)));
    child.stderr.on("data", (data) => (errors += String(data)));
    await new Promise((done) => child.once("close", done));
    expect(out.trim().split("\n")).toHaveLength(3);
    expect(errors).toBe("");
    const ended = async () =>
      (await queryFile(database, "SELECT outcome FROM early_bridge.runs"))[0]?.outcome;
    await expect.poll(ended, { timeout: 60_000 }).toMatch(/stopped|done/);
  });
});

describe("the history", () => {
  inLong("shows the failure of each stream, with its place and the next step", async () => {
    const { url } = await bookingsService({ bookings: 20 });
    const project = demoProject(url);
    project.edit("connectors/bookings.connector.yaml", "get: /huts", "get: /hutz");
    const run = await command(["run", "--plain"], project.folder);
    expect(run.code).toBe(4);
    const shown = (await command(["history", "1"], project.folder)).stdout;
    expect(shown).toMatch(
      /huts {2}failed[\s\S]*NOT_FOUND {2}The API knows no such address[\s\S]*where[\s\S]*stream huts[\s\S]*next/,
    );
    const missing = await command(["history", "999", "--json"], project.folder);
    expect(missing).toMatchObject({ code: 2, stdout: expect.stringContaining("There is no run 999") });
  });

  it("notices that are alike are told some times, then as a number", async () => {
    const { api } = fakeApi({ get: "/s", expand: { get: "/s/{id}", fields: { id: "id" } } }, ({ path }) =>
      path === "/s" ? { body: Array.from({ length: 80 }, (_, i) => ({ id: i })) } : { status: 404 },
    );
    const notices: string[] = [];
    const bridge = await bridgeInto(join(temporaryFolder(), "n.duckdb"), api);
    await bridge.run({ onEvent: (event) => event.type === "notice" && notices.push(event.message) });
    expect(notices).toHaveLength(4);
    expect(notices[3]).toBe(`77 more like this one: ${notices[0]}`);
  });
});
