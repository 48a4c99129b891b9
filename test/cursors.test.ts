/** Cursors of every kind through a warehouse: what a second run asks for, and what a broken-off one goes on with. */

import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import { describe, expect, it } from "vitest";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import { connect, defineConnector, openBridge } from "../src/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { carried } from "./support/carried.js";
import { type Answered, type Asked, fakeApi } from "./support/fake-api.js";
import { inLong } from "./support/long.js";
import { temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

type StreamInput = NonNullable<ConnectorInput["streams"]>[string];
type Item = { id: number; at: string };

const HOUR = 3_600_000;
const START = Date.UTC(2026, 10, 1);
const at = (hours: number) => new Date(START + hours * HOUR).toISOString().replace(".000Z", "Z");

describe("a cursor", () => {
  it("by a token that the API gives asks for changes, and begins anew when the API has forgotten it", async () => {
    let forgotten = false;
    const changes: Record<string, Item[]> = { d1: [{ id: 2, at: "x" }], d2: [] };
    const { run, ids, notices } = carried(
      { get: "/s", records: "$.items[*]", key: "id", cursor: { delta: "$.delta", query: "since" } },
      ({ query }) => {
        const since = query.get("since");
        if (since !== null && forgotten) return { status: 410, body: { message: "This token has expired." } };
        if (since === null) return { body: { items: [{ id: 1, at: "x" }], delta: "d1" } };
        return { body: { items: changes[since], delta: "d2" } };
      },
    );
    expect((await run()).asked).toEqual(["/s"]);
    expect((await run()).asked).toEqual(["/s?since=d1"]);
    expect((await run()).stream).toMatchObject({ cursor: "d2", records: 0 });
    forgotten = true;
    expect((await run()).asked).toEqual(["/s?since=d2", "/s"]);
    expect(notices()).toEqual([expect.stringContaining("begins anew")]);
    expect(await ids()).toEqual([1, 2]);
  });

  it("goes no further than the begin of a pass whose records come in no order", async () => {
    // the first of two pages has been read when a record on it changes; later, one on the second does
    const minutes = (n: number) => new Date(START + n * 60_000).toISOString();
    const read = async (order: "byId" | "byTime") => {
      const items = [1, 2, 3, 4].map((id) => ({ id, at: minutes(-100 + id) }));
      let turn = 0;
      const { run } = carried(
        {
          get: "/s",
          key: "id",
          pages: { number: 1, query: "page" },
          cursor: { field: "at", query: "since", overlap: "PT0S" },
          rules: [{ when: "status == 503", means: "retry" }],
        },
        ({ query }) => {
          const page = Number(query.get("page"));
          // the clock goes on while a response is waited for: the API asks for patience
          if (page === 2 && turn++ === 0) {
            items[0] = { id: 1, at: minutes(1) };
            return { status: 503, headers: { "retry-after": "540" } };
          }
          if (page === 2) items[2] = { id: 3, at: minutes(9) };
          const sorted = order === "byId" ? items : [...items].sort((a, b) => a.at.localeCompare(b.at));
          return { body: sorted.slice((page - 1) * 2, page * 2) };
        },
      );
      return (await run()).stream.cursor;
    };
    expect(await read("byId")).toBe(minutes(0));
    expect(await read("byTime")).toBe(minutes(9));
  });

  it("by an address that the API gives follows it, and pages within it", async () => {
    const { run } = carried(
      {
        get: "/s",
        records: "$.items[*]",
        key: "id",
        pages: { link: "$.next" },
        cursor: { delta: "$.delta" },
      },
      ({ query }) => ({
        body:
          query.get("page") === "2"
            ? { items: [{ id: 2 }], delta: "/v1/s?token=t9" }
            : { items: [{ id: 1 }], next: `?${query.has("token") ? "token=t9&" : ""}page=2` },
      }),
    );
    expect((await run()).asked).toEqual(["/s", "/s?page=2"]);
    expect((await run()).asked).toEqual(["/s?token=t9", "/s?token=t9&page=2"]);
  });

  it("by the last whole run asks from when that began, less its overlap", async () => {
    let broken = false;
    const { run } = carried(
      {
        get: "/s",
        query: { changed_since: "{since}" },
        key: "id",
        cursor: { last_run: true, overlap: "PT10M", format: "seconds" },
      },
      () => (broken ? { status: 400, body: {} } : { body: [{ id: 1 }] }),
    );
    expect((await run()).asked).toEqual(["/s"]);
    broken = true;
    expect((await run()).report.outcome).toBe("failed");
    broken = false;
    // the run in between was not whole: the first one counts
    expect((await run()).asked).toEqual([`/s?changed_since=${START / 1000 - 600}`]);
    expect((await run()).asked).toEqual([`/s?changed_since=${(START + 2 * HOUR) / 1000 - 600}`]);
  });

  it("over a list that comes newest first stops where what is known begins", async () => {
    const list = Array.from({ length: 40 }, (_, i) => ({ id: 40 - i, at: at(-i) }));
    const { run, ids } = carried(
      {
        get: "/s",
        key: "id",
        pages: { number: 1, query: "page" },
        cursor: { field: "at", order: "descending" },
      },
      ({ query }) => ({
        body: list.slice((Number(query.get("page")) - 1) * 10, Number(query.get("page")) * 10),
      }),
    );
    expect((await run()).asked).toHaveLength(5);
    list.unshift({ id: 41, at: at(1) });
    const second = await run();
    // the second page is under way while the first is looked at
    expect(second.asked.length).toBeLessThanOrEqual(2);
    expect(second.stream).toMatchObject({ added: 1, cursor: at(1) });
    expect(await ids()).toHaveLength(41);
  });

  it.each([
    ["inclusive", at(0)],
    ["exclusive", at(-1 / 3600)],
  ] as const)("whose bounds is %s asks from %s", async (bounds, since) => {
    const { run } = carried(
      { get: "/s", key: "id", cursor: { field: "at", query: "since", bounds } },
      () => ({ body: [{ id: 1, at: at(0) }] }),
    );
    await run();
    expect((await run()).asked).toEqual([`/s?since=${since}`]);
  });

  it("is not carried past what an API with a slow clock may still write", async () => {
    // the API's clock is 10 minutes behind ours; a record of its own now is the newest
    const slow = new Date(START - 600_000);
    const { run } = carried(
      { get: "/s", key: "id", cursor: { field: "at", query: "since", bounds: "inclusive" } },
      () => ({
        headers: { date: slow.toUTCString() },
        body: [
          { id: 1, at: at(-1) },
          { id: 2, at: at(5) },
        ],
      }),
    );
    expect((await run()).stream.cursor).toBe(at(-1 / 6));
  });

  it("stays where it was when records moved between pages", async () => {
    let total = 4;
    const { run, notices } = carried(
      {
        get: "/s",
        records: "$.items[*]",
        key: "id",
        pages: { offset: 0, query: "from", total: "$.total" },
        cursor: { field: "at", query: "since" },
      },
      ({ query }) => ({
        body: {
          items:
            query.get("from") === "0"
              ? [
                  { id: 1, at: at(-2) },
                  { id: 2, at: at(-1) },
                ]
              : [{ id: 3, at: at(0) }],
          total: query.get("from") === "0" ? 4 : total,
        },
      }),
    );
    total = 3;
    expect((await run()).stream.cursor).toBeUndefined();
    expect(notices()[0]).toContain("changed from 4 to 3");
    expect((await run()).asked[0]).toBe("/s?from=0");
  });
});

describe("a window that the API cuts short", () => {
  it("is taken page by page, and again by its halves: every record is there once", async () => {
    const all = Array.from({ length: 40 }, (_, i) => ({
      id: i,
      day: `2026-10-${String(1 + (i % 16)).padStart(2, "0")}`,
    }));
    const { run, ids, database } = carried(
      {
        get: "/s",
        records: "$.items[*]",
        key: "id",
        pages: { offset: 0, query: "offset", total: "$.total" },
        windows: {
          span: "P16D",
          from: "from",
          to: "to",
          format: "date",
          start: "2026-10-01",
          end: "2026-10-17",
          max_records: 9,
        },
      },
      ({ query }) => {
        const found = all
          .filter(({ day }) => day >= query.get("from")! && day < query.get("to")!)
          .slice(0, 9);
        const from = Number(query.get("offset"));
        return { body: { items: found.slice(from, from + 2), total: found.length } };
      },
      4,
    );
    expect((await run()).stream).toMatchObject({
      outcome: "done",
      added: 40,
      cursor: "2026-10-17T00:00:00Z",
    });
    expect(await ids()).toEqual(all.map(({ id }) => id));
    expect((await run()).asked).toEqual([]);
    // rows were committed while their window was still open
    const [{ most } = { most: 0 }] = await queryFile(
      database,
      "SELECT max(rows)::INTEGER AS most FROM early_bridge.checkpoints",
    );
    expect(most).toBeLessThan(9);
  });
});

describe("a pass that breaks off", () => {
  const parts: StreamInput = { get: "/huts/{hut}", key: "id", each: { hut: [1, 2, 3, 4] } };

  it("over parts without cursor goes on with the parts that were not done", async () => {
    let broken = true;
    const { run, ids, notices } = carried(parts, ({ path }) =>
      broken && path === "/huts/3" ? { status: 403, body: {} } : { body: [{ id: Number(path.at(-1)) }] },
    );
    const first = await run();
    expect(first.stream).toMatchObject({ outcome: "failed", parts: 4, failedParts: [{ part: "hut=3" }] });
    expect(await ids()).toEqual([1, 2, 4]);
    broken = false;
    // an hour later the pass is too old to go on with
    expect((await run()).asked).toHaveLength(4);
    broken = true;
    await run();
    broken = false;
    expect(notices()).toEqual([]);
  });

  it("and a minute later asks for the failed part alone", async () => {
    let broken = true;
    const answer = ({ path }: Asked): Answered =>
      broken && path === "/huts/3" ? { status: 403, body: {} } : { body: [{ id: Number(path.at(-1)) }] };
    const database = join(temporaryFolder(), "test.duckdb");
    const run = async () => {
      const fake = fakeApi(parts, answer);
      const report = await (
        await openBridge({
          from: fake.api,
          to: duckdb(database),
          name: "b",
          schema: "main",
        })
      ).run();
      return { report, asked: fake.log.map(({ path }) => path) };
    };
    expect((await run()).report.outcome).toBe("failed");
    broken = false;
    expect(await run()).toMatchObject({ report: { outcome: "done" }, asked: ["/huts/3"] });
    expect((await run()).asked).toHaveLength(4);
  });

  it("gives up soon when every part fails", async () => {
    const { run } = carried({ ...parts, each: { hut: Array.from({ length: 100 }, (_, i) => i) } }, () => ({
      status: 403,
      body: { message: "no" },
    }));
    const { report, asked } = await run();
    expect(report.outcome).toBe("failed");
    expect(asked.length).toBeLessThan(10);
  });

  it("in windows asks again only for the windows that are open", async () => {
    let broken = true;
    const { run, ids } = carried(
      {
        get: "/s",
        key: "id",
        windows: {
          span: "P1D",
          from: "from",
          to: "to",
          start: "2026-10-28",
          end: "2026-11-01",
          format: "date",
        },
      },
      ({ query }) =>
        broken && query.get("from") === "2026-10-30"
          ? { status: 400, body: {} }
          : { body: [{ id: Number(query.get("from")!.slice(-2)) }] },
    );
    expect((await run()).stream).toMatchObject({ outcome: "failed" });
    broken = false;
    const { asked } = await run();
    expect(asked).toContain("/s?from=2026-10-30&to=2026-10-31");
    expect(asked.length).toBeLessThan(4);
    expect(await ids()).toEqual([28, 29, 30, 31]);
    expect((await run()).asked).toEqual([]);
  });
});

describe("a condition that no record can be judged by", () => {
  it("is a mistake in the connector, and told as one", async () => {
    const { run } = carried({ get: "/s", key: "id", where: "record.stars > '3'" }, () => ({
      body: [{ id: 1, stars: 4 }],
    }));
    expect((await run()).report.error).toMatchObject({
      code: "WHERE_FAILED",
      message: expect.stringContaining("record.stars > '3'"),
    });
  });
});

describe("a long file", () => {
  const ROWS = 120_000;
  const row = (i: number) => ({
    id: i,
    name: `hut ${i % 40}, "north"`,
    at: "2026-01-01T00:00:00Z",
    more: "x".repeat(120),
  });
  const csvLine = (i: number) => `${i};"hut ${i % 40}, ""north""";2026-01-01T00:00:00Z;${"x".repeat(120)}\n`;
  const csv = { delimiter: ";", final_line_break: true };
  const utf8 = (text: string) => Buffer.from(text);

  async function carryLong(
    response: StreamInput["response"],
    header: string,
    line: (i: number) => string,
    bytesOf: (text: string) => Buffer,
  ) {
    const piece = (from: number) => Array.from({ length: 10_000 }, (_, i) => line(from + i)).join("");
    const url = await serve((_request, response) => {
      response.write(bytesOf(header));
      for (let from = 0; from < ROWS; from += 10_000) response.write(bytesOf(piece(from)));
      response.end();
    });
    const connector = defineConnector({
      connector: "long",
      api: { url, sign_in: "none" },
      streams: { s: { get: "/s", key: "id", records: "$[*]", response, columns: { id: { type: "int64" } } } },
    });
    const database = join(temporaryFolder(), "test.duckdb");
    const api = connect(connector, {});
    const checkpoint = { rows: 30_000 };
    const bridge = await openBridge({
      from: api,
      to: duckdb(database),
      name: "b",
      schema: "main",
      checkpoint,
    });
    const report = await bridge.run();
    await api.close();
    expect(report.streams[0]).toMatchObject({ outcome: "done", added: ROWS, requests: 1 });
    expect(report.streams[0]!.bytes).toBeGreaterThan(16 * 1024 * 1024);
    expect(report.streams[0]!.checkpoints).toBeGreaterThanOrEqual(3);
    const [sum] = await queryFile(
      database,
      "SELECT count(*)::INTEGER AS n, sum(id)::BIGINT::VARCHAR AS ids, min(name) AS name FROM s",
    );
    expect(sum).toEqual({ n: ROWS, ids: String((ROWS * (ROWS - 1)) / 2), name: 'hut 0, "north"' });
  }

  it(
    "of JSON Lines is read piece by piece from the disk, with checkpoints on the way",
    () => carryLong("json_lines", "", (i) => `${JSON.stringify(row(i))}\n`, utf8),
    60_000,
  );

  inLong.each<[string, StreamInput["response"], (text: string) => Buffer]>([
    ["CSV", { csv }, utf8],
    ["CSV that is packed", { csv }, (text) => gzipSync(text)],
    ["CSV in UTF-16", { csv: { ...csv, encoding: "utf-16le" } }, (text) => Buffer.from(text, "utf16le")],
  ])("of %s is read piece by piece as well", (_, response, bytesOf) =>
    carryLong(response, "id;name;at;more\n", csvLine, bytesOf),
  );
});

describe("a file of values", () => {
  it.each([
    ["huts.csv", "hut,region\n3,north\n7,south\n", { file: "huts.csv", field: "hut" }],
    ["huts.json", '[{"hut":3},{"hut":7}]', { file: "huts.json", field: "hut" }],
    ["huts.txt", "3\n\n7\n3\n", { file: "huts.txt" }],
  ])("gives the parts: %s", async (name, text, each) => {
    const folder = temporaryFolder();
    writeFileSync(join(folder, name), text);
    const connector = defineConnector({
      connector: "files",
      api: { url: "https://api.huts.example", sign_in: "none" },
      streams: { s: { get: "/huts/{hut}", each: { hut: each } } },
    });
    const asked: string[] = [];
    const api = connect(
      connector,
      {},
      {
        readFile: async (path) => (await import("node:fs/promises")).readFile(join(folder, path)),
        replay: async ({ url }) => {
          asked.push(new URL(url).pathname);
          return { status: 200, headers: {}, body: new TextEncoder().encode("[]"), url };
        },
      },
    );
    for await (const _ of api.pages("s"));
    expect(asked).toEqual(["/huts/3", "/huts/7"]);
  });
});
