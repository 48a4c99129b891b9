/** The main job, through the public API, over real HTTP into a real DuckDB file. */

import { describe, expect, it } from "vitest";
import { nodeClock } from "../src/http/node-clock.js";
import { isBridgeError, openProject, type RunEvent, type RunReport } from "../src/index.js";
import { bookingsService, demoProject, type TestProject } from "./support/project.js";
import { expectTruth, queryFile } from "./support/truth.js";

async function run(
  project: TestProject,
  options: { streams?: string[]; signal?: AbortSignal; events?: RunEvent[] } = {},
): Promise<RunReport> {
  const { bridge, close } = await (await openProject(project.folder)).openBridge("bookings");
  try {
    return await bridge.run({ ...options, onEvent: (event) => options.events?.push(event) });
  } finally {
    await close();
  }
}

const stream = (report: RunReport, name: string) => report.streams.find((each) => each.stream === name)!;

describe("a bridge", () => {
  it("brings every record into typed tables, and then only what is new", async () => {
    const service = await bookingsService({ bookings: 3000 });
    const project = demoProject(service.url);
    const first = await run(project);
    expect(first).toMatchObject({ run: 1, outcome: "done" });
    expect(stream(first, "bookings")).toMatchObject({
      added: 3000,
      changed: 0,
      unchanged: 0,
      pages: 6,
      requests: 6,
      retries: 0,
    });
    await expectTruth(service.url, project.database, false);

    const news = service.store.usualTick();
    const before = service.log.length;
    const second = await run(project);
    expect(stream(second, "bookings")).toMatchObject({
      added: news.added,
      changed: news.changed,
      pages: 1,
      requests: 1,
    });
    expect(stream(second, "huts")).toMatchObject({ added: 0, changed: 0, unchanged: 40, removed: 0 });
    await expectTruth(service.url, project.database, true);
    // the request log proves it: one request, and only for what changed since the cursor less the overlap
    const asked = service.log.slice(before).filter((entry) => entry.path === "/v2/bookings");
    expect(asked.map((entry) => entry.query)).toEqual([
      { per_page: "500", changed_after: "2026-01-05T08:41:30Z" },
    ]);

    const third = await run(project);
    expect(stream(third, "bookings")).toMatchObject({ added: 0, changed: 0 });
    await expectTruth(service.url, project.database, true);
  });

  it("minds no file that is called like its schema", async () => {
    const service = await bookingsService({ bookings: 50 });
    const project = demoProject(service.url);
    for (const name of ["bookings", "early_bridge"]) {
      project.edit("bridges.yaml", /duckdb: .*duckdb/, `duckdb: ./${name}.duckdb`);
      expect((await run(project)).outcome).toBe("done");
      expect((await run(project)).streams.map(({ added }) => added)).toEqual([0, 0]);
    }
  });

  it("gives columns the types that were declared or seen", async () => {
    const service = await bookingsService({ bookings: 200 });
    const project = demoProject(service.url);
    await run(project);
    const columns = await queryFile(
      project.database,
      "SELECT column_name AS name, data_type AS type FROM information_schema.columns WHERE table_name = 'bookings' AND table_schema = 'bookings'",
    );
    expect(Object.fromEntries(columns.map((column) => [column.name, column.type]))).toMatchObject({
      id: "BIGINT",
      price_amount: "DECIMAL(12,2)",
      stay_from: "DATE",
      changed_at: "TIMESTAMP WITH TIME ZONE",
      extras: "JSON",
      deposit_share: "DOUBLE",
      note: "VARCHAR",
      eb_run: "BIGINT",
      eb_loaded_at: "TIMESTAMP WITH TIME ZONE",
    });
    const big = await queryFile(
      project.database,
      "SELECT id::VARCHAR AS id FROM bookings.bookings WHERE id > 9007199254740992",
    );
    expect(big).toEqual([{ id: "9007199254740993" }]);
  });

  it("commits often when told to, each time rows and cursor together", async () => {
    const service = await bookingsService({ bookings: 3000 });
    const project = demoProject(service.url);
    project.edit("bridges.yaml", "to: local\n", "to: local\n    checkpoint: { rows: 1200 }\n");
    const events: RunEvent[] = [];
    const report = await run(project, { events });
    expect(stream(report, "bookings").checkpoints).toBeGreaterThan(3);
    await expectTruth(service.url, project.database, false);
    const ledger = await queryFile(
      project.database,
      `SELECT number::INTEGER AS number, rows::INTEGER AS rows, cursor->>'value' AS cursor
       FROM early_bridge.checkpoints WHERE stream = 'bookings' ORDER BY number`,
    );
    const told = events.flatMap((event) =>
      event.type === "checkpoint" && event.stream === "bookings" ? [event] : [],
    );
    expect(ledger.map((row) => [row.number, row.cursor])).toEqual(
      told.map((event) => [event.number, event.cursor]),
    );
    expect(ledger.reduce((sum, row) => sum + Number(row.rows), 0)).toBe(3000);
  });

  it("stops at a checkpoint when the signal is aborted, and goes on from there", async () => {
    const service = await bookingsService({ bookings: 4000 });
    const project = demoProject(service.url);
    const stop = new AbortController();
    const { bridge, close } = await (await openProject(project.folder)).openBridge("bookings");
    const first = await bridge.run({
      signal: stop.signal,
      onEvent: (event) => {
        if (event.type === "page" && event.stream === "bookings" && event.page === 3) stop.abort();
      },
    });
    await close();
    expect(first.outcome).toBe("stopped");
    expect(stream(first, "bookings")).toMatchObject({ outcome: "stopped", added: 1500, checkpoints: 1 });
    const before = service.log.length;
    const second = await run(project);
    expect(second.outcome).toBe("done");
    expect(service.log.slice(before).filter((entry) => entry.path === "/v2/bookings").length).toBeLessThan(8);
    await expectTruth(service.url, project.database, false);
  });

  it("goes on by page token where the API keeps no order", async () => {
    const service = await bookingsService({ bookings: 4000 });
    const project = demoProject(service.url);
    project.edit("connectors/bookings.connector.yaml", ", order: ascending", "");
    const stop = new AbortController();
    const { bridge, close } = await (await openProject(project.folder)).openBridge("bookings");
    await bridge.run({
      signal: stop.signal,
      onEvent: (event) => event.type === "page" && event.page === 3 && stop.abort(),
    });
    await close();
    const before = service.log.length;
    const events: RunEvent[] = [];
    await run(project, { events });
    const asked = service.log.slice(before).filter((entry) => entry.path === "/v2/bookings");
    expect(asked[0]?.query.after).toBeDefined();
    expect(asked).toHaveLength(5);
    expect(events).toContainEqual(expect.objectContaining({ type: "stream_started", goesOn: true }));
    await expectTruth(service.url, project.database, false);
  });

  it("begins a pass anew when the API no longer knows the token", async () => {
    const service = await bookingsService({ bookings: 2000 });
    const project = demoProject(service.url);
    project.edit("connectors/bookings.connector.yaml", ", order: ascending", "");
    await run(project);
    const { DuckDBInstance } = await import("@duckdb/node-api");
    const instance = await DuckDBInstance.create(project.database);
    const connection = await instance.connect();
    const cursor = JSON.stringify({
      value: "2026-01-05T07:00:00Z",
      resume: { position: { at: "token", token: "stale" }, beganMs: Date.now(), atMs: Date.now() },
    });
    await connection.run("UPDATE early_bridge.cursors SET cursor = $1 WHERE stream = 'bookings'", [cursor]);
    connection.closeSync();
    instance.closeSync();
    const events: RunEvent[] = [];
    const report = await run(project, { events });
    expect(report.outcome).toBe("done");
    expect(events).toContainEqual(
      expect.objectContaining({ type: "notice", message: expect.stringContaining("begins anew") }),
    );
  });

  it("loads a stream from its beginning when its table is gone", async () => {
    const service = await bookingsService({ bookings: 500 });
    const project = demoProject(service.url);
    await run(project);
    const { DuckDBInstance } = await import("@duckdb/node-api");
    const instance = await DuckDBInstance.create(project.database);
    const connection = await instance.connect();
    await connection.run("DROP TABLE bookings.bookings");
    connection.closeSync();
    instance.closeSync();
    expect(stream(await run(project), "bookings")).toMatchObject({ added: 500 });
    await expectTruth(service.url, project.database, false);
  });

  it("leaves tables and cursor as they were when a stream fails, and carries the others", async () => {
    const service = await bookingsService({ bookings: 300 });
    const project = demoProject(service.url);
    await run(project);
    project.edit("connectors/bookings.connector.yaml", "get: /huts", "get: /hutz");
    const report = await run(project);
    expect(report).toMatchObject({ outcome: "failed" });
    expect(isBridgeError(report.error, "NOT_FOUND")).toBe(true);
    expect(stream(report, "bookings").outcome).toBe("done");
    await expectTruth(service.url, project.database, false);
  });

  it("signs in once however many requests wait, and again ahead of the token's end", async () => {
    const service = await bookingsService({ bookings: 12_000, tokenLifeSeconds: 10 });
    let aheadMs = 0;
    // a second passes with each of the 24 pages
    const clock = { ...nodeClock, now: () => Date.now() + aheadMs };
    const project = await openProject(demoProject(service.url).folder);
    const { bridge, close } = await project.openBridge("bookings", { clock });
    const report = await bridge.run({
      onEvent: (event) => {
        if (event.type === "page") aheadMs += 1000;
      },
    });
    await close();
    expect(report.outcome).toBe("done");
    const signIns = (from: number, to?: number) =>
      service.log.slice(from, to).filter((entry) => entry.path === "/oauth/token").length;
    // both streams began at once and waited for the same token; it was renewed a second before its end
    expect(signIns(0, 3)).toBe(1);
    expect(signIns(3)).toBe(2);
    expect(service.log.filter((entry) => entry.status === 401)).toEqual([]);
  });

  it("signs in again, once, when the API refuses a token", async () => {
    const service = await bookingsService({ bookings: 3000 });
    const { bridge, close } = await (await openProject(demoProject(service.url).folder)).openBridge(
      "bookings",
    );
    const report = await bridge.run({
      onEvent: (event) => {
        if (event.type === "page" && event.stream === "bookings" && event.page === 3) service.forgetTokens();
      },
    });
    await close();
    expect(report.outcome).toBe("done");
    expect(service.log.filter((entry) => entry.path === "/oauth/token")).toHaveLength(2);
    expect(service.log.filter((entry) => entry.status === 401)).toHaveLength(1);
  });

  it("keeps a published limit without being told once that it is too much", async () => {
    const service = await bookingsService({ bookings: 12_000, perSecond: 10 });
    const project = demoProject(service.url);
    project.edit("connectors/bookings.connector.yaml", "per_second: 20", "per_second: 10");
    project.edit("connectors/bookings.connector.yaml", "per_page: 500", "per_page: 400");
    const report = await run(project);
    expect(report.outcome).toBe("done");
    expect(service.log.filter((entry) => entry.status === 429)).toEqual([]);
  });
});
