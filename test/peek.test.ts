/** `peek`: a sample of a stream, through the command and through the public function. */

import { readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { preview } from "../src/core/index.js";
import { FieldStatistics } from "../src/core/sample/field-stats.js";
import { peek } from "../src/index.js";
import { startNeighbours } from "../src/standins/index.js";
import { fakeApi } from "./support/fake-api.js";
import { outputLines } from "./support/output.js";
import { command, demoProject, temporaryFolder } from "./support/project.js";
import { whenDone } from "./support/when-done.js";

const stays = Array.from({ length: 100 }, (_, id) => ({
  id,
  beds: id % 4,
  guest: { name: `guest ${id}`, email: `g${id}@huts.example` },
  ...(id % 2 === 0 ? { note: "" } : {}),
}));
const byOffset = {
  get: "/stays",
  records: "$.items[*]",
  key: "id",
  pages: { offset: 0, query: "offset", size: { query: "limit", records: 50 }, total: "$.total" },
  columns: { "guest.email": { hash: true }, "guest.name": { drop: true } },
};
const staysApi = () =>
  fakeApi(byOffset, ({ query }) => {
    const [from, size] = [Number(query.get("offset")), Number(query.get("limit"))];
    return { body: { items: stays.slice(from, from + size), total: stays.length } };
  });

describe("peek", () => {
  it("takes the first, the middle and the last records where a total tells of them, and no more", async () => {
    const { api, log } = staysApi();
    const { sample, records, requests } = await peek({ api, stream: "s", records: 6 });
    expect(records.map((each) => (each as { id: number }).id)).toEqual([0, 1, 47, 48, 94, 95]);
    expect(sample).toMatchObject({
      total: 100,
      places: [
        { place: "first", records: 2 },
        { place: "middle", records: 2 },
        { place: "last", records: 2 },
      ],
    });
    expect([requests, log.length]).toEqual([3, 3]);
  });

  it("of pages by number, tokens or windows takes what can be had for a few requests", async () => {
    const numbered = fakeApi(
      { get: "/s", records: "$.items[*]", pages: { number: 1, query: "page", total_pages: "$.pages" } },
      ({ query }) => ({ body: { items: [{ page: Number(query.get("page")) }], pages: 9 } }),
    );
    const seen = await peek({ api: numbered.api, stream: "s", records: 3 });
    expect(seen.records).toEqual([{ page: 1 }, { page: 5 }, { page: 9 }]);
    const tokens = fakeApi(
      { get: "/s", records: "$.items[*]", pages: { token: "$.next", query: "after" } },
      () => ({ body: { items: [{ id: 1 }], next: "more" } }),
    );
    expect((await peek({ api: tokens.api, stream: "s" })).sample.places).toHaveLength(1);
    expect(tokens.log).toHaveLength(1);
    const windows = fakeApi(
      { get: "/s", windows: { span: "P1D", from: "from", to: "to", start: "-P20D" } },
      ({ query }) => ({ body: [{ from: query.get("from") }] }),
    );
    const { places } = (await peek({ api: windows.api, stream: "s" })).sample;
    expect(places.map(({ place }) => place)).toEqual(["first", "middle", "last"]);
  });

  it("tells what a condition decides by, keeps what is secret, and tries columns", async () => {
    const { api } = staysApi();
    const where = "record.beds > 1 && record.note == ''";
    const columns = { beds: { type: "boolean" } };
    const seen = await peek({ api, stream: "s", records: 6, where, columns });
    const decided = seen.decisions.map(({ key, holds, part, values }) => [key[0], holds, part, values]);
    expect(decided.slice(0, 2)).toEqual([
      [0, false, "record.beds > 1", [{ field: "beds", value: 0 }]],
      [1, false, "record.beds > 1", [{ field: "beds", value: 1 }]],
    ]);
    // 47 has three beds and no note: that cannot be judged
    expect(decided[2]).toEqual([47, undefined, "record.note == ''", [{ field: "note", value: undefined }]]);
    expect(decided[4]).toEqual([
      94,
      true,
      where,
      [
        { field: "beds", value: 2 },
        { field: "note", value: "" },
      ],
    ]);
    expect(seen.quarantined.map(({ reason }) => reason)).toEqual([
      "not_judged",
      "not_judged",
      "type_mismatch",
    ]);
    expect(JSON.stringify(seen)).not.toMatch(/huts\.example|guest \d/);
    // a kept sample gives the same without being asked for, hashes and all
    const { sample } = await peek({ api, stream: "s", records: 6 });
    const again = await peek({ api, stream: "s", sample });
    expect([again.requests, again.tables]).toEqual([
      0,
      (await peek({ api, stream: "s", records: 6 })).tables,
    ]);
    await expect(peek({ api, stream: "s", where: "beds > 1" })).rejects.toMatchObject({
      code: "CONFIG_INVALID",
      message: "where is no condition: Unknown variable: beds",
    });
  });
});

describe("early-bridge peek", () => {
  it("shows fields, tables and a record; keeps a sample, and looks at it with no network", async () => {
    const service = await startNeighbours();
    whenDone(() => service.close());
    const { folder } = demoProject("http://127.0.0.1:9", service.url);
    const file = join(folder, "items.sample.json");
    const first = await command(["peek", "stores", "items", "--records", "9", "--save", file], folder);
    expect(first.stdout).toMatch(/items of stores: 9 of 80 records, the first ones \(\d request/);
    expect(first.stdout).toMatch(/Price +100 % +number in quotes +\d +1\.50 … 9\.50/);
    expect(first.stdout).toMatch(/Table items, 9 rows[\s\S]*price +decimal\(9,2\) +1\.50/);
    expect(first.stdout).toContain(`early-bridge peek stores items --sample ${file}`);
    expect(statSync(file).mode & 0o077).toBe(0);
    // its metadata is asked for, and none of its records
    const asked = service.log.length;
    const again = await command(["peek", "stores", "items", "--sample", file, "--json"], folder);
    expect(service.log.slice(asked).map(({ path }) => path)).not.toContain("/stores/odata/Items");
    const lines = outputLines(again.stdout);
    expect(lines[0]).toMatchObject({ type: "sample", records: 9, total: 80, requests: 0 });
    expect(lines.filter(({ type }) => type === "record")).toHaveLength(9);
    const taken = await command(["peek", "stores", "items", "--save", file], folder);
    expect([taken.code, taken.stderr]).toEqual([2, expect.stringContaining("is there already")]);
    const other = join(temporaryFolder(), "other.json");
    for (const [text, words] of [
      ["{", "is no sample that peek --save has written"],
      [readFileSync(file, "utf8").replace('"stream":"items"', '"stream":"huts"'), "is a sample of huts"],
    ] as const) {
      writeFileSync(other, text);
      const ended = await command(["peek", "stores", "items", "--sample", other], folder);
      expect([ended.code, ended.stderr]).toEqual([2, expect.stringContaining(words)]);
    }
  });
});

describe("preview", () => {
  const connector = (pages: string, more = "") => `connector: stays
settings: { hut: { type: string } }
api: { url: https://api.huts.example/v1 }
streams:
  stays:
    get: /huts/{hut}/stays
    query: { kind: "{hut}" }
    records: $.items[*]
    key: id
    pages: ${pages}
    ${more}
`;
  const items = Array.from({ length: 20 }, (_, id) => ({ id, guests: [{ name: "Ana" }] }));
  const body = new TextEncoder().encode(JSON.stringify({ items, next: "a b", total: 90 }));

  it.each([
    ["{ token: $.next, query: after }", { request: "GET /huts/{hut}/stays?kind={hut}&after=a b" }],
    ["{ offset: 0, query: from, total: $.total }", { request: "GET /huts/{hut}/stays?kind={hut}&from=20" }],
    ["{ link: $.none }", { end: "this page is the last one, by what it says" }],
    ["{ token: $.items, query: after }", { end: "The next page's token at $.items is a list." }],
  ])("reads a response by lines of a connector, and tells what follows: %s", (pages, next) => {
    const seen = preview({ connector: connector(pages), body, most: 5 });
    expect(seen).toMatchObject({ stream: "stays", streams: ["stays"], received: 20, next });
    expect(seen.tables.map(({ name, rows }) => [name, rows.length])).toEqual([
      ["stays", 5],
      ["stays_guests", 5],
    ]);
    expect(seen.fields.map(({ path }) => path)).toEqual(["id", "guests", "guests[*].name"]);
  });

  it("says where lines are wrong, by line and column", () => {
    const lines = connector("{ token: $.next, query: after }", "wher: record.id > 3");
    expect(() => preview({ connector: lines, body })).toThrow(
      expect.objectContaining({
        code: "CONFIG_UNKNOWN_KEY",
        where: { file: "connector:11:5" },
        hint: expect.stringContaining("Perhaps where is meant."),
      }),
    );
  });
});

describe("field statistics", () => {
  it("add up, whatever the records hold", () => {
    const value = fc.oneof(
      fc.constant(null),
      fc.integer(),
      fc.string(),
      fc.boolean(),
      fc.array(fc.record({ x: fc.integer() }), { maxLength: 3 }),
      fc.record({ y: fc.oneof(fc.integer(), fc.string()) }),
    );
    const record = fc.dictionary(fc.constantFrom("a", "b", "__proto__", "c d"), value);
    fc.assert(
      fc.property(fc.array(record, { maxLength: 20 }), (records) => {
        const statistics = new FieldStatistics();
        for (const each of records) statistics.add(each);
        for (const { path, of, filled, types, distinct, frequent } of statistics.result()) {
          expect(Object.values(types).reduce((sum, times) => sum + times, 0)).toBe(filled);
          expect(filled).toBeLessThanOrEqual(of);
          expect(distinct).toBeLessThanOrEqual(filled);
          for (const { times } of frequent) expect(times).toBeGreaterThan(1);
          if (!/[.[]/.test(path)) {
            const held = records.filter((each) => Object.hasOwn(each, path) && each[path] !== null);
            expect([of, filled]).toEqual([records.length, held.length]);
          }
        }
      }),
    );
  });

  it("compare numbers in quotes by their size, and codes as texts", () => {
    const statistics = new FieldStatistics();
    for (const [price, code] of [
      ["9.50", "01"],
      ["100", "1"],
    ])
      statistics.add({ price, code });
    expect(statistics.result()).toMatchObject([
      { path: "price", types: { number_text: 2 }, least: "9.50", greatest: "100" },
      { path: "code", types: { text: 1, number_text: 1 }, least: "01", greatest: "1" },
    ]);
  });
});
