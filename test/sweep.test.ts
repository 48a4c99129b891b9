/** Sweeps: what the API no longer lists is gone, and what is not known to be whole deletes nothing. */

import { describe, expect, it } from "vitest";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import { compileStream } from "../src/core/stream/compile-stream.js";
import { describeStream } from "../src/core/stream/describe-stream.js";
import { defineConnector } from "../src/index.js";
import { bridgeInto, carried } from "./support/carried.js";
import type { Answered, Asked } from "./support/fake-api.js";
import { openOData } from "./support/odata.js";
import { odataStranger } from "./support/odata-stranger.js";
import { temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";

type StreamInput = NonNullable<ConnectorInput["streams"]>[string];

interface Hut {
  readonly id: number;
  readonly changed: string;
  readonly rooms: readonly { readonly no: number }[];
}

const hut = (id: number, minute = 0): Hut => ({
  id,
  changed: `2026-10-01T00:${String(minute).padStart(2, "0")}:00Z`,
  rooms: [{ no: 1 }, { no: 2 }],
});

/** A service of huts that tells what changed, and lists all of them by pages of ten. */
function huts(
  stream: Partial<StreamInput> = {},
  wrong: (asked: Asked) => Answered | undefined = () => undefined,
) {
  let all = Array.from({ length: 30 }, (_, i) => hut(i, i === 0 ? 4 : 0));
  const api = carried(
    {
      get: "/huts",
      key: "id",
      records: "$.items[*]",
      pages: { token: "$.next", query: "after" },
      cursor: { field: "changed", query: "since" },
      sweep: { every: "PT0S", query: { fields: "id" } },
      ...stream,
    },
    (asked) => {
      const lie = wrong(asked);
      if (lie !== undefined) return lie;
      const since = asked.query.get("since") ?? "";
      const found = all.filter(({ changed }) => changed >= since.replace(".000", ""));
      const from = Number(asked.query.get("after") ?? 0);
      const isKeys = asked.query.get("fields") === "id";
      const items = found.slice(from, from + 10).map((each) => (isKeys ? { id: each.id } : each));
      return { body: { items, next: from + 10 < found.length ? String(from + 10) : undefined } };
    },
  );
  const change = (next: (now: readonly Hut[]) => readonly Hut[]) => {
    all = [...next(all)];
  };
  const standing = async () => ({
    huts: (await queryFile(api.database, "SELECT id::INTEGER AS id FROM s ORDER BY id")).map(({ id }) => id),
    rooms: (await queryFile(api.database, "SELECT count(*)::INTEGER AS n FROM s_rooms"))[0]!.n,
  });
  return { ...api, change, standing };
}

const without =
  (...ids: readonly number[]) =>
  (now: readonly Hut[]) =>
    now.filter(({ id }) => !ids.includes(id));
const range = (n: number) => Array.from({ length: n }, (_, i) => i);

describe("a sweep", () => {
  it("removes what the API no longer lists, children as well, and asks for the keys alone", async () => {
    const { run, change, standing, notices, database } = huts();
    expect((await run()).asked).toHaveLength(3);
    change((now) => [...without(3, 29)(now), hut(40, 5)]);
    const { stream, asked } = await run();
    expect(stream).toMatchObject({ outcome: "done", added: 1, removed: 2 });
    expect(await standing()).toEqual({ huts: [...range(29).filter((id) => id !== 3), 40], rooms: 58 });
    expect(asked.slice(-3)).toEqual([
      "/huts?fields=id",
      "/huts?fields=id&after=10",
      "/huts?fields=id&after=20",
    ]);
    expect(notices().at(-1)).toBe("A sweep asked for all keys, and 29 came: 2 records are gone.");
    expect(await queryFile(database, "SELECT run, living, gone FROM early_bridge.sweeps")).toEqual([
      { run: "2", living: "29", gone: "2" },
    ]);
  });

  it("marks them where that is wanted; what comes back lives again", async () => {
    const { run, change, database } = huts();
    const streams = { s: { deletes: "mark" } } as const;
    await run({ streams });
    change(without(3));
    expect((await run({ streams })).stream).toMatchObject({ removed: 1 });
    const marked = "SELECT id::INTEGER AS id FROM s WHERE eb_deleted_at IS NOT NULL";
    expect(await queryFile(database, marked)).toEqual([{ id: 3 }]);
    // marked already: it is not gone a second time
    expect((await run({ streams })).stream).toMatchObject({ removed: 0 });
    change((now) => [...now, hut(3, 9)]);
    expect((await run({ streams })).stream).toMatchObject({ removed: 0, changed: 1 });
    expect(await queryFile(database, marked)).toEqual([]);
  });

  it("ends the version that held, where versions are kept", async () => {
    const { run, change, database } = huts();
    const streams = { s: { write: "versions" } } as const;
    await run({ streams });
    change(without(3));
    expect((await run({ streams })).stream).toMatchObject({ outcome: "done", removed: 1 });
    expect(
      await queryFile(
        database,
        "SELECT count(*)::INTEGER AS n, count(eb_valid_to)::INTEGER AS ended, count(eb_deleted_at)::INTEGER AS gone FROM s",
      ),
    ).toEqual([{ n: 30, ended: 1, gone: 1 }]);
  });

  it("comes when it is due, and not with a first run, nor where tables are replaced or appended to", async () => {
    const { run } = huts({ sweep: { every: "PT150M", query: { fields: "id" } } });
    const sweeps: boolean[] = [];
    // an hour goes by between two of them
    for (let i = 0; i < 5; i++) sweeps.push((await run()).asked.includes("/huts?fields=id"));
    expect(sweeps).toEqual([false, true, false, false, true]);
    for (const write of ["append", "replace"] as const) {
      const other = huts();
      const streams = { s: { write } } as const;
      await other.run({ streams });
      expect((await other.run({ streams })).asked).not.toContain("/huts?fields=id");
    }
  });

  it.each<[string, Partial<StreamInput>, (asked: Asked) => Answered | undefined, string]>([
    [
      "a page fails",
      {},
      ({ query }) => (query.get("after") === "10" ? { status: 403 } : undefined),
      "FORBIDDEN",
    ],
    [
      "a key is missing",
      {},
      ({ query }) => (query.get("fields") === "id" ? { body: { items: [{ name: "x" }] } } : undefined),
      "INCOMPLETE",
    ],
    [
      "a key is of another form",
      {},
      ({ query }) => (query.get("fields") === "id" ? { body: { items: [{ id: "H-1" }] } } : undefined),
      "INCOMPLETE",
    ],
    [
      "the API lists nothing",
      {},
      ({ query }) => (query.get("fields") === "id" ? { body: { items: [] } } : undefined),
      "SWEEP_TOO_MUCH",
    ],
    [
      "it would take too much away",
      {},
      ({ query }) =>
        query.get("fields") === "id" ? { body: { items: range(20).map((id) => ({ id })) } } : undefined,
      "SWEEP_TOO_MUCH",
    ],
    [
      "the total says that keys are missing",
      { pages: { token: "$.next", query: "after", total: "$.total" } },
      ({ query }) =>
        query.get("fields") === "id"
          ? { body: { total: 30, items: range(28).map((id) => ({ id })) } }
          : undefined,
      "INCOMPLETE",
    ],
  ])("deletes nothing where %s, and the run says so", async (_, stream, wrong, code) => {
    let isWrong = false;
    const { run, standing, change } = huts(stream, (asked) => (isWrong ? wrong(asked) : undefined));
    expect((await run()).stream).toMatchObject({ outcome: "done" });
    isWrong = true;
    change((now) => [...without(3)(now), hut(40, 5)]);
    const { report } = await run();
    const [told] = report.streams;
    expect(report.outcome).not.toBe("done");
    expect(told!.error).toMatchObject({ code });
    // what the run brought before the sweep is in
    expect(await standing()).toEqual({ huts: [...range(30), 40], rooms: 62 });
    isWrong = false;
    const last = await run();
    expect(last.stream.error).toBeUndefined();
    expect(last.stream).toMatchObject({ outcome: "done", removed: 1 });
  });

  it("goes as far back as it is said to: what is older is neither asked for nor deleted", async () => {
    // in the second run it is one o'clock on the first of November
    const sweep = { every: "PT0S", query: { fields: "id" }, reach: "P31DT30M" } as const;
    const { run, change, standing } = huts({ sweep });
    change((now) => now.map((each) => (each.id < 10 ? hut(each.id, 40) : each)));
    await run();
    change(without(3, 20));
    change((now) => now.map((each) => (each.id === 0 ? hut(0, 50) : each)));
    const { stream, asked } = await run();
    expect(asked.at(-1)).toMatch(/^\/huts\?fields=id&since=2026-10-01T00:30/);
    expect(stream).toMatchObject({ outcome: "done", removed: 1 });
    expect((await standing()).huts).toEqual(range(30).filter((id) => id !== 3));
  });

  it("goes part by part where a field tells them: one that does not come whole keeps its records", async () => {
    let refused = "";
    let rooms = [3, 4].flatMap((hut) => range(20).map((no) => ({ id: hut * 100 + no, hut })));
    const { run, database } = carried(
      {
        get: "/huts/{hut}/rooms",
        each: { hut: [3, 4] },
        key: "id",
        sweep: { every: "P1D", part: "hut" },
        cursor: { field: "id", query: "from" },
      },
      ({ path, query }) => {
        const hut = Number(path.split("/")[2]);
        const isSweep = query.get("from") === null;
        if (isSweep && String(hut) === refused) return { status: 403 };
        return {
          body: rooms.filter(({ id, hut: own }) => own === hut && id >= Number(query.get("from") ?? 0)),
        };
      },
    );
    const standing = async () =>
      (await queryFile(database, "SELECT id::INTEGER AS id FROM s ORDER BY id")).map(
        ({ id }) => id as number,
      );
    await run();
    rooms = rooms.filter(({ id }) => id !== 303 && id !== 404);
    refused = "4";
    const first = await run();
    expect(first.stream).toMatchObject({ outcome: "failed", removed: 1 });
    expect(first.stream.error).toMatchObject({ code: "FORBIDDEN" });
    expect(first.stream.error?.message).toContain(
      "left 1 of 2 parts alone, whose keys did not come whole: hut=4",
    );
    expect(await standing()).not.toContain(303);
    expect(await standing()).toContain(404);
    refused = "";
    // though it is not due by the clock: the last one was not whole
    expect((await run()).stream).toMatchObject({ outcome: "done", removed: 1 });
    expect(await standing()).toEqual(rooms.map(({ id }) => id));
    expect(await queryFile(database, "SELECT run FROM early_bridge.sweeps")).toEqual([{ run: "3" }]);
  });

  it("leaves alone what this run has brought, though the listing lags behind", async () => {
    const { run, change, standing } = huts({}, ({ query }) =>
      query.get("fields") === "id" ? { body: { items: range(30).map((id) => ({ id })) } } : undefined,
    );
    await run();
    change((now) => [...now, hut(77, 5)]);
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 1, removed: 0 });
    expect((await standing()).huts).toContain(77);
  });

  it("asks a stranger's OData service for the keys of a set", async () => {
    const entities = range(30).map((n) => ({
      Number: 7000 + n,
      Title: `Hut ${n}`,
      ChangedAt: `2026-01-0${n === 0 ? 2 : 1}T00:00:00.000Z`,
    }));
    const { url, log } = await odataStranger("huts.v4.xml", { Huts: entities });
    const path = `${temporaryFolder()}/swept.duckdb`;
    const cursor = { field: "ChangedAt", overlap: "PT0S" };
    const sweep = { every: "PT0S", query: { $select: "Number" } } as const;
    const bridge = await bridgeInto(
      path,
      openOData(url, { streams: { huts: { set: "Huts", cursor, sweep } } }),
    );
    await bridge.run();
    expect((await fetch(`${url}/Huts(7003)`, { method: "DELETE" })).status).toBe(204);
    expect((await bridge.run()).streams[0]).toMatchObject({ outcome: "done", error: undefined, removed: 1 });
    expect(log.at(-1)).toContain("$select=Number");
    const numbers = await queryFile(path, "SELECT number::INTEGER AS n FROM huts ORDER BY n");
    expect(numbers.map(({ n }) => n)).toEqual(range(30).flatMap((n) => (n === 3 ? [] : [7000 + n])));
  });

  it("is told by a plan", () => {
    const stream = { get: "/huts", key: "id", sweep: { every: "P1D", query: { fields: "id" } } } as const;
    const connector = defineConnector({
      connector: "c",
      api: { url: "https://api.huts.example" },
      streams: { s: stream },
    });
    const { lines } = describeStream(compileStream(connector, "s", connector.streams.s!));
    expect(lines).toContainEqual({
      label: "sweeps",
      text: "GET /huts?fields=id for all keys when P1D have passed: what is not among them is gone, 20 % at most",
    });
  });
});
