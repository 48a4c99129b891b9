/** Whole runs by both readers: the same tables, the same report, and the express reader is the one at work. */

import fc from "fast-check";
import { afterEach, describe, expect, it } from "vitest";
import { CsvLines } from "../src/core/decode/csv-lines.js";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import type { BridgeStreamInput } from "../src/core/define/project-schema.js";
import { type FilledTable, unshape } from "../src/core/index.js";
import { compileStream } from "../src/core/stream/compile-stream.js";
import { outlinePlan } from "../src/core/stream/outline-plan.js";
import { defineConnector } from "../src/index.js";
import { carried } from "./support/carried.js";
import { documentsOf } from "./support/documents.js";
import { filledTables } from "./support/filled-tables.js";
import { tries } from "./support/long.js";
import { settled } from "./support/settled.js";
import { queryFile } from "./support/truth.js";

type StreamInput = NonNullable<ConnectorInput["streams"]>[string];

const STREAM: StreamInput = {
  get: "/s",
  key: "id",
  records: "$.items[*]",
  pages: { token: "$.next", query: "after", total: "$.total" },
  cursor: { field: "at", query: "since" },
};

afterEach(() => {
  delete process.env.EARLY_BRIDGE_READER;
});

/** Carries pages of records by a reader; what the run says, and the records that the tables give back. */
async function carry(
  pages: readonly (readonly object[])[],
  reader: "express" | "plain",
  stream = STREAM,
  written: Partial<BridgeStreamInput> = {},
) {
  process.env.EARLY_BRIDGE_READER = reader;
  const total = pages.flat().length;
  const { run, database, notices } = carried(stream, ({ query }) => {
    const number = Number(query.get("after") ?? 0);
    return {
      body: { total, items: pages[number], next: number + 1 < pages.length ? String(number + 1) : null },
    };
  });
  const { stream: report } = await run({ streams: { s: written } });
  const { outcome, received, added, doubled, quarantined, rowsByTable, error } = report;
  // a run may have ended before it made any table
  const tables = Object.keys(rowsByTable).length === 0 ? [] : await filledTables(database, "s");
  const records = unshape(tables).map(settled).sort();
  const known = { outcome, received, added, doubled, quarantined, code: error?.code };
  return {
    known,
    lives: tables.flatMap(livesIn).sort(),
    rowsByTable,
    records,
    notices: notices(),
    cursor: report.cursor,
  };
}

/** What a table's rows say of their records' states, as texts. */
function livesIn({ path, recordKey, columns, rows }: FilledTable): string[] {
  const told = columns.filter(({ role }) => role === "state" || role === "valid_from");
  const names = [...recordKey, ...told.map(({ name }) => name)];
  return rows.map((row) => [path, ...names.map((name) => row[name])].join(" "));
}

describe("a run by the express reader", () => {
  it("ends as one by the plain reader: random records, with some that come twice", async () => {
    const key = fc.constantFrom("a", "b", "list", "value", "É");
    const pages = fc.array(documentsOf(key), { minLength: 3, maxLength: 5 });
    const rules = fc.constantFrom<Partial<StreamInput>>(
      {},
      { where: 'record.a != "a"' },
      { where: "record.hut == 1 && has(record.list)", add: { hut: 1 } },
      { compute: { a: "has(record.b) ? record.b : record.id" } },
      { gone: "has(record.value)" },
      { gone: "has(record.b)", add: { hut: "Alm" }, where: "!has(record.a)" },
    );
    const writing = fc.constantFrom<Partial<BridgeStreamInput>>(
      { deletes: "remove" },
      { deletes: "mark" },
      { write: "append" },
      { write: "versions" },
      { write: "replace" },
    );
    const inner = { key: "meta.id", cursor: { field: "meta.at", query: "since" } };
    const within = fc.constantFrom<Partial<StreamInput>>({}, inner, { key: undefined, cursor: undefined });
    await fc.assert(
      fc.asyncProperty(
        pages,
        fc.nat({ max: 9 }),
        rules,
        writing,
        within,
        async (made, twice, rule, written, keyed) => {
          let id = 0;
          const given = made.map((records, page) =>
            records.map((record) => {
              const known = { id: ++id % 11 === twice ? 1 : id, at: `2026-01-0${page + 1}` };
              return { ...record, ...known, meta: { ...known, n: page } };
            }),
          );
          const stream = { ...STREAM, ...rule, ...keyed };
          const hasKey = stream.key !== undefined;
          const write = written.write === "append" ? "append" : "replace";
          const how: Partial<BridgeStreamInput> = hasKey ? written : { write };
          if (!hasKey) delete stream.gone;
          const express = await carry(given, "express", stream, how);
          const plain = await carry(given, "plain", stream, how);
          const byText = (records: readonly unknown[]) => records.map((each) => JSON.stringify(each)).sort();
          expect(byText(express.records)).toEqual(byText(plain.records));
          expect(express).toMatchObject({
            known: plain.known,
            // rows without a key are named in the order in which they are made
            lives: hasKey ? plain.lives : expect.objectContaining({ length: plain.lives.length }),
            rowsByTable: plain.rowsByTable,
            cursor: plain.cursor,
          });
        },
      ),
      { numRuns: tries(2, 8), endOnFailure: true },
    );
  }, 600_000);

  it.each(["append", "versions"] as const)("keeps states as the plain one does, by %s", async (write) => {
    const record = (id: number, more: object) => ({
      id,
      name: `Hut ${id}`,
      at: `2026-01-0${1 + (id % 3)}`,
      ...more,
    });
    const pages = [
      [record(1, { beds: [{ no: 1 }], n: 1.5 }), record(2, { n: 2 })],
      [
        record(3, { n: 1e3 }),
        record(4, { beds: [{ no: 1 }, { no: 2 }], tags: ["a", "é"] }),
        record(5, { "x y": "new" }),
      ],
      // another state of one that came, and keys in another order
      [record(2, { n: 3, at: "2026-01-09" }), { n: 4, id: 6, name: null, at: "2026-01-02" }],
    ];
    const express = await carry(pages, "express", STREAM, { write });
    const plain = await carry(pages, "plain", STREAM, { write });
    expect(express).toEqual(plain);
    expect(express.known).toMatchObject({ outcome: "done", added: 6 });
    expect(new Set(express.lives.map((each) => each.split(" ").at(-1))).size).toBeGreaterThan(2);
  });

  it("tells of two records of one page that have the same key and differ, as the plain one does", async () => {
    const record = (id: number, name: string) => ({ id, name, at: "2026-01-01" });
    const pages = [[record(1, "a")], [record(2, "b"), record(2, "c")]];
    for (const reader of ["express", "plain"] as const)
      expect((await carry(pages, reader)).known).toMatchObject({ code: "KEY_NOT_UNIQUE" });
  });
});

describe("records without a key", () => {
  const stream: StreamInput = { get: "/s", records: "$.items[*]", pages: { number: 1, query: "page" } };

  /** What a run brings of pages by number; the last one is given for all behind it. */
  async function numbered(pages: readonly (readonly object[])[], reader: "express" | "plain") {
    process.env.EARLY_BRIDGE_READER = reader;
    const { run, database } = carried(stream, ({ query }) => {
      const page = Math.min(Number(query.get("page")), pages.length);
      return { body: { items: pages[page - 1] } };
    });
    const { stream: report } = await run({ streams: { s: { write: "append" } } });
    const { outcome, received, added, error } = report;
    const ids = outcome === "done" ? await queryFile(database, IDS) : [];
    return { outcome, received, added, code: error?.code, ids };
  }
  const IDS = `SELECT count(*)::INTEGER AS rows, count(DISTINCT eb_row_id)::INTEGER AS ids,
    (SELECT count(*)::INTEGER FROM s_beds JOIN s ON s_eb_row_id = eb_row_id WHERE s_beds.no = s.n) AS beds FROM s`;
  const pageOf = (...numbers: number[]) => numbers.map((n) => ({ n, beds: [{ no: n }] }));

  it("have names of their own, which their children bear", async () => {
    const pages = [pageOf(1, 2), pageOf(3, 3), pageOf(3, 4), []];
    const express = await numbered(pages, "express");
    expect(express).toMatchObject({ outcome: "done", added: 6, ids: [{ rows: 6, ids: 6, beds: 6 }] });
    expect(express).toEqual(await numbered(pages, "plain"));
  });

  it("are told when the API gives the same page again", async () => {
    for (const reader of ["express", "plain"] as const)
      expect((await numbered([pageOf(1, 2), pageOf(3, 4)], reader)).code).toBe("PAGE_REPEATED");
  });
});

describe("pages of lines", () => {
  it.each<[string, StreamInput["response"], (records: readonly Night[]) => string]>([
    ["JSON Lines", "json_lines", (records) => records.map((each) => `${JSON.stringify(each)}\n`).join("")],
    ["CSV", "csv", (records) => `id,at,guest\n${records.map((each) => `${csvOf(each)}\n`).join("")}`],
  ])("of %s are read by both readers alike, one that is odd as well", async (_, response, written) => {
    const night = (id: number): Night => ({
      id,
      at: "2026-01-01",
      guest: id % 3 === 0 ? null : `"Ötzi", ${id}`,
    });
    const pages = [1, 2, 3, 4].map((page) =>
      written(Array.from({ length: 50 }, (_, i) => night(page * 50 + i))),
    );
    pages[2] += `odd line\n${written([night(1)])
      .split("\n")
      .at(-2)}\n`;
    const stream: StreamInput = {
      get: "/s",
      key: "id",
      response,
      records: "$[*]",
      pages: { number: 1, query: "page" },
    };
    const results = [];
    for (const reader of ["express", "plain"] as const) {
      process.env.EARLY_BRIDGE_READER = reader;
      const { run, database } = carried(stream, ({ query }) => ({
        body: pages[Number(query.get("page")) - 1] ?? "",
      }));
      const { stream: report } = await run();
      const { outcome, added, quarantined, error } = report;
      results.push({ outcome, added, quarantined, error, rows: await filledTables(database, "s") });
    }
    expect(results[0]).toEqual(results[1]);
    expect(results[0]).toMatchObject({ outcome: "done", added: 201, quarantined: 1 });
  });
});

interface Night {
  readonly id: number;
  readonly at: string;
  readonly guest: string | null;
}

const csvOf = ({ id, at, guest }: Night) =>
  [id, at, guest === null ? "" : `"${guest.replaceAll('"', '""')}"`].join(",");

describe("a stream", () => {
  const planOf = (stream: Partial<StreamInput>) => {
    const connector = defineConnector({
      connector: "c",
      api: { url: "https://api.huts.example" },
      streams: { s: { ...STREAM, ...stream } as StreamInput },
    });
    return outlinePlan(compileStream(connector, "s", connector.streams.s!));
  };

  it("is read express by the fields that asking needs", () => {
    expect(planOf({})).toMatchObject({
      lists: [["items"]],
      fields: [["id"], ["at"]],
      identity: [["id"]],
      hasRules: false,
    });
    expect(
      planOf({ records: "$[*]", pages: { after: "seq", query: "from" }, cursor: undefined }),
    ).toMatchObject({ lists: [[]], fields: [["id"], ["seq"]], identity: [["id"]] });
    expect(planOf({ key: ["meta.id", "hut"], cursor: { field: "meta.at", query: "since" } })).toMatchObject({
      fields: [["meta", "id"], ["hut"], ["meta", "at"]],
      identity: [["meta", "id"], ["hut"]],
    });
  });

  it("is read express where its records are lines", () => {
    const lines = { records: "$[*]", pages: { offset: 0, query: "from" } };
    expect(planOf({ ...lines, response: "json_lines" })).toMatchObject({ form: "json_lines", lists: [[]] });
    expect(planOf({ ...lines, response: "csv" })).toMatchObject({ form: expect.any(CsvLines), lists: [[]] });
  });

  it.each<[string, Partial<StreamInput>, string[], boolean]>([
    ["conditions over fields", { where: 'record.n.m > 1 && record["o"] == 1' }, ["n", "o"], true],
    ["fields that are worked out", { compute: { n: "record.beds + 1", o: "record.n" } }, ["beds", "n"], true],
    ["fields that are added", { add: { hut: 1 } }, [], false],
    ["tombstones", { gone: "record.state == 'gone'" }, ["state"], false],
  ])("is read express with what rules look at, where there are %s", (_, stream, reads, hasRules) => {
    expect(planOf(stream)).toMatchObject({
      fields: [["id"], ["at"], ...reads.map((name) => [name])],
      hasRules,
    });
  });

  it.each<[string, Partial<StreamInput>]>([
    ["conditions over whole records", { where: "size(record) > 3" }],
    ["fields worked out from whole records", { compute: { n: "record.map(key, key)" } }],
    ["conditions over fields that are worked out themselves", { where: 'record[record.name] == "x"' }],
    [
      "records without a key, of which the last pages may come again",
      { key: undefined, pages: { number: 1, query: "page", after_last_page: "repeats" } },
    ],
    ["a key within a list", { key: "meta[*].id" }],
    ["records at a path that is not plain", { records: "$..items[*]" }],
    ["the next page's place within the records", { pages: { token: "$.items[-1:].id", query: "after" } }],
    ["elements of XML", { response: "xml" }],
    [
      "CSV with several signs between fields",
      { response: { csv: { delimiter: "||" } }, records: "$[*]", pages: undefined },
    ],
  ])("is read plainly where there are %s", (_, stream) => {
    expect(planOf(stream)).toBeUndefined();
  });
});
