/** `plan --forecast`: what a run will take, against what it then takes. */

import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { forecast, openBridge } from "../src/index.js";
import { startNeighbours } from "../src/standins/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { fakeApi } from "./support/fake-api.js";
import { logIn } from "./support/log-in.js";
import { inLong } from "./support/long.js";
import { outputLines } from "./support/output.js";
import { bookingsService, command, demoProject, temporaryFolder } from "./support/project.js";
import { whenDone } from "./support/when-done.js";

interface Forecast {
  readonly bridge: string;
  readonly stream: string;
  readonly requests: { readonly value?: number; readonly sureness: string; readonly rests_on: string };
  readonly records: { readonly value?: number };
}

describe("a forecast of the demo's services", () => {
  inLong("is true within a tenth, or says that it does not know; and learns from runs", async () => {
    const bookings = await bookingsService({ bookings: 3000 });
    const neighbours = await startNeighbours();
    whenDone(() => neighbours.close());
    const project = demoProject(bookings.url, neighbours.url);
    const { folder } = project;
    writeFileSync(join(folder, "robot-key.json"), neighbours.robotKeyFile, { mode: 0o600 });
    const env = { EARLY_BRIDGE_CONFIG: join(folder, "config"), EARLY_BRIDGE_KEY: "test key" };
    project.edit("bridges.yaml", "bridges:", "bridges:\n  members: { from: members, to: local }");
    await logIn(project, env);
    const planned = async () =>
      outputLines((await command(["plan", "--forecast", "--json"], folder, env)).stdout).filter(
        ({ type }) => type === "forecast",
      ) as unknown as Forecast[];
    const first = await planned();
    const ended = outputLines((await command(["run", "--json"], folder, env)).stdout).filter(
      ({ type }) => type === "run_ended",
    ) as unknown as { bridge: string; streams: { stream: string; requests: number; retries: number }[] }[];
    const truth = new Map<string, number>(
      ended.flatMap(({ bridge, streams }) =>
        streams.map((each) => [`${bridge} ${each.stream}`, each.requests - each.retries] as const),
      ),
    );
    const unknown: string[] = [];
    for (const { bridge, stream, requests } of first) {
      const name = `${bridge} ${stream}`;
      if (requests.value === undefined) unknown.push(`${name}: ${requests.rests_on}`);
      else {
        const off = Math.abs(requests.value - truth.get(name)!) / truth.get(name)!;
        expect(off, `${name}: ${requests.value} of ${truth.get(name)}`).toBeLessThanOrEqual(0.1);
      }
    }
    expect(first).toHaveLength(truth.size);
    const untold = "the API does not tell how many there are";
    expect(unknown.sort()).toEqual([
      `bookings bookings: ${untold}`,
      `crew shifts: ${untold}`,
      `deliveries deliveries: ${untold}`,
      "figures days: a report is not submitted for a forecast",
    ]);
    const second = await planned();
    expect(second.filter(({ requests }) => requests.value === undefined)).toEqual([]);
    expect(second.find(({ bridge }) => bridge === "figures")?.requests).toMatchObject({
      value: truth.get("figures days"),
      sureness: "likely",
      rests_on: expect.stringMatching(/^run \d+; a report/),
    });
  });
});

describe("forecast", () => {
  it("counts pages as the page rule does, details and a day's budget included", async () => {
    const all = Array.from({ length: 1000 }, (_, id) => ({ id, kids: [{ n: 1 }, { n: 2 }] }));
    const { api, log } = fakeApi(
      {
        streams: {
          s: {
            get: "/s",
            records: "$.items[*]",
            key: "id",
            pages: { number: 1, query: "page", total: "$.total" },
            expand: { get: "/s/{id}", fields: { id: "id" } },
          },
        },
        api: { rate_limit: { per_minute: 60, per_day: 500, concurrency: 4 } },
      },
      ({ path, query }) => {
        const page = Number(query.get("page"));
        return path === "/s"
          ? { body: { items: all.slice((page - 1) * 100, page * 100), total: 1000 } }
          : { body: { more: 1 } };
      },
    );
    const bridge = await openBridge({ from: api, to: duckdb(`${temporaryFolder()}/f.duckdb`), name: "b" });
    const [seen] = await forecast({ api, bridge });
    // ten full pages, a look behind them, and a request for each record
    expect(seen?.requests).toEqual({
      value: 1011,
      sureness: "counted",
      restsOn: "the API's own count and the size of its first page",
    });
    expect(seen).toMatchObject({
      records: { value: 1000 },
      rows: { value: 3000, sureness: "likely" },
      ms: { value: 1_011_000, restsOn: "the published limit" },
      days: { value: 3, restsOn: "500 requests a day" },
      asked: log.length,
    });
    expect(log.length).toBe(6);
  });

  it("says why it knows nothing of a stream, and goes on with the others", async () => {
    const { api } = fakeApi({ streams: { a: { get: "/a" }, b: { get: "/b" } } }, ({ path }) =>
      path === "/a" ? { status: 403, body: {} } : { body: [{ id: 1 }] },
    );
    const [a, b] = await forecast({ api });
    expect(a?.requests).toMatchObject({ value: undefined, sureness: "unknown" });
    expect(a?.requests.restsOn).toMatch(/^it cannot be asked: /);
    expect(b?.requests).toEqual({ value: 1, sureness: "counted", restsOn: "all of it was asked for" });
  });
});
