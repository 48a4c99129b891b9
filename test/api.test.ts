/** An API without a warehouse, and bridges to plain servers that nobody here wrote the data of. */

import type { IncomingMessage } from "node:http";
import { gzipSync } from "node:zlib";
import { describe, expect, it } from "vitest";
import worldCountries from "world-countries";
import { type Connector, connect, defineConnector, openBridge, type RunEvent } from "../src/index.js";
import { BOOKINGS_DEFAULTS } from "../src/standins/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { bridgeInto } from "./support/carried.js";
import { fakeApi } from "./support/fake-api.js";
import { bookingsService, temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

/** the package is a list, whatever its types say of the default export */
const countries = worldCountries as unknown as { area: number; landlocked: boolean; region: string }[];

type Answer = (
  query: URLSearchParams,
  request: IncomingMessage,
) => { body: string; status?: number; headers?: Record<string, string> };

/** A server that answers as told, packed where the client takes that. */
function serveAnswers(answer: Answer): Promise<string> {
  return serve((request, response) => {
    const {
      body,
      status = 200,
      headers = {},
    } = answer(new URL(request.url ?? "/", "http://x").searchParams, request);
    const packed = /gzip/.test(String(request.headers["accept-encoding"])) ? gzipSync(body) : undefined;
    const encoding = packed === undefined ? {} : { "content-encoding": "gzip" };
    response
      .writeHead(status, { "content-type": "application/json", ...encoding, ...headers })
      .end(packed ?? body);
  });
}

/** A connector for a plain server with one stream. */
function plainConnector(
  url: string,
  stream: Partial<NonNullable<Parameters<typeof defineConnector>[0]["streams"]>[string]> = {},
): Connector {
  return defineConnector({
    connector: "plain",
    api: { url },
    streams: { things: { get: "/things", ...stream } },
  });
}

/** Runs the one stream into a new or given file. */
async function carry(connector: Connector, path = `${temporaryFolder()}/t.duckdb`, events: RunEvent[] = []) {
  await using api = connect(connector, {}, { retry: { baseMs: 2 } });
  const report = await (await openBridge({ from: api, to: duckdb(path), schema: "plain" })).run({
    onEvent: (event) => events.push(event),
  });
  const { error } = report;
  if (error !== undefined) throw error;
  return { path, report, events };
}

describe("connect", () => {
  it("gives records and pages with no warehouse at all", async () => {
    const service = await bookingsService({ bookings: 250 });
    const connector = defineConnector({
      connector: "bookings",
      settings: {
        base: { type: "string", format: "uri" },
        client_id: { type: "string" },
        client_secret: { type: "string", secret: true },
      },
      api: {
        url: "{+base}/v2",
        sign_in: { oauth2: "client_credentials", token_url: "{+base}/oauth/token", client_auth: "body" },
      },
      streams: {
        bookings: {
          get: "/bookings",
          query: { per_page: 100 },
          records: "$.items[*]",
          pages: { token: "$.paging.next_token", query: "after" },
          cursor: { field: "changed_at", query: "changed_after" },
        },
      },
    });
    const { clientId, clientSecret } = BOOKINGS_DEFAULTS;
    await using api = connect(connector, {
      base: service.url,
      client_id: clientId,
      client_secret: clientSecret,
    });
    const ids: unknown[] = [];
    for await (const record of api.records("bookings")) ids.push((record as { id: unknown }).id);
    expect(ids).toHaveLength(250);
    expect(ids[7]).toBe(9007199254740993n);
    const later: number[] = [];
    for await (const page of api.pages("bookings", { since: "2026-01-05T06:10:00Z" }))
      later.push(page.records.length);
    expect(later).toEqual([67]);
    // the next page is asked for while the last one is worked on, and no further
    const before = service.log.length;
    for await (const page of api.pages("bookings")) {
      expect(page.number).toBe(1);
      break;
    }
    expect(service.log.length - before).toBeLessThanOrEqual(2);
  });

  it("stops when its signal is aborted", async () => {
    const url = await serveAnswers((query) => ({
      body: `{"items":[1],"next":"${Number(query.get("p") ?? 0) + 1}"}`,
    }));
    const connector = plainConnector(url, { records: "$.items[*]", pages: { token: "$.next", query: "p" } });
    await using api = connect(connector, {});
    const stop = new AbortController();
    const read = async () => {
      for await (const page of api.pages("things", { signal: stop.signal }))
        if (page.number === 3) stop.abort();
    };
    await expect(read()).rejects.toThrow(/abort|Stopped/i);
  });

  it("ends with a clear error when pages go round in a circle", async () => {
    const url = await serveAnswers((query) => ({
      body: `{"items":[1],"next":"${(Number(query.get("p") ?? 0) + 1) % 4}"}`,
    }));
    const connector = plainConnector(url, { records: "$.items[*]", pages: { token: "$.next", query: "p" } });
    await using api = connect(connector, {});
    const read = async () => {
      for await (const _ of api.records("things"));
    };
    await expect(read()).rejects.toMatchObject({
      code: "PAGE_REPEATED",
      where: { stream: "things", page: 5 },
    });
  });

  it("obeys Retry-After in both forms, and holds all requests back meanwhile", async () => {
    let asked = 0;
    let now = Date.UTC(2026, 10, 1);
    const sentAt: number[] = [];
    const clock = {
      now: () => now,
      sleep: async (ms: number) => {
        now += ms;
      },
    };
    const url = await serveAnswers(() => {
      sentAt.push(now);
      asked++;
      if (asked === 1) return { body: "{}", status: 429, headers: { "retry-after": "7" } };
      // the API's clock is an hour behind: its moments are read by its own Date
      const at = (ms: number) => new Date(now - 3_600_000 + ms).toUTCString();
      if (asked === 2)
        return { body: "{}", status: 503, headers: { date: at(0), "retry-after": at(90_000) } };
      return { body: "[]" };
    });
    await using api = connect(plainConnector(url), {}, { clock });
    for await (const _ of api.records("things"));
    expect(asked).toBe(3);
    expect(sentAt[1]! - sentAt[0]!).toBeGreaterThanOrEqual(7000);
    expect(sentAt[2]! - sentAt[1]!).toBeGreaterThanOrEqual(89_000);
    // a wait that is longer than a run may last is not cut short: it ends the run
    asked = 1;
    const long = await serveAnswers(() => ({ body: "{}", status: 503, headers: { "retry-after": "86400" } }));
    await expect(carry(plainConnector(long))).rejects.toMatchObject({
      code: "SERVER_FAILED",
      retryAfterMs: 86_400_000,
    });
  });

  it("sends no credentials to another origin, and follows no redirect there", async () => {
    const seen: (string | undefined)[] = [];
    const other = await serveAnswers((_query, request) => {
      seen.push(request.headers.authorization);
      return { body: "[]" };
    });
    const url = await serveAnswers(() => ({
      body: "",
      status: 302,
      headers: { location: `${other}/things` },
    }));
    await expect(carry(plainConnector(url))).rejects.toMatchObject({
      code: "REDIRECTED",
      message: expect.stringContaining(other),
    });
    expect(seen).toEqual([]);
  });
});

describe("data that nobody here wrote", () => {
  it("arrives in typed tables: the countries of the world", async () => {
    const url = await serveAnswers(() => ({ body: JSON.stringify(countries) }));
    const { path, report } = await carry(plainConnector(url, { key: "cca3" }));
    expect(report.streams[0]).toMatchObject({ added: countries.length, quarantined: 0 });
    const [france] = await queryFile(
      path,
      `SELECT name_common, name_native_fra_official, area::VARCHAR AS area, landlocked, capital::VARCHAR AS capital,
         currencies_eur_symbol, latlng::VARCHAR AS latlng FROM plain.things WHERE cca3 = 'FRA'`,
    );
    expect(france).toEqual({
      name_common: "France",
      name_native_fra_official: "République française",
      area: "551695.0",
      landlocked: false,
      capital: '["Paris"]',
      currencies_eur_symbol: "€",
      latlng: "[46,2]",
    });
    const [sums] = await queryFile(
      path,
      `SELECT count(*)::INTEGER AS n, sum(area) AS area, count(*) FILTER (WHERE landlocked)::INTEGER AS landlocked,
         count(DISTINCT region)::INTEGER AS regions FROM plain.things`,
    );
    expect(sums).toEqual({
      n: countries.length,
      area: countries.reduce((sum, each) => sum + each.area, 0),
      landlocked: countries.filter((each) => each.landlocked).length,
      regions: new Set(countries.map((each) => each.region)).size,
    });
  });
});

describe("a table over several runs", () => {
  it("gains columns and wider types, and every old value stays what it was", async () => {
    let page: unknown[] = [];
    const url = await serveAnswers(() => ({ body: JSON.stringify(page) }));
    const connector = plainConnector(url, { key: "id" });
    page = [
      {
        id: 1,
        n: 5,
        big: 7,
        day: "2026-02-01",
        at: "2026-02-01T10:00:00.250+02:00",
        local: "2026-02-01T10:00:00",
        flag: true,
        u: "0f8fad5b-d9cb-469f-a165-70867728950e",
        list: "one",
        x: 1.5,
      },
    ];
    const { path } = await carry(connector);
    page = [
      {
        id: 2,
        n: 2.5,
        big: 12345678901234567890n,
        day: "2026-02-02T08:00:00Z",
        at: "soon",
        local: "later",
        flag: "maybe",
        u: "none",
        list: ["a"],
        x: "1e400",
        new: { deep: 1 },
        kids: [{ k: 1 }],
      },
    ];
    const text = JSON.stringify(page, (_key, value) =>
      typeof value === "bigint" ? `big${value}` : value,
    ).replace(/"big(\d+)"/, "$1");
    page = [];
    const second = await serveAnswers(() => ({ body: text }));
    const { events } = await carry(plainConnector(second, { key: "id" }), path);
    const rows = await queryFile(
      path,
      "SELECT * EXCLUDE (eb_run, eb_loaded_at) REPLACE (day::VARCHAR AS day) FROM plain.things ORDER BY id",
    );
    expect(rows).toEqual([
      {
        id: "1",
        n: 5,
        big: "7",
        day: "2026-02-01 00:00:00+00",
        at: "2026-02-01T08:00:00.25Z",
        local: "2026-02-01T10:00:00",
        flag: "true",
        u: "0f8fad5b-d9cb-469f-a165-70867728950e",
        list: '"one"',
        x: "1.5",
        new_deep: null,
      },
      {
        id: "2",
        n: 2.5,
        big: "12345678901234567890",
        day: "2026-02-02 08:00:00+00",
        at: "soon",
        local: "later",
        flag: "maybe",
        u: "none",
        list: '["a"]',
        x: "1e400",
        new_deep: "1",
      },
    ]);
    const changes = events.flatMap((event) =>
      event.type === "schema_changed" ? [`${event.change} ${event.table}.${event.column}`] : [],
    );
    expect(changes).toContain("type_widened things.at");
    expect(changes).toContain("column_added things.new_deep");
    expect(changes).toContain("table_added things_kids.undefined");
    const journal = await queryFile(
      path,
      "SELECT count(*)::INTEGER AS n FROM early_bridge.schema_changes WHERE change = 'type_widened'",
    );
    expect(journal).toEqual([{ n: 9 }]);
  });

  it("replaces the child rows of a record with the record", async () => {
    let bodies = ['[{"id":1,"kids":[{"n":1},{"n":2},{"n":3}]},{"id":2,"kids":[{"n":9}]}]'];
    const url = await serveAnswers((query) => ({ body: bodies[Number(query.get("page")) - 1] ?? "[]" }));
    const connector = plainConnector(url, { key: "id", pages: { number: 1, query: "page" } });
    const { path } = await carry(connector);
    bodies = [
      '[{"id":1,"kids":[{"n":4}]},{"id":3,"kids":[]}]',
      '[{"id":1,"kids":[]},{"id":3,"kids":[{"n":7}]},{"id":2,"kids":[{"n":9}]}]',
    ];
    const { report } = await carry(connector, path);
    // of two versions of a record the last one stands
    expect(report.streams[0]).toMatchObject({ records: 5, added: 1, changed: 0, unchanged: 2, doubled: 2 });
    const rows = await queryFile(
      path,
      "SELECT things_id::INTEGER AS id, n::INTEGER AS n FROM plain.things_kids ORDER BY id, n",
    );
    expect(rows).toEqual([
      { id: 2, n: 9 },
      { id: 3, n: 7 },
    ]);
  });

  const gone = (record: Readonly<Record<string, unknown>>) => record.gone === true;
  it.each([
    ["in TypeScript", {}, { streams: { s: { gone } } }],
    ["in CEL", { gone: "record.gone" }, undefined],
  ])("loses the rows of records that the API tells to be gone, by a rule %s", async (_how, rule, code) => {
    let body: unknown = [
      { id: 1, stars: 4, kids: [{ n: 1 }] },
      { id: 2, stars: 5 },
    ];
    const stream = { get: "/s", key: "id", where: "record.stars > 3", ...rule };
    const path = `${temporaryFolder()}/t.duckdb`;
    const run = async () =>
      (await (await bridgeInto(path, fakeApi(stream, () => ({ body }), code).api)).run()).streams[0];
    expect(await run()).toMatchObject({ added: 2 });
    body = [
      { id: 1, gone: true },
      { id: 7, gone: true },
      { id: 3, stars: 5 },
    ];
    expect(await run()).toMatchObject({ outcome: "done", added: 1, removed: 1, unchanged: 1 });
    expect(await queryFile(path, "SELECT id::INTEGER AS id FROM s ORDER BY id")).toEqual([
      { id: 2 },
      { id: 3 },
    ]);
    expect(await queryFile(path, "SELECT * FROM s_kids")).toEqual([]);
    const keyless = () => fakeApi({ get: "/s", ...rule }, () => ({ body }), code);
    expect(keyless).toThrow(/tells what is gone, but has no key|gone needs a key/);
  });

  it("that is replaced keeps its columns, counts what went, and is left alone by a failed run", async () => {
    let body = '[{"id":1,"a":1,"kids":[{"n":1}]},{"id":2,"a":2}]';
    let status = 200;
    const url = await serveAnswers(() => ({ body, status }));
    const path = `${temporaryFolder()}/t.duckdb`;
    const replace = async () => {
      await using api = connect(plainConnector(url, { key: "id" }), {}, { retry: { tries: 1 } });
      const streams = { things: { write: "replace" } } as const;
      return await (await openBridge({ from: api, to: duckdb(path), schema: "plain", streams })).run();
    };
    expect((await replace()).streams[0]).toMatchObject({ added: 2 });
    body = '[{"id":2,"a":5},{"id":3,"b":"new"}]';
    expect((await replace()).streams[0]).toMatchObject({ added: 1, changed: 1, unchanged: 0, removed: 1 });
    status = 500;
    expect(await replace()).toMatchObject({ outcome: "failed", error: { code: "SERVER_FAILED" } });
    const rows = await queryFile(
      path,
      "SELECT id::INTEGER AS id, a::INTEGER AS a, b, eb_run::INTEGER AS run FROM plain.things ORDER BY id",
    );
    expect(rows).toEqual([
      { id: 2, a: 5, b: null, run: 2 },
      { id: 3, a: null, b: "new", run: 2 },
    ]);
    expect(await queryFile(path, "SELECT * FROM plain.things_kids")).toEqual([]);
    const tables = await queryFile(
      path,
      "SELECT table_name FROM information_schema.tables WHERE table_schema = 'plain' ORDER BY 1",
    );
    expect(tables.map((row) => row.table_name)).toEqual(["things", "things_kids"]);
  });

  it("keeps whole in quarantine what does not fit, and loads the rest", async () => {
    const body =
      '[{"id":1,"price":"1.50"},{"id":2,"price":"much","who":{"name":"Ana"}},{"price":"3"},{"id":4,"price":"0.1"}]';
    const url = await serveAnswers(() => ({ body }));
    const connector = plainConnector(url, { key: "id", columns: { price: { type: "decimal(6,2)" } } });
    const { path, report } = await carry(connector);
    expect(report.streams[0]).toMatchObject({ records: 4, added: 2, quarantined: 2 });
    const kept = await queryFile(
      path,
      "SELECT reason, path, record FROM early_bridge.quarantine ORDER BY reason",
    );
    expect(kept).toEqual([
      { reason: "key_missing", path: "id", record: '{"price":"3"}' },
      { reason: "type_mismatch", path: "price", record: '{"id":2,"price":"much","who":{"name":"Ana"}}' },
    ]);
  });
});

describe("memory", () => {
  it("stays bounded: reading waits while two checkpoints are on their way", async () => {
    const pages = 60;
    let asked = 0;
    const url = await serveAnswers((query) => {
      asked++;
      const page = Number(query.get("p") ?? 0);
      const items = Array.from({ length: 50 }, (_, n) => ({ id: page * 50 + n, text: "x".repeat(20) }));
      return { body: JSON.stringify({ items, next: page + 1 < pages ? String(page + 1) : null }) };
    });
    const connector = plainConnector(url, {
      records: "$.items[*]",
      pages: { token: "$.next", query: "p" },
      key: "id",
    });
    await using api = connect(connector, {});
    const warehouse = duckdb(`${temporaryFolder()}/t.duckdb`);
    let mostAhead = 0;
    let committed = 0;
    const report = await (await openBridge({ from: api, to: warehouse, checkpoint: { rows: 100 } })).run({
      onEvent: (event) => {
        if (event.type === "checkpoint") committed = event.number * 2;
        if (event.type === "page") mostAhead = Math.max(mostAhead, asked - committed);
      },
    });
    expect(report.streams[0]).toMatchObject({ added: pages * 50, outcome: "done" });
    // one checkpoint being committed, one being filled, one page in flight: two pages to a checkpoint
    expect(mostAhead).toBeLessThanOrEqual(7);
  });
});
