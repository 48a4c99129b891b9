/** Hostile input, and secrets in odd places: bounded, in its own words, and never shown. */

import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { describe, expect, it, vi } from "vitest";
import { Seal } from "../src/auth/sealed.js";
import { chooseDecoder } from "../src/core/decode/choose-decoder.js";
import { parseYaml } from "../src/core/define/check.js";
import { stringifyExact } from "../src/core/shape/exact-json.js";
import { openTransport } from "../src/http/transport.js";
import { connect, defineConnector } from "../src/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { bridgeInto, carried } from "./support/carried.js";
import { failure } from "./support/failure.js";
import { fakeApi, recordsOf } from "./support/fake-api.js";
import { temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

describe("a file that is no DuckDB file", () => {
  it.each<[string, Buffer]>([
    ["it is a database of SQLite", Buffer.concat([Buffer.from("SQLite format 3\0"), Buffer.alloc(4080)])],
    ["it is empty", Buffer.alloc(0)],
    ["it is a Parquet file", Buffer.from("PAR1 and more of it")],
    ["it is packed by gzip", Buffer.from([0x1f, 0x8b, 8, 0, 0, 0, 0, 0])],
    ["it is of another program, or damaged", Buffer.alloc(5000, 7)],
  ])("is told for what it is, and nothing is fetched to read it: %s", async (words, bytes) => {
    const path = join(temporaryFolder(), "file.duckdb");
    writeFileSync(path, bytes);
    const error = await failure(duckdb(path).open());
    expect(error).toMatchObject({ code: "WAREHOUSE_NOT_OURS", message: expect.stringContaining(words) });
    expect(error.message).not.toMatch(/http|extension/i);
  });

  it("a damaged one is told as damaged", async () => {
    const path = join(temporaryFolder(), "file.duckdb");
    await (await duckdb(path).open()).close();
    const { readFileSync } = await import("node:fs");
    writeFileSync(path, readFileSync(path).fill(0xff, 4096, 8192));
    expect(await failure(duckdb(path).open())).toMatchObject({
      code: "WAREHOUSE_NOT_OURS",
      message: expect.stringContaining("it is damaged"),
    });
  });
});

describe("a key in the query", () => {
  it("that the next page's address echoes is sent once, and kept nowhere", async () => {
    const asked: URLSearchParams[] = [];
    const url = await serve((request, response) => {
      const query = new URL(request.url ?? "/", "http://x").searchParams;
      asked.push(query);
      if (query.getAll("api_key").join() !== "hush-hush-1") return response.writeHead(403).end();
      const page = Number(query.get("page") ?? 1);
      const next = page < 3 ? `/s?api_key=hush-hush-1&page=${page + 1}` : null;
      return response.end(JSON.stringify({ items: [{ id: page, at: `2026-01-0${page}` }], next }));
    });
    const connector = defineConnector({
      connector: "echo",
      settings: { secret: { type: "string", secret: true } },
      api: { url, sign_in: { key: "{secret}", in: "query", name: "api_key" } },
      streams: {
        s: {
          get: "/s",
          records: "$.items[*]",
          key: "id",
          pages: { link: "$.next" },
          cursor: { field: "at" },
        },
      },
    });
    const path = join(temporaryFolder(), "echo.duckdb");
    await using api = connect(connector, { secret: "hush-hush-1" });
    const checkpoint = { rows: 1 };
    const report = await (await bridgeInto(path, api, { checkpoint })).run();
    expect(report.streams[0]).toMatchObject({ outcome: "done", added: 3 });
    expect(asked.map((query) => query.getAll("api_key"))).toEqual(Array(3).fill(["hush-hush-1"]));
    const kept = await queryFile(path, "SELECT cursor::VARCHAR AS cursor FROM early_bridge.checkpoints");
    expect(JSON.stringify(kept)).toContain("page=");
    expect(JSON.stringify(kept)).not.toContain("hush");
  });
});

describe("a body without an end", () => {
  it("is given up when it is larger than what is read at once", async () => {
    let sent = 0;
    const url = await serve((_request, response) => {
      const piece = Buffer.alloc(65_536, 32);
      const more = () => {
        while (!response.destroyed && response.write(piece)) sent += piece.length;
      };
      response.on("drain", more);
      more();
    });
    const { send, close } = openTransport({ maxBodyBytes: 1_000_000 });
    const error = await failure(send({ method: "GET", url, headers: {} }));
    expect(error.code).toBe("BODY_TOO_LARGE");
    expect(sent).toBeLessThan(50_000_000);
    await close();
  });

  it("that trickles for good is given up", async () => {
    const url = await serve((_request, response) => {
      const drip = setInterval(() => response.write(" "), 20);
      response.on("close", () => clearInterval(drip));
    });
    const { send, close } = openTransport({ slowAfterMs: 200 });
    for (const spoolAbove of [undefined, 1000]) {
      const error = await failure(send({ method: "GET", url, headers: {}, spoolAbove }));
      expect(error).toMatchObject({
        code: "TIMED_OUT",
        message: expect.stringContaining("comes too slowly"),
      });
    }
    await close();
  });
});

describe("a long body", () => {
  it("that our own temporary folder does not take is no fault of the API's", async () => {
    vi.stubEnv("TMPDIR", join(temporaryFolder(), "gone"));
    const url = await serve((_request, response) => response.end("x".repeat(5000)));
    const { send, close } = openTransport();
    expect(await failure(send({ method: "GET", url, headers: {}, spoolAbove: 1000 }))).toMatchObject({
      code: "FILE_UNWRITABLE",
      message: expect.stringMatching(/temporary folder .*gone/),
      hint: expect.stringContaining("TMPDIR"),
    });
    vi.unstubAllEnvs();
    await close();
  });
});

describe("a record that cannot be stored", () => {
  it("because it nests too deep goes to quarantine, whole; the others are loaded", async () => {
    const levels = 12_000;
    const deep = `${'{"a":'.repeat(levels)}1${"}".repeat(levels)}`;
    const { run, ids, database } = carried({ get: "/s", key: "id" }, () => ({
      body: `[{"id":1},{"id":2,"big":12345678901234567890,"x":${deep}},{"id":3}]`,
    }));
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 2, quarantined: 1 });
    expect(await ids()).toEqual([1, 3]);
    const kept = await queryFile(
      database,
      "SELECT reason, length(record::VARCHAR) AS size FROM early_bridge.quarantine",
    );
    expect(kept).toEqual([{ reason: "too_deep", size: String(deep.length + 40) }]);
  });

  it("has its hashed values nowhere as they came: not in children, not in quarantine", async () => {
    const columns = {
      email: { hash: true },
      "guests[*].phone": { hash: true },
      beds: { type: "int64" },
    } as const;
    const { run, database } = carried({ get: "/s", key: "email", columns }, () => ({
      body: [
        { email: "ana@huts.example", beds: 2, guests: [{ phone: "111-222", n: 1 }] },
        { email: "bo@huts.example", beds: "many", guests: [{ phone: "333-444", n: 2 }] },
      ],
    }));
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 1, quarantined: 1 });
    const everything = [
      await queryFile(database, "SELECT * FROM s"),
      await queryFile(database, "SELECT * FROM s_guests"),
      await queryFile(database, "SELECT record::VARCHAR AS record, message FROM early_bridge.quarantine"),
    ];
    expect(JSON.stringify(everything)).not.toMatch(/huts\.example|111-222|333-444/);
    const joined = "SELECT count(*)::INTEGER AS n FROM s JOIN s_guests ON s.email = s_guests.s_email";
    expect(await queryFile(database, joined)).toEqual([{ n: 1 }]);
  });
});

describe("input that grows without measure", () => {
  it("as XML that nests, or as aliases in YAML, is told in its own words", () => {
    const xml = `<l>${"<i>".repeat(5000)}${"</i>".repeat(5000)}</l>`;
    const read = () => chooseDecoder("xml", ["$.l.i[*]"]).decode(new TextEncoder().encode(xml), {});
    expect(read).toThrow(expect.objectContaining({ code: "BODY_UNREADABLE" }));
    const names = [..."abcdefghij"];
    const lines = names.map(
      (name, i) => `${name}: &${name} [${Array(9).fill(i === 0 ? "x" : `*${names[i - 1]}`)}]`,
    );
    expect(() => parseYaml(lines.join("\n"), "bridges.yaml")).toThrow(
      expect.objectContaining({ code: "CONFIG_SYNTAX", where: { file: "bridges.yaml" } }),
    );
  });
});

describe("an object that holds data as keys", () => {
  it("becomes a table with a row for each, and that is told once", async () => {
    const rates = Object.fromEntries(Array.from({ length: 50_000 }, (_, i) => [`day ${i}`, i]));
    const { run, notices, database } = carried({ get: "/s", key: "id" }, () => ({
      body: [
        { id: 1, rates, few: { a: 1 } },
        { id: 2, rates: { "day 1": 5 } },
      ],
    }));
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 2 });
    expect(notices()).toEqual([
      "Keys of rates are data: each is a row of s_rates, its key in eb_key; as: columns makes columns of them.",
    ]);
    const rows = await queryFile(
      database,
      `SELECT s_id AS id, count(*) AS n, any_value(value) FILTER (eb_key = 'day 1') AS day FROM s_rates
       GROUP BY s_id ORDER BY s_id`,
    );
    expect(rows).toEqual([
      { id: "1", n: "50000", day: "1" },
      { id: "2", n: "1", day: "5" },
    ]);
  });

  it("also where its keys keep growing from record to record", async () => {
    const body = Array.from({ length: 1200 }, (_, i) => ({ id: i, by_day: { [`d${i}`]: i } }));
    const { run, notices, database } = carried({ get: "/s", key: "id" }, () => ({ body }));
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 1200 });
    expect(notices()).toHaveLength(1);
    // the first hundred have their columns
    expect(await queryFile(database, "SELECT count(*) AS n FROM s_by_day")).toEqual([{ n: "1100" }]);
    const { stream } = await run();
    expect(stream).toMatchObject({ outcome: "done", changed: 0, unchanged: 1200 });
  });
});

describe("a record of too many fields", () => {
  const fieldsFrom = (id: number) =>
    Object.fromEntries(Array.from({ length: 3000 }, (_, i) => [`d${id * 3000 + i}`, i]));

  it("fills a table's columns; the others stand in one json column, run after run", async () => {
    const columns = { "late.email": { hash: true }, later: { type: "decimal(9,2)" } } as const;
    const late = { email: "ana@huts.example", n: 12345678901234567890n };
    let body: unknown = [1, 2].map((id) => ({ id, ...fieldsFrom(id) }));
    const { run, notices, database } = carried({ get: "/s", key: "id", columns }, () => ({
      body: stringifyExact(body),
    }));
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 2 });
    expect(notices()).toEqual([expect.stringMatching(/^Table s has 1000 fields.* eb_more, .* d3999/)]);
    body = [{ id: 3, d9000: 1, late, later: "1.50", odd: { n: late.n, list: [1] } }];
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 1 });
    const width = "SELECT count(*)::INTEGER AS n FROM information_schema.columns WHERE table_name = 's'";
    expect((await queryFile(database, width))[0]!.n).toBeLessThan(1010);
    const rows =
      "SELECT id::INTEGER AS id, eb_more::VARCHAR AS more, late_email AS email, later FROM s ORDER BY id";
    const [first, second, third] = await queryFile(database, rows);
    expect(Object.keys(JSON.parse(String(first!.more)))).toHaveLength(2001);
    expect(JSON.parse(String(second!.more))).toMatchObject({ d6000: 0, d8999: 2999 });
    expect(third).toMatchObject({ email: expect.stringMatching(/^[0-9a-f]{64}$/), later: "1.50" });
    expect(third!.more).toBe(
      '{"d9000":1,"late.n":12345678901234567890,"odd":{"n":12345678901234567890,"list":[1]}}',
    );
  });

  it("keeps hashed what lies below a field that is stored whole", async () => {
    const days = Object.fromEntries(
      Array.from({ length: 1100 }, (_, i) => [`d${i}`, { who: i === 7 ? "ana" : "bo" }]),
    );
    const columns = {
      "days.d7.who": { hash: true },
      whole: { type: "json" },
      "whole.who": { hash: true },
    } as const;
    const { run, database } = carried({ get: "/s", key: "id", columns }, () => ({
      body: [{ id: 1, days, whole: { who: "ana" } }],
    }));
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 1 });
    const held =
      "SELECT days_d7_who || whole::VARCHAR LIKE '%ana%' AS plain, whole::VARCHAR LIKE '{\"who\":%' AS is_whole FROM s";
    expect(await queryFile(database, held)).toEqual([{ plain: false, is_whole: true }]);
    expect(await queryFile(database, "SELECT count(*) AS n FROM s_days WHERE who = 'bo'")).toEqual([
      { n: "1099" },
    ]);
  });
});

describe("a page of many records", () => {
  it("is shaped some thousands at a time: those that do not fit, new fields and doubles may be anywhere", async () => {
    const columns = { beds: { type: "int64" } } as const;
    const { run, database } = carried({ get: "/s", key: "id", columns }, () => ({
      body: Array.from({ length: 12_001 }, (_, id) => ({
        id,
        beds: id % 4000 === 3999 ? "many" : id,
        kids: [{ n: id }],
        ...(id > 9000 ? { late: `x${id}` } : {}),
      })),
    }));
    const { stream } = await run();
    expect(stream).toMatchObject({
      outcome: "done",
      received: 12_001,
      added: 11_998,
      quarantined: 3,
      pages: 1,
    });
    const counts = `SELECT count(*)::INTEGER AS n, sum(beds)::INTEGER AS beds, count(late)::INTEGER AS late,
      (SELECT count(*)::INTEGER FROM s JOIN s_kids ON s_id = s.id AND n = s.id) AS kids FROM s`;
    const beds = (12_000 * 12_001) / 2 - 3999 - 7999 - 11_999;
    expect(await queryFile(database, counts)).toEqual([{ n: 11_998, beds, late: 2999, kids: 11_998 }]);
  });
});

describe("a connector's own function", () => {
  const stream = { get: "/s", pages: { token: "$.next", query: "after" } } as const;
  const answer = () => ({ body: [{ id: 1 }] });
  const boom = () => {
    throw new Error("a slip of mine");
  };

  it.each([
    ["next", { streams: { s: { next: boom } } }, "own next has thrown: a slip of mine"],
    ["next", { streams: { s: { next: () => null as never } } }, "own next has given null"],
    ["keep", { streams: { s: { keep: boom } } }, "own keep has thrown: a slip of mine"],
  ])("(%s) that fails is told as its author's", async (_name, code, words) => {
    const error = await failure(recordsOf(fakeApi(stream, answer, code)));
    expect(error).toMatchObject({ code: "FUNCTION_FAILED", message: expect.stringContaining(words) });
    expect(error.where.stream).toBe("s");
  });

  it("for a stream that is not declared is a mistake", () => {
    expect(() => fakeApi(stream, answer, { streams: { t: { keep: () => true } } })).toThrow(
      /functions for a stream t/,
    );
  });
});

describe("a sealed token", () => {
  it("is opened under its own name and by its own secret only", () => {
    const seal = new Seal("a passphrase of the valley");
    const sealed = seal.close("secret words", "north");
    expect(new Seal("a passphrase of the valley").open(sealed, "north")).toBe("secret words");
    expect(() => seal.open(sealed, "south")).toThrow();
    expect(() => new Seal("another").open(sealed, "north")).toThrow();
    expect(sealed).not.toContain("secret words");
  });
});
