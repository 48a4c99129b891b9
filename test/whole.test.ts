/** Never "done" with rows missing: what servers did that made runs end well with less than all. */

import { symlinkSync } from "node:fs";
import { join, relative } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { KeyDigests } from "../src/core/ask/key-digests.js";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import { connect, defineConnector, openBridge, probe } from "../src/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { carried } from "./support/carried.js";
import { failure } from "./support/failure.js";
import { type Answered, type Asked, fakeApi, recordsOf } from "./support/fake-api.js";
import { temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { changeFile, queryFile } from "./support/truth.js";

type Stream = NonNullable<ConnectorInput["streams"]>[string];
interface Item {
  readonly id: number | string;
  readonly at?: number | string;
}

const items = (count: number, from = 1): Item[] =>
  Array.from({ length: count }, (_, i) => ({ id: from + i }));

/** Numbers that look random and are the same on every run. */
function seeded(seed: number): () => number {
  let state = seed;
  return () => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return state / 2 ** 32;
  };
}

function shuffled<T>(list: readonly T[], random: () => number): T[] {
  return list
    .map((item) => [random(), item] as const)
    .sort(([a], [b]) => a - b)
    .map(([, item]) => item);
}

const SIZE = 20;
const size = { query: "size", records: SIZE };
const paged = (pages: Partial<NonNullable<Stream["pages"]>>): Stream => ({
  get: "/s",
  records: "$.items[*]",
  key: "id",
  pages: { offset: 0, query: "from", size, ...pages },
});
const slice = (list: readonly Item[], { query }: Asked) => {
  const from = Number(query.get("from") ?? 0);
  return list.slice(from, from + Number(query.get("size") ?? SIZE));
};

describe("a cursor's values", () => {
  it("that are digits in a text are compared by size: newest first, all that is new is taken", async () => {
    let list: Item[] = items(5, 95).map(({ id }) => ({ id: String(id) }));
    const { run, ids } = carried(
      {
        get: "/s",
        records: "$.items[*]",
        key: "id",
        cursor: { field: "id", order: "descending" },
        pages: { offset: 0, query: "from", size },
      },
      (asked) => ({ body: { items: slice([...list].reverse(), asked) } }),
    );
    await run();
    list = items(27, 95).map(({ id }) => ({ id: String(id) }));
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 22 });
    expect(await ids()).toEqual(items(27, 95).map(({ id }) => id));
  });

  it("that are seconds since 1970 are compared with a relative begin on our side", async () => {
    const now = Date.UTC(2026, 10, 1) / 1000;
    const { run } = carried({ get: "/s", key: "id", cursor: { field: "at", start: "-P90D" } }, () => ({
      body: [
        { id: 1, at: now - 60 },
        { id: 2, at: now - 3600 },
        { id: 3, at: now - 100 * 86_400 },
      ],
    }));
    expect((await run()).stream).toMatchObject({ outcome: "done", received: 3, added: 2, leftOut: 1 });
  });

  it("go back as the API wrote them: a server that compares texts finds all", async () => {
    const list = [{ id: 1, at: "2026-10-01T02:45:00.000Z" }];
    const cursor = { field: "at", query: "since", bounds: "inclusive" } as const;
    const { run, ids } = carried({ get: "/s", key: "id", cursor }, ({ query }) => ({
      body: list.filter(({ at }) => at >= (query.get("since") ?? "")),
    }));
    await run();
    list.push({ id: 2, at: "2026-10-01T02:45:00.000Z" });
    expect((await run()).asked).toEqual(["/s?since=2026-10-01T02:45:00.000Z"]);
    expect(await ids()).toEqual([1, 2]);
  });

  it("of another kind than before are told, and the cursor stays", async () => {
    let body: Item[] = [{ id: 1, at: "2026-10-01T00:00:00Z" }];
    const cursor = { field: "at", query: "since" };
    const { run, notices } = carried({ get: "/s", key: "id", cursor }, () => ({ body }));
    await run();
    body = [
      { id: 2, at: "2026-10-02T00:00:00Z" },
      { id: 3, at: "unknown" },
    ];
    expect((await run()).stream).toMatchObject({ outcome: "done", cursor: "2026-10-02T00:00:00Z" });
    expect(notices()).toEqual([
      "cursor.field at holds times, but 1 record has another value there, such as unknown: they move no cursor.",
    ]);
    body = [
      { id: 4, at: "b" },
      { id: 5, at: "a" },
    ];
    expect((await run()).stream).toMatchObject({
      outcome: "failed",
      cursor: "2026-10-02T00:00:00Z",
      error: {
        code: "CURSOR_UNFIT",
        message: "The cursor's values were times; now cursor.field at holds b.",
      },
    });
  });
});

describe("a list without a stable order", () => {
  const list = items(134);
  const unstable = (random: () => number, total: boolean) => (asked: Asked) => ({
    body: { items: slice(shuffled(list, random), asked), ...(total ? { total: list.length } : {}) },
  });

  it.each<[string, Partial<NonNullable<Stream["pages"]>>, boolean]>([
    ["by offset", {}, false],
    ["by offset with a total", { total: "$.total" }, true],
    ["by offset with an overlap", { overlap: 5 }, false],
    ["by offset with an overlap and a total", { overlap: 5, total: "$.total" }, true],
  ])("is read twice and then told as incomplete: %s", async (_how, pages, total) => {
    const stream = { ...paged(pages), cursor: { field: "id", query: "since" } };
    const { run, notices, ids } = carried(stream, unstable(seeded(7), total));
    const { report, stream: told } = await run();
    expect(told).toMatchObject({ outcome: "incomplete", cursor: undefined, error: { code: "INCOMPLETE" } });
    expect(report.outcome).toBe("incomplete");
    expect(told.error?.message).toMatch(total ? /where the API promises 134/ : /came twice|move faster/);
    expect(notices().some((notice) => notice.endsWith("It is read once more."))).toBe(true);
    // what came is in; the next run asks for everything again
    if (pages.overlap === undefined) expect((await ids()).length).toBeLessThan(list.length);
    expect((await ids()).length).toBeGreaterThan(list.length / 2);
    expect((await run()).asked[0]).not.toContain("since");
  });

  it("is whole where the second reading, in pages of another size, gives what is missing", async () => {
    const stream = paged({ total: "$.total", size: { ...size, records: 50, smaller: [40] } });
    const random = seeded(3);
    const { run, ids } = carried(stream, (asked) => {
      const order = asked.query.get("size") === "40" ? list : shuffled(list, random);
      return { body: { items: slice(order, asked), total: list.length } };
    });
    expect((await run()).stream).toMatchObject({ outcome: "done", error: undefined });
    expect(await ids()).toEqual(list.map(({ id }) => id));
  });

  it("is never swapped in: the table that stands stays", async () => {
    let random: (() => number) | undefined;
    const { run, ids, database } = carried({ ...paged({}), key: "id" }, (asked) => ({
      body: { items: slice(random === undefined ? list : shuffled(list, random), asked) },
    }));
    const bridge = { streams: { s: { write: "replace" as const } } };
    await run(bridge);
    random = seeded(11);
    expect((await run(bridge)).stream).toMatchObject({ outcome: "incomplete" });
    expect(await ids()).toEqual(list.map(({ id }) => id));
    const rows = await queryFile(
      database,
      "SELECT outcome, error_code FROM early_bridge.run_streams WHERE run = 2",
    );
    expect(rows).toEqual([{ outcome: "incomplete", error_code: "INCOMPLETE" }]);
  });

  it("is told behind the last record where records are read without a warehouse", async () => {
    const error = await failure(recordsOf(fakeApi(paged({}), unstable(seeded(5), false))));
    expect(error).toMatchObject({
      code: "INCOMPLETE",
      kind: "incomplete",
      hint: expect.stringContaining("sort"),
    });
  });
});

describe("records that come again for a good reason", () => {
  it("are no cause for doubt where others come in at the head", async () => {
    let list = items(60);
    const { run } = carried(paged({ offset: undefined, number: 1, query: "page" }), (asked) => {
      const from = (Number(asked.query.get("page")) - 1) * SIZE;
      const page = list.slice(from, from + SIZE);
      list = [{ id: -asked.turn }, ...list];
      return { body: { items: page } };
    });
    expect((await run()).stream).toMatchObject({ outcome: "done", error: undefined });
  });

  it("nor where a record changes meanwhile and comes again at the end, by token", async () => {
    const at = (id: number) => `2026-10-01T00:00:${String(id).padStart(2, "0")}Z`;
    let list: Item[] = items(50).map(({ id }) => ({ id, at: at(Number(id)) }));
    const stream: Stream = {
      get: "/s",
      records: "$.items[*]",
      key: "id",
      cursor: { field: "at", query: "since" },
      pages: { token: "$.next", query: "after" },
    };
    const { run } = carried(stream, ({ query }) => {
      const after = query.get("after") ?? "";
      const rest = list.filter((item) => String(item.at) > after);
      const page = rest.slice(0, SIZE);
      if (after === "") list = [...list.slice(1), { id: 1, at: at(55) }];
      return { body: { items: page, next: rest.length > SIZE ? page.at(-1)?.at : null } };
    });
    expect((await run()).stream).toMatchObject({ outcome: "done", received: 51, added: 50, doubled: 1 });
  });
});

describe("one response that holds a key twice", () => {
  it("says that the key is wrong, and names a field that would tell records from each other", async () => {
    const body = items(24).map(({ id }, i) => ({ hut: i % 4, id: Number(id) }));
    const { run } = carried({ get: "/s", key: "hut" }, () => ({ body }));
    expect((await run()).stream).toMatchObject({
      outcome: "failed",
      added: 0,
      error: {
        code: "KEY_NOT_UNIQUE",
        message:
          "Two different records of one response have the same hut 0: the key does not tell records from each other.",
        hint: "On this page, key: [hut, id] tells all records from each other.",
      },
    });
  });

  it("of records that are alike loses nothing: they are counted as doubled", async () => {
    const { run } = carried({ get: "/s", key: "id" }, () => ({ body: [...items(3), ...items(2)] }));
    expect((await run()).stream).toMatchObject({ outcome: "done", received: 5, added: 3, doubled: 2 });
  });

  it("is found in a file that is read piece by piece", async () => {
    const line = (i: number) => `${JSON.stringify({ id: i % 200_000, note: "n".repeat(60) })}\n`;
    const body = Array.from({ length: 200_001 }, (_, i) => line(i)).join("");
    const { run } = carried({ get: "/s", response: "json_lines", key: "id" }, () => ({ body }));
    expect((await run()).stream).toMatchObject({ outcome: "done", doubled: 1 });
  });
});

describe("a total", () => {
  const counting = (count: (page: readonly Item[], all: number) => number) => (asked: Asked) => {
    const all = items(134);
    const page = slice(all, asked);
    return { body: { items: page, total: count(page, all.length) } };
  };

  it("that counts the page is not believed", async () => {
    const { run, notices, ids } = carried(
      paged({ total: "$.total" }),
      counting((page) => page.length),
    );
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 134 });
    expect(await ids()).toHaveLength(134);
    expect(notices()).toEqual([
      expect.stringContaining("pages.total counts something else, and is not believed"),
    ]);
  });

  it("that is too low ends nothing before a page that is not full", async () => {
    const { run } = carried(
      paged({ total: "$.total" }),
      counting(() => 40),
    );
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 134 });
  });

  it("that is too high is told, and the cursor stays", async () => {
    const { run } = carried(
      paged({ total: "$.total" }),
      counting((_, all) => all + 1),
    );
    expect((await run()).stream).toMatchObject({
      outcome: "incomplete",
      added: 134,
      error: { hint: expect.stringContaining("remove pages.total") },
    });
  });

  it.each([404, 400])(
    "that is true costs one look, and an API that knows no such page (%i) ends it",
    async (status) => {
      const list = items(SIZE);
      const { run } = carried(paged({ total: "$.total" }), (asked) =>
        asked.query.get("from") === "0"
          ? { body: { items: slice(list, asked), total: SIZE } }
          : { status, body: { message: "no such page" } },
      );
      const { stream, asked } = await run();
      expect(stream).toMatchObject({ outcome: "done", added: SIZE });
      expect(asked).toHaveLength(2);
    },
  );
});

describe("a stream without pages", () => {
  it.each<[string, Answered]>([
    ["$.total_count: 134", { body: { items: items(20), total_count: 134 } }],
    ["$.meta.nextPage: 2", { body: { items: items(20), meta: { nextPage: 2 } } }],
    ["$.has_more: true", { body: { items: items(20), has_more: true } }],
    ["$.paging.total_pages: 7", { body: { items: items(20), paging: { total_pages: 7 } } }],
    ["x-total-count: 134", { body: { items: items(20) }, headers: { "x-total-count": "134" } }],
    ['rel="next"', { body: { items: items(20) }, headers: { link: '</s?page=2>; rel="next"' } }],
  ])("whose response says that there is more (%s) is incomplete", async (said, answer) => {
    const { run } = carried({ get: "/s", records: "$.items[*]", key: "id" }, () => answer);
    const { error, outcome } = (await run()).stream;
    expect(outcome).toBe("incomplete");
    expect(error?.message).toContain(said);
  });

  it.each<[string, Answered]>([
    ["the total is all", { body: { items: items(20), total: 20, pages: 1 } }],
    ["there is no next page", { body: { items: items(20), next: null, has_more: false } }],
    ["the words are a record's own", { body: { items: [{ id: 1, next: "later", total: 9 }] } }],
  ])("is whole where %s", async (_how, answer) => {
    const { run, notices } = carried({ get: "/s", records: "$.items[*]", key: "id" }, () => answer);
    expect((await run()).stream).toMatchObject({ outcome: "done" });
    expect(notices()).toEqual([]);
  });
});

describe("a response of another form", () => {
  const list = items(300);
  const breaking = (broken: unknown, times: number) => {
    let left = times;
    return (asked: Asked): Answered => {
      const from = Number(asked.query.get("from") ?? 0);
      if (from === 60 && left-- > 0) return { body: broken };
      return { body: slice(list, asked) };
    };
  };
  const stream: Stream = { get: "/s", key: "id", pages: { offset: 0, query: "from", size } };
  const bad: [string, unknown, RegExp][] = [
    ["an error", { error: "database is busy" }, /database is busy/],
    ["an error object", { error: { code: 17, message: "try later" } }, /try later/],
    ["an object", { status: "ok" }, /of another form than those before it/],
    ["null", null, /of another form than those before it/],
  ];

  it.each(bad)("(%s) is asked for again", async (_what, body) => {
    const { run } = carried(stream, breaking(body, 1));
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 300, retries: 1 });
  });

  it.each(bad)(
    "(%s) that stays is a failure in the API's own words, and replaces nothing",
    async (_what, body, words) => {
      let answer = breaking(body, 0);
      const { run, ids } = carried(stream, (asked) => answer(asked));
      const replacing = { streams: { s: { write: "replace" as const } } };
      await run(replacing);
      answer = breaking(body, 1000);
      const { stream: told } = await run(replacing);
      expect(told).toMatchObject({ outcome: "failed", error: { code: "RESPONSE_UNLIKE", kind: "api" } });
      expect(told.error?.message).toMatch(words);
      expect(await ids()).toHaveLength(300);
    },
  );

  it("is told on the first page as well, where it says that it is an error", async () => {
    const { run } = carried({ get: "/s", records: "$.items[*]", key: "id" }, () => ({
      body: { items: [], errors: [{ title: "Forbidden hut", detail: "it is closed" }] },
    }));
    expect((await run()).stream.error?.message).toContain("Forbidden hut: it is closed");
  });

  it("(nothing at all, 204) is an empty page", async () => {
    const { run } = carried(stream, (asked) =>
      asked.query.get("from") === "0" ? { body: items(SIZE) } : { status: 204, body: "" },
    );
    expect((await run()).stream).toMatchObject({ outcome: "done", added: SIZE });
  });
});

describe("a response's status", () => {
  it("206 is no whole response, and is asked for again", async () => {
    const { run } = carried({ get: "/s", key: "id" }, ({ turn }) => ({
      status: turn === 1 ? 206 : 200,
      body: turn === 1 ? items(3) : items(5),
    }));
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 5, retries: 1 });
  });

  it("304 is named", async () => {
    const { run } = carried({ get: "/s", key: "id" }, () => ({ status: 304, body: "" }));
    expect((await run()).stream.error?.message).toContain("nothing has changed (304)");
  });
});

describe("figures in several requests", () => {
  it("are cut in windows that any one of them fills", async () => {
    const day = 86_400_000;
    const stream: Stream = {
      get: "/figures",
      query: { measures: "{measures}" },
      dimensions: { names: ["day"] },
      measures: { names: ["nights", "guests"], max_per_request: 1 },
      windows: {
        span: "P8D",
        from: "from",
        to: "to",
        start: "2026-10-01",
        end: "2026-10-09",
        max_records: 5,
      },
      key: "day",
    };
    const { run, database } = carried(stream, ({ query }) => {
      const from = Date.parse(query.get("from")!);
      const days = Math.round((Date.parse(query.get("to")!) - from) / day);
      const measure = query.get("measures")!;
      const all = Array.from({ length: days }, (_, i) => ({
        day: new Date(from + i * day).toISOString().slice(0, 10),
        [measure]: 1,
      }));
      // one of the two is cut in silence
      return { body: measure === "guests" ? all.slice(0, 5) : all.filter((_, i) => i % 2 === 0) };
    });
    expect((await run()).stream).toMatchObject({ outcome: "done" });
    const rows = await queryFile(database, "SELECT sum(guests)::INTEGER AS guests FROM s");
    expect(rows).toEqual([{ guests: 8 }]);
  });
});

describe("tables", () => {
  it("of children that somebody has dropped are told and filled again", async () => {
    const record = (id: number) => ({ id, at: `2026-10-0${id}T00:00:00Z`, kids: [{ n: id }] });
    const list = [record(1), record(2)];
    const cursor = { field: "at", query: "since" };
    const { run, notices, database } = carried({ get: "/s", key: "id", cursor }, ({ query }) => ({
      body: list.filter(({ at }) => at > (query.get("since") ?? "")),
    }));
    await run();
    await changeFile(database, "DROP TABLE main.s_kids");
    list.push(record(3));
    expect((await run()).stream).toMatchObject({ outcome: "done", added: 1, unchanged: 2 });
    expect(notices()).toEqual(["The table main.s_kids is gone: the stream is loaded from its beginning."]);
    expect(await queryFile(database, "SELECT count(*)::INTEGER AS kids FROM s_kids")).toEqual([{ kids: 3 }]);
  });

  it("keep records without a key apart that are alike, with their children", async () => {
    const body = Array.from({ length: 2000 }, (_, i) => ({ beds: i % 7, kids: [{ n: i % 3 }] }));
    const { run, database } = carried({ get: "/s" }, () => ({ body }));
    expect((await run()).stream).toMatchObject({ outcome: "done", received: 2000, added: 2000, doubled: 0 });
    const counts = `SELECT count(DISTINCT eb_row_id)::INTEGER AS ids,
      (SELECT count(DISTINCT s_eb_row_id)::INTEGER FROM s_kids) AS parents FROM s`;
    expect(await queryFile(database, counts)).toEqual([{ ids: 2000, parents: 2000 }]);
  });

  it("that turn numbers into text write them as JSON does", async () => {
    let body = '[{"id":1,"n":11},{"id":2,"n":0.5},{"id":3,"n":1e21},{"id":4,"n":-3}]';
    const { run, database } = carried({ get: "/s", key: "id" }, () => ({ body }));
    await run();
    body = '[{"id":5,"n":"11a"},{"id":6,"n":11.0},{"id":7,"n":1e-7}]';
    await run();
    const rows = await queryFile(database, "SELECT n FROM s ORDER BY id");
    expect(rows.map(({ n }) => n)).toEqual(["11", "0.5", "1e+21", "-3", "11a", "11", "1e-7"]);
  });

  it("of two warehouses with one new file are both there", async () => {
    const folder = temporaryFolder();
    const path = join(folder, "new.duckdb");
    symlinkSync(folder, join(folder, "link"));
    const one = async (name: string, way: string) => {
      const { api } = fakeApi({ streams: { [name]: { get: `/${name}`, key: "id" } } }, () => ({
        body: items(3),
      }));
      return (await openBridge({ from: api, to: duckdb(way), name, schema: name })).run();
    };
    const ways = [
      path,
      `${folder}/./new.duckdb`,
      join(folder, "link", "new.duckdb"),
      relative(".", path),
      path,
    ];
    const reports = await Promise.all(ways.map((way, i) => one(`s${i}`, way)));
    expect(reports.map(({ outcome }) => outcome)).toEqual(ways.map(() => "done"));
    for (const [i] of ways.entries())
      expect(await queryFile(path, `SELECT count(*)::INTEGER AS rows FROM s${i}.s${i}`)).toEqual([
        { rows: 3 },
      ]);
    expect(await queryFile(path, "SELECT count(*)::INTEGER AS runs FROM early_bridge.runs")).toEqual([
      { runs: ways.length },
    ]);
  });
});

describe("a first run that takes nothing", () => {
  const old = [{ id: 1, at: "2020-01-01T00:00:00Z" }];
  const cursor = { field: "at", start: "-P90D" };

  it("says what it asked for, and from when", async () => {
    const { run, notices } = carried({ get: "/s", key: "id", cursor: { ...cursor, query: "since" } }, () => ({
      body: [],
    }));
    expect((await run()).stream).toMatchObject({ outcome: "done", received: 0 });
    const from = "2026-08-03T00:00:00Z";
    expect(notices()).toEqual([
      `Nothing came. It began at ${from}, as cursor.start says. It was asked: GET https://api.huts.example/v1/s?since=${encodeURIComponent(from)}`,
    ]);
  });

  it("is foreseen by a probe, which asks as the run will", async () => {
    const { run, notices } = carried({ get: "/s", key: "id", cursor }, () => ({ body: old }));
    expect((await run()).stream).toMatchObject({ outcome: "done", received: 1, leftOut: 1, added: 0 });
    expect(notices()[0]).toContain("1 records came, and all were left out. It began at 2026-08-03T00:00:00Z");
    const url = await serve((_request, response) => response.end(JSON.stringify(old)));
    const connector = defineConnector({
      connector: "old",
      api: { url, sign_in: "none" },
      streams: { s: { get: "/s", key: "id", cursor } },
    });
    await using api = connect(connector, {});
    const line = (await probe({ api })).find(({ check }) => check === "stream s");
    expect(line).toMatchObject({
      outcome: "note",
      found: expect.stringContaining("1 records came and all are left out"),
    });
  });
});

describe("digests of keys", () => {
  it("know each key in every reading", () => {
    fc.assert(
      fc.property(fc.array(fc.string()), fc.array(fc.string()), (first, second) => {
        const digests = new KeyDigests();
        const seen = new Set<string>();
        for (const key of first) {
          expect(digests.add(key, 1)).toBe(seen.has(key) ? "again" : "new");
          seen.add(key);
        }
        const again = new Set<string>();
        for (const key of second) {
          expect(digests.add(key, 2)).toBe(again.has(key) ? "again" : seen.has(key) ? "earlier" : "new");
          again.add(key);
          seen.add(key);
        }
        expect(digests.size).toBe(seen.size);
      }),
    );
  });

  it("keep a share of the keys where there are too many, and know those again", () => {
    const digests = new KeyDigests(1024);
    for (let i = 0; i < 20_000; i++) digests.add(`key ${i}`, 1);
    expect(digests.level).toBeGreaterThanOrEqual(5);
    let again = 0;
    for (let i = 0; i < 20_000; i++) if (digests.add(`key ${i}`, 1) === "again") again++;
    expect(again).toBe(digests.size);
    // a fair share of them
    expect(again * 2 ** digests.level).toBeGreaterThan(16_000);
    expect(again * 2 ** digests.level).toBeLessThan(24_000);
  });
});
