/** A warehouse that is a server: one process for a bridge at a time, connections that drop, and who is not let in. */

import type { Socket } from "node:net";
import { afterEach, describe, expect, it } from "vitest";
import type { Api } from "../src/index.js";
import { apiOf, bridgeInto } from "./support/carry.js";
import type { fakeApi } from "./support/fake-api.js";
import { isLong } from "./support/long.js";
import { theServer as server } from "./support/warehouse.js";
import { watchedWay } from "./support/watched-way.js";

const closing: (() => unknown)[] = [];
afterEach(async () => {
  for (const close of closing.splice(0).reverse()) await close();
});

const bridgeTo = (url: string, api: Api, options = {}) => bridgeInto(server.warehouse(url), api, options);

const run = (url: string, statement: string) => server.connected(url, (query) => query(statement));

describe("one bridge", () => {
  it("is run by one process at a time; others run beside it", async () => {
    const url = await server.fresh();
    const first = await server.warehouse(url).open();
    const second = await server.warehouse(url).open();
    await first.ledger.startRun({ bridge: "b", startedAtMs: 0 });
    await expect(second.ledger.startRun({ bridge: "b", startedAtMs: 0 })).rejects.toMatchObject({
      code: "BRIDGE_RUNNING",
      message: "Bridge b is running already, in another process.",
    });
    expect(await second.ledger.startRun({ bridge: "other", startedAtMs: 0 })).toBe(2);
    await first.close();
    expect(await second.ledger.startRun({ bridge: "b", startedAtMs: 0 })).toBe(3);
    await second.close();
  });

  it("is not written to by a run that another process has taken for dead", async () => {
    const url = await server.fresh();
    let take = (_: unknown) => {};
    const taken = new Promise((resolve) => {
      take = resolve;
    });
    const api = apiOf({ pages: { number: 1, query: "page" } }, async ({ query }) => {
      const page = Number(query.get("page"));
      if (page > 3) await taken;
      return { body: page > 6 ? [] : [{ id: page }] };
    });
    const bridge = await bridgeTo(url, api, { checkpoint: { rows: 1 } });
    let checkpoints = 0;
    const report = await bridge.run({
      onEvent: (event) => {
        if (event.type === "checkpoint" && ++checkpoints === 1) markAsLost();
      },
    });
    function markAsLost() {
      run(url, "UPDATE early_bridge.runs SET outcome = 'broken_off'").then(take);
    }
    expect(report.outcome).not.toBe("done");
    expect(report.streams[0]!.error).toMatchObject({ code: "BRIDGE_RUNNING" });
  });
});

/** A way to the server that can be watched, and cut. */
async function wayTo(url: string, watch: (chunk: Buffer, sockets: readonly Socket[]) => void) {
  const way = await watchedWay(url, watch);
  closing.push(way.close);
  return way.url;
}

describe("a connection that drops", () => {
  const RECORDS = 40;
  const pages = { number: 1, query: "page" } as const;
  const answer: Parameters<typeof fakeApi>[1] = ({ query }) => {
    const from = (Number(query.get("page")) - 1) * 10;
    return {
      body: Array.from({ length: Math.max(0, Math.min(10, RECORDS - from)) }, (_, i) => ({
        id: from + i,
        kids: [{ n: i }],
      })),
    };
  };
  const counts = async (url: string) =>
    (
      await run(
        url,
        'SELECT (SELECT count(*) FROM huts.s) AS "rows", (SELECT count(DISTINCT id) FROM huts.s) AS ids, (SELECT count(*) FROM huts.s_kids) AS kids',
      )
    )[0];
  const whole = { rows: String(RECORDS), ids: String(RECORDS), kids: String(RECORDS) };

  it("after a commit was sent is no failure where the commit stands", async () => {
    const url = await server.fresh();
    let commits = 0;
    const way = await wayTo(url, (chunk, [near]) => {
      // the third one: that of a checkpoint; its answer does not come
      if (/COMMIT(?!TED)/.test(chunk.toString("latin1")) && ++commits === 3) near!.pause().destroySoon();
    });
    const report = await (await bridgeTo(way, apiOf({ pages }, answer), { checkpoint: { rows: 20 } })).run();
    expect(commits).toBeGreaterThan(3);
    expect(report.streams[0]!.error?.message).toBeUndefined();
    expect(await counts(url)).toEqual(whole);
  });

  it.each(["upsert", "append", "versions", "replace"] as const)(
    "in the middle of a checkpoint loses nothing and doubles nothing (%s)",
    async (write) => {
      let cuts = 0;
      for (let at = 2; at < (isLong ? 40 : 8); at += isLong ? 4 : 3) {
        const url = await server.fresh();
        let statements = 0;
        let isCut = false;
        const way = await wayTo(url, (chunk, sockets) => {
          if (
            isCut ||
            !/INSERT|UPDATE|DELETE|COPY|LOAD|CREATE|ALTER|RENAME|COMMIT(?!TED)/.test(
              chunk.toString("latin1"),
            ) ||
            ++statements < at * 3
          )
            return;
          isCut = true;
          cuts++;
          for (const socket of sockets) socket.destroy();
        });
        const carry = async (to: string) =>
          (
            await bridgeTo(to, apiOf({ pages }, answer), {
              checkpoint: { rows: 20 },
              streams: { s: { write } },
            })
          ).run();
        await carry(way).catch(() => {});
        const report = await carry(url);
        expect(report.error?.message).toBeUndefined();
        expect(report.outcome).toBe("done");
        expect(await counts(url)).toEqual(whole);
      }
      expect(cuts).toBeGreaterThan(1);
    },
  );
});

describe("what a server says of itself", () => {
  it("is its program, and the way to it", async () => {
    const session = await server.warehouse(await server.fresh()).open();
    const { program, way } = await session.about();
    await session.close();
    expect(program).toMatch(new RegExp(`^${server.title} \\d+\\.\\d+(\\.\\d+)?$`));
    expect(way).toBe("loopback");
  });
});
