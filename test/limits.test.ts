/** Limits of a day: what runs leave to each other, whichever bridge and process they are of. */

import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import { connect, defineConnector, openBridge } from "../src/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { inLong } from "./support/long.js";
import { bookingsService, command, startCommand, temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

/** A service of nine pages of one record; it counts what it is asked, and may fall silent at a page. */
async function ninePages(silentAt = Number.POSITIVE_INFINITY) {
  const service = { asked: 0, silentAt, url: "" };
  service.url = await serve((request, response) => {
    const page = Number(new URL(request.url!, "http://x").searchParams.get("page"));
    service.asked++;
    if (page < service.silentAt) response.end(JSON.stringify(page > 9 ? [] : [{ id: page }]));
  });
  return service;
}

const pages = { number: 1, query: "page" };

/** Carries the stream `s` by a connection of its own, as a process of its own would. */
async function carry(
  url: string,
  database: string,
  name: string,
  pace: ConnectorInput["api"]["rate_limit"],
  stream: Partial<NonNullable<ConnectorInput["streams"]>[string]> = {},
) {
  const connector = defineConnector({
    connector: "day",
    api: { url, sign_in: "none", rate_limit: { concurrency: 1, ...pace } },
    streams: { s: { get: "/s", key: "id", pages, ...stream } },
  });
  const api = connect(connector, {});
  const report = await (await openBridge({ from: api, to: duckdb(database), name, schema: name })).run();
  await api.close();
  return report;
}

describe("two accounts of one connector", () => {
  inLong("load into schemas of their own; where they share one, the plan warns", async () => {
    const service = await bookingsService({ bookings: 40 });
    const folder = temporaryFolder();
    const write = (schema: string) =>
      writeFileSync(
        join(folder, "bridges.yaml"),
        `accounts: { north: { connector: ./c.yaml }, south: { connector: ./c.yaml } }
warehouses: { local: { duckdb: ./w.duckdb } }
bridges: { north: { from: north, to: local${schema} }, south: { from: south, to: local${schema} } }
`,
      );
    writeFileSync(
      join(folder, "c.yaml"),
      `connector: huts
api: { url: "${service.url}", sign_in: none }
streams: { all: { get: /_truth, query: { stream: huts }, response: json_lines, key: id } }
`,
    );
    write("");
    expect(await command(["run", "--plain"], folder)).toMatchObject({
      code: 0,
      stdout: expect.stringMatching(/\n2 of 2 bridges are done\.\n$/),
    });
    for (const schema of ["north", "south"])
      expect(
        await queryFile(join(folder, "w.duckdb"), `SELECT count(*) > 9 AS many FROM ${schema}."all"`),
      ).toEqual([{ many: true }]);
    expect((await command(["plan"], folder)).stdout).not.toContain("as well");
    write(", schema: huts");
    const { stdout } = await command(["plan"], folder);
    expect(stdout).toMatch(/careful +Bridge south writes into huts.all as well: give one of them a schema/);
    expect(stdout).toMatch(/careful +Bridge north writes into huts.all as well/);
    write(", streams: { some: {} }");
    expect(await command(["run", "--plain"], folder)).toMatchObject({
      code: 2,
      stdout: expect.stringMatching(/0 of 2 bridges are done\.\n {2}north {2}failed: CONFIG_UNKNOWN_NAME/),
    });
  });
});

describe("a limit of a day", () => {
  it("ends a run at a checkpoint, with the time it can go on; earlier runs of the account count", async () => {
    const { url } = await ninePages();
    const database = join(temporaryFolder(), "test.duckdb");
    const first = await carry(url, database, "b", { per_day: 7 });
    expect(first).toMatchObject({ outcome: "paused", error: { code: "LIMIT_REACHED" } });
    expect(first.error?.message).toMatch(/permits more requests from \d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ on/);
    expect(first.streams[0]).toMatchObject({ outcome: "paused", added: 7 });
    for (const bridge of ["b", "another"])
      expect(await carry(url, database, bridge, { per_day: 7 })).toMatchObject({
        outcome: "paused",
        streams: [{ requests: 0 }],
      });
  });

  it("counts what requests cost, and those of a group", async () => {
    const { url } = await ninePages();
    const database = join(temporaryFolder(), "test.duckdb");
    const pace = { per_day: 40, groups: { search: { per_day: 13 } } };
    const search = { rate_limit: { group: "search", cost: 3 } };
    expect(await carry(url, database, "b", pace, search)).toMatchObject({ streams: [{ requests: 4 }] });
    expect(await carry(url, database, "b", pace, search)).toMatchObject({ streams: [{ requests: 0 }] });
    // outside of the group 40 - 4 × 3 are left
    const plain = await carry(url, database, "other", pace, { rate_limit: { cost: 10 } });
    expect(plain).toMatchObject({ outcome: "paused", streams: [{ requests: 2 }] });
  });

  it("counts the requests of a run that was killed, and is shared by the bridges of a project", async () => {
    const folder = temporaryFolder();
    const service = await ninePages(5);
    writeFileSync(
      join(folder, "day.connector.yaml"),
      `connector: day
api: { url: "${service.url}", sign_in: none, rate_limit: { per_day: 7, concurrency: 1 } }
streams:
  s: { get: /s, key: id, pages: { number: 1, query: page } }
`,
    );
    const bridge = (name: string) =>
      `${name}: { from: north, to: local, schema: ${name}, checkpoint: { rows: 1 } }`;
    writeFileSync(
      join(folder, "bridges.yaml"),
      `accounts: { north: { connector: ./day.connector.yaml } }
warehouses: { local: { duckdb: ./day.duckdb } }
bridges:
  ${bridge("one")}
  ${bridge("two")}
`,
    );
    const killed = startCommand(["run", "one", "--plain"], folder);
    await expect.poll(killed.output, { timeout: 60_000 }).toContain("checkpoint 4");
    killed.child.kill("SIGKILL");
    await killed.ended;
    expect(service.asked).toBe(5);
    service.silentAt = Number.POSITIVE_INFINITY;
    const all = await command(["run", "--plain"], folder);
    // where each bridge ends, and once more at the end of all
    expect(all.stdout).toMatch(
      /\n0 of 2 bridges are done\.\n {2}one {2}paused: LIMIT_REACHED.*\n {2}two {2}paused/,
    );
    expect(all.stdout.match(/The API's limit is used up/g)).toHaveLength(4);
    expect(service.asked).toBe(7);
    await command(["run", "two", "--plain"], folder);
    expect(service.asked).toBe(7);
  });
});
