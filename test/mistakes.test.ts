/** What users do wrong, through the real command: code, place, what was seen, what to do; nothing is lost. */

import { spawnSync } from "node:child_process";
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { DuckDBInstance } from "@duckdb/node-api";
import { describe, expect, it } from "vitest";
import { BOOKINGS_DEFAULTS, type BookingsService } from "../src/standins/index.js";
import { everyNth, inLong } from "./support/long.js";
import { outputLines } from "./support/output.js";
import {
  bookingsService,
  command,
  demoProject,
  startCommand,
  type TestProject,
  temporaryFolder,
} from "./support/project.js";
import { serve } from "./support/serve.js";
import { expectTruth, queryFile } from "./support/truth.js";
import { whenDone } from "./support/when-done.js";

type Mistake = (project: TestProject, service: BookingsService) => unknown;
const connectorFile = "connectors/bookings.connector.yaml";

const MISTAKES: Record<string, { make: Mistake; exit: number; says: (string | RegExp)[] }> = {
  "a wrong secret": {
    make: (project) => project.edit(".env", BOOKINGS_DEFAULTS.clientSecret, "wrong-secret-7"),
    exit: 3,
    says: ["SIGN_IN_REFUSED", "invalid_client", "account north", "Check client_id and client_secret"],
  },
  "a secret that is not set": {
    make: (project) => project.edit(".env", /BOOKINGS_SECRET=.*/, ""),
    exit: 2,
    says: [
      "SECRET_MISSING",
      "$BOOKINGS_SECRET, which is not set",
      "bridges.yaml:7:20",
      "BOOKINGS_SECRET=… into .env",
    ],
  },
  "a secret that is empty": {
    make: (project) => project.edit(".env", /BOOKINGS_SECRET=.*/, "BOOKINGS_SECRET="),
    exit: 2,
    says: ["SECRET_MISSING", "$BOOKINGS_SECRET, which is empty"],
  },
  "a secret written into the file": {
    make: (project) => project.edit("bridges.yaml", "$BOOKINGS_SECRET", "plain-text-secret"),
    exit: 2,
    says: ["SECRET_IN_PLAIN", "bridges.yaml:7:20", "$NORTH_CLIENT_SECRET"],
  },
  "an unknown host": {
    make: (project) => project.edit(".env", /BOOKINGS_URL=.*/, "BOOKINGS_URL=https://no-such-host.invalid"),
    exit: 4,
    says: ["HOST_UNKNOWN", "no-such-host.invalid", "Check the host name"],
  },
  "a refused connection": {
    make: (_project, service) => service.close(),
    exit: 4,
    says: ["CONNECTION_REFUSED", "refused the connection (tried 3 times)", "is the service running?"],
  },
  "a wrong base URL": {
    make: (project) => project.edit(connectorFile, '"{+base}/v2"', '"{+base}/v3"'),
    exit: 4,
    says: ["NOT_FOUND", "404", /GET http:\S+\/v3\/bookings/, "Check the base URL"],
  },
  "a web page instead of JSON": {
    make: async (project) => {
      const url = await serve((_request, response) =>
        response
          .writeHead(200, { "content-type": "text/html" })
          .end("<!doctype html><title>Sign in, please</title>"),
      );
      project.edit(connectorFile, '"{+base}/v2"', `"${url}"`);
    },
    exit: 4,
    says: ["BODY_HTML", 'a web page titled "Sign in, please"', "Check the sign-in, then the base URL"],
  },
  "a records path that matches nothing": {
    make: (project) => project.edit(connectorFile, "$.items[*]", "$.itmes[*]"),
    exit: 5,
    says: [
      "RECORDS_NOT_FOUND",
      "records: $.itmes[*]",
      "items (list)",
      "Perhaps records: $.items[*] is meant",
    ],
  },
  "a key that no record has": {
    make: (project) => project.edit(connectorFile, "key: id\n    columns", "key: ref_no\n    columns"),
    exit: 5,
    says: ["KEY_NOT_FOUND", "ref_no", "Its fields: id, reference, hut_id"],
  },
  "a cursor field that no record has": {
    make: (project) => project.edit(connectorFile, "field: changed_at", "field: updated"),
    exit: 5,
    says: ["CURSOR_NOT_FOUND", "updated", "changed_at"],
  },
  "an unknown key": {
    make: (project) => project.edit(connectorFile, "records: $.items", "recrods: $.items"),
    exit: 2,
    says: [
      "CONFIG_UNKNOWN_KEY",
      "streams.bookings.recrods",
      "connectors/bookings.connector.yaml:24:5",
      "Perhaps records is meant",
    ],
  },
  "an unknown stream": {
    make: (project) => project.edit("bridges.yaml", "bookings: { write", "booking: { write"),
    exit: 2,
    says: ["CONFIG_UNKNOWN_NAME", "no stream booking", "Perhaps bookings is meant"],
  },
  "upsert without a key": {
    make: (project) => project.edit(connectorFile, "    key: id\n    columns", "    columns"),
    exit: 2,
    says: ["CONFIG_INVALID", "has no key", "write: replace"],
  },
  "a warehouse file of another program": {
    make: (project) =>
      writeFileSync(join(project.folder, "huts.duckdb"), "a diary, not a database\n".repeat(900)),
    exit: 6,
    says: ["WAREHOUSE_NOT_OURS", "huts.duckdb", "no DuckDB file", "Choose another path"],
  },
  "a warehouse folder that is not there": {
    make: (project) => project.edit("bridges.yaml", "./huts.duckdb", "./no/such/folder/huts.duckdb"),
    exit: 6,
    says: ["WAREHOUSE_UNREACHABLE", "no/such/folder"],
  },
};

describe("a mistake on the first run", () => {
  it.each(everyNth(Object.keys(MISTAKES), 4))("%s is explained", async (name) => {
    const { make, exit, says } = MISTAKES[name]!;
    const service = await bookingsService({ bookings: 120 });
    const project = demoProject(service.url);
    await make(project, service);
    const { code, stdout, stderr } = await command(["run"], project.folder);
    const output = stdout + stderr;
    for (const words of says)
      expect(output).toEqual(
        typeof words === "string" ? expect.stringContaining(words) : expect.stringMatching(words),
      );
    expect(output).toMatch(/^ {2}where {2}\S.*\n {2}next {3}\S/m);
    expect(code).toBe(exit);
    expect(output).not.toMatch(/wrong-secret-7|plain-text-secret|edelweiss/);
    expect(output).not.toMatch(/^\s+at .*\.js:\d+/m);
  });
});

describe("a mistake on a later run", () => {
  it.each(
    everyNth(
      [
        "a wrong secret",
        "a wrong base URL",
        "a records path that matches nothing",
        "a key that no record has",
      ],
      3,
    ),
  )("%s leaves tables and cursor as they were", async (name) => {
    const service = await bookingsService({ bookings: 300 });
    const project = demoProject(service.url);
    expect(await command(["run"], project.folder)).toMatchObject({ code: 0 });
    const cursor = () => queryFile(project.database, "SELECT cursor FROM early_bridge.cursors");
    const before = await cursor();
    await MISTAKES[name]!.make(project, service);
    const { code } = await command(["run"], project.folder);
    // the tables that stand know another key: nothing is asked for then
    expect(code).toBe(name === "a key that no record has" ? 2 : MISTAKES[name]!.exit);
    expect(await cursor()).toEqual(before);
    await expectTruth(service.url, project.database, false);
  });
});

describe("a warehouse", () => {
  it("that another program has open is named, with who has it", async () => {
    const service = await bookingsService({ bookings: 50 });
    const project = demoProject(service.url);
    const instance = await DuckDBInstance.create(project.database);
    whenDone(() => instance.closeSync());
    const { code, stderr } = await command(["run"], project.folder);
    expect(stderr).toMatch(/WAREHOUSE_LOCKED {2}The DuckDB file is open in another program: .*PID \d+/);
    expect(code).toBe(6);
  });

  it("that holds a table of the same name made by somebody else is left alone", async () => {
    const service = await bookingsService({ bookings: 50 });
    const project = demoProject(service.url);
    const instance = await DuckDBInstance.create(project.database);
    const connection = await instance.connect();
    await connection.run("CREATE SCHEMA bookings; CREATE TABLE bookings.bookings AS SELECT 'mine' AS note");
    connection.closeSync();
    instance.closeSync();
    const { code, stdout, stderr } = await command(["run"], project.folder);
    expect(stdout + stderr).toContain("TABLE_NOT_OURS");
    expect(code).toBe(6);
    expect(await queryFile(project.database, "FROM bookings.bookings")).toEqual([{ note: "mine" }]);
  });
});

describe("the command line", () => {
  it("stops at a checkpoint on Ctrl-C, says so, and goes on next time", async () => {
    const service = await bookingsService({ bookings: 5000, latencyMs: 30 });
    const project = demoProject(service.url);
    const running = startCommand(["run", "--plain"], project.folder);
    const watch = setInterval(() => {
      if (service.log.length < 6) return;
      clearInterval(watch);
      running.child.kill("SIGINT");
    }, 2);
    const { code, stdout } = await running.ended;
    expect(code).toBe(130);
    expect(stdout).toContain("Stopping at a checkpoint");
    expect(stdout).toContain("run again to go on from there");
    const kept = await queryFile(project.database, "SELECT count(*)::INTEGER AS rows FROM bookings.bookings");
    expect(Number(kept[0]?.rows)).toBeGreaterThan(0);
    expect(await command(["run"], project.folder)).toMatchObject({ code: 0 });
    await expectTruth(service.url, project.database, false);
  });

  it("speaks JSON lines to machines", async () => {
    const service = await bookingsService({ bookings: 700 });
    const project = demoProject(service.url);
    const { stdout } = await command(["run", "bookings", "--json"], project.folder);
    const events = outputLines(stdout);
    expect(events[0]).toMatchObject({ type: "run_started", run: 1, streams: ["huts", "bookings"] });
    expect(events.at(-1)).toMatchObject({ type: "run_ended", outcome: "done" });
    const runs = await command(["history", "--json"], project.folder);
    expect(JSON.parse(runs.stdout)).toMatchObject({
      run: 1,
      outcome: "done",
      streams: [{ stream: "bookings", added: 700 }, {}],
    });
    const failed = await command(["run", "nosuch", "--json"], project.folder);
    expect(JSON.parse(failed.stdout)).toMatchObject({
      type: "error",
      error: { code: "CONFIG_UNKNOWN_NAME" },
    });
    expect(failed.code).toBe(2);
  });

  inLong(
    "shows the history of runs, one run in detail, and what there is to do before the first",
    async () => {
      const service = await bookingsService({ bookings: 300 });
      const project = demoProject(service.url);
      const early = await command(["history"], project.folder);
      expect(early.stderr).toContain("Run a bridge first");
      expect(early.code).toBe(6);
      await command(["run"], project.folder);
      project.edit(".env", BOOKINGS_DEFAULTS.clientSecret, "wrong-secret-7");
      await command(["run"], project.folder);
      const { stdout } = await command(["history"], project.folder);
      expect(stdout).toMatch(/2 +bookings +failed[\s\S]*1 +bookings +done .* 340 +0 +0/);
      expect(stdout).toContain("run 2: SIGN_IN_REFUSED");
      const detail = await command(["history", "1"], project.folder);
      expect(detail.stdout).toMatch(
        /bookings {2}done\n {4}rows {4}300 added, 0 changed, 0 unchanged\n {4}asked {3}1 page in 1 request/,
      );
      expect(await command(["history", "77"], project.folder)).toMatchObject({ code: 2 });
    },
  );

  it("explains a folder without a project, and words that it does not know", async () => {
    const folder = temporaryFolder();
    const { code, stderr } = await command(["run"], folder);
    expect([code, stderr]).toEqual([
      2,
      expect.stringContaining("CONFIG_NOT_FOUND  No bridges.yaml is here."),
    ]);
    expect(await command(["rnu"], folder)).toMatchObject({
      code: 2,
      stderr: expect.stringContaining("Did you mean run"),
    });
    expect(await command(["run", "--frob"], folder)).toMatchObject({
      code: 2,
      stderr: expect.stringContaining("--frob"),
    });
    const help = await command(["run", "--help"], folder);
    expect(help).toMatchObject({ code: 0, stdout: expect.stringContaining("Exit codes:") });
  });

  it("are told in few lines where a script of somebody's own does not catch them", () => {
    const entry = JSON.stringify(new URL("../dist/index.js", import.meta.url));
    const script = `import { defineConnector } from ${entry}; defineConnector({ connector: "huts", api: {} });`;
    const { status, stderr } = spawnSync(process.execPath, ["--input-type=module", "-e", script], {
      encoding: "utf8",
    });
    expect(status).toBe(1);
    expect(stderr).toMatch(/^BridgeError: .*api\.url/m);
    expect(stderr).toContain("hint: ");
    expect(Math.max(...stderr.split("\n").map(({ length }) => length))).toBeLessThan(400);
  });
});
