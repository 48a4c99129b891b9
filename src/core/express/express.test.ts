/** The express reader against the plain one: the same rows, the same tables, whatever the bytes are. */

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { documentsOf } from "../../../test/support/documents.js";
import { tries } from "../../../test/support/long.js";
import { BY_ID } from "../../../test/support/outline-plans.js";
import { readPage } from "../ask/read-page.js";
import { applyRules } from "../ask/record-rules.js";
import { defineConnector } from "../define/connector.js";
import type { ConnectorInput } from "../define/connector-input.js";
import { batchRows } from "../shape/batch-rows.js";
import type { ColumnType } from "../shape/column-type.js";
import { parseExactJson, stringifyExact } from "../shape/exact-json.js";
import type { Shape } from "../shape/shape.js";
import type { Issue, Shaped } from "../shape/shaped.js";
import { compileStream } from "../stream/compile-stream.js";
import { outlinePlan } from "../stream/outline-plan.js";
import { ANY_NAMES, shapeOf } from "../stream/shape-of.js";
import { Outliner } from "./outline.js";
import { shapeBytes } from "./shape-bytes.js";

const encoder = new TextEncoder();
const utf8 = new TextDecoder("utf-8", { ignoreBOM: true });

function shapeFor(stream: Record<string, unknown> = {}) {
  const file = {
    connector: "c",
    api: { url: "https://a.huts.example" },
    streams: { s: { get: "/s", key: "id", ...stream } },
  };
  const connector = defineConnector(file as unknown as ConnectorInput);
  return shapeOf(compileStream(connector, "s", connector.streams.s!), { names: ANY_NAMES });
}

/** A value as the column has it in the end: it may have become wider after the value came. */
function widened(raw: unknown, from: ColumnType, to: ColumnType | undefined): unknown {
  if (raw === null) return null;
  // half of a surrogate pair has no UTF-8
  const value = typeof raw === "string" ? utf8.decode(encoder.encode(raw)) : raw;
  const isNumber = ["int64", "float64", "decimal"].includes(from.kind);
  const text = isNumber
    ? String(value)
        .replace(/(\.\d*?)0+$/, "$1")
        .replace(/\.$/, "")
    : String(value);
  if (to?.kind !== "json") return text;
  const json = isNumber || from.kind === "json" || from.kind === "boolean" ? text : JSON.stringify(text);
  // what was text by the time that the column became json is a text there
  return json.replace(/^"(-?\d[\d.e+-]*|true|false)"$/, "$1");
}

/** Rows by table as they stand in the end, without what is nowhere: columns that came later have no value before. */
function rowsOf(all: readonly Shaped[], shape: Shape): Record<string, unknown[]> {
  // what is new in the middle of a page may get another name: rows are told by paths
  const paths = new Map(shape.schema().map(({ name, path }) => [name, path]));
  const columns = new Map(
    shape
      .schema()
      .flatMap(({ name, columns: own }) => own.map((column) => [`${name} ${column.name}`, column] as const)),
  );
  const rows: Record<string, unknown[]> = {};
  for (const batch of all.flatMap(({ batches }) => batches)) {
    const from = new Map(batch.columns.map(({ name, type }) => [name, type]));
    const cell = ([name, value]: [string, unknown]) => {
      const { role, path, type } = columns.get(`${batch.table} ${name}`)!;
      return [`${role} ${path}`, widened(value, from.get(name)!, type)] as const;
    };
    // an empty list stands as one only where its column was json by then
    const isThere = ([, value]: readonly [string, unknown]) => value !== null && value !== "[]";
    const own = batchRows(batch).map((row) =>
      Object.fromEntries(Object.entries(row).map(cell).filter(isThere)),
    );
    const table = paths.get(batch.table)!;
    rows[table] = [...(rows[table] ?? []), ...own];
  }
  // what is unusual comes last
  for (const all of Object.values(rows)) all.sort((a, b) => (stringifyExact(a) < stringifyExact(b) ? -1 : 1));
  return rows;
}

const issueText = ({ reason, path, message, record }: Issue) =>
  stringifyExact({ reason, path, message, record });

/**
 * How both readers shape pages, the first of them plainly; and how many records were scanned. `once`: in the same pass
 * that makes the outline.
 */
function bothReaders(pages: readonly string[], stream: Record<string, unknown>, once: boolean) {
  const [plain, express] = [shapeFor(stream), shapeFor(stream)];
  const outliner = new Outliner(BY_ID);
  const expected: Shaped[] = [];
  const seen: Shaped[] = [];
  for (const [i, text] of pages.entries()) {
    const records = parseExactJson(text) as unknown[];
    expected.push(plain.shapeRecords(records));
    const outline = i === 0 ? undefined : outliner.outline(encoder.encode(text), once ? express : undefined);
    if (outline === undefined) seen.push(express.shapeRecords(records));
    else {
      expect(outline.sketches.map(({ id }) => id)).toEqual(
        records.map((record) => (record as { id: unknown }).id),
      );
      for (const range of shapeBytes(outline, express)) seen.push(range);
    }
  }
  const issues = (all: readonly Shaped[]) => all.flatMap((each) => each.issues.map(issueText)).sort();
  return { plain, express, expected, seen, issues };
}

function expectSame(pages: readonly string[], stream: Record<string, unknown> = {}) {
  expectSameBy(pages, stream, false);
  expectSameBy(pages, stream, true);
}

function expectSameBy(pages: readonly string[], stream: Record<string, unknown>, once: boolean) {
  const { plain, express, expected, seen, issues } = bothReaders(pages, stream, once);
  expect(rowsOf(seen, express)).toEqual(rowsOf(expected, plain));
  expect(issues(seen)).toEqual(issues(expected));
  const form = (shape: typeof plain) =>
    shape
      .schema()
      .map(({ name, columns }) => [name, columns.map((column) => [column.name, column.path, column.type])]);
  expect(form(express)).toEqual(form(plain));
}

const LONG_KEYS = ["longer than sixteen bytes", "longer than sixteen letters"];
const key = fc.constantFrom("a", "b", "a_b", "list", "value", "É", "x y", "", 'a"b', ...LONG_KEYS);

/** A text with each of its units escaped. */
function escaped(text: string): string {
  const units = Array.from({ length: text.length }, (_, i) =>
    text.charCodeAt(i).toString(16).padStart(4, "0"),
  );
  return `"${units.map((unit) => `\\u${unit}`).join("")}"`;
}

describe("the express reader", () => {
  it("gives what the plain one gives: random documents, in pages", () => {
    fc.assert(
      fc.property(documentsOf(key), documentsOf(key), fc.nat({ max: 3 }), (first, second, indent) => {
        const page = (records: readonly object[], from: number) =>
          JSON.stringify(
            records.map((record, i) => ({ ...record, id: from + i })),
            undefined,
            indent,
          );
        expectSame([page(first, 0), page([...first, ...second], 100), page(second, 200), page(first, 300)]);
      }),
      { numRuns: tries(25, 100) },
    );
  });

  it("reads numbers, texts and times of every form as the plain one does", () => {
    const token = fc.oneof(
      fc.constantFrom(
        "0",
        "-0",
        "1",
        "1.0",
        "1e3",
        "12.50",
        "-7.25",
        "9007199254740993",
        "0.1234567890123456789",
      ),
      fc.double({ noNaN: true, noDefaultInfinity: true }).map(String),
      fc.maxSafeInteger().map(String),
      fc.bigInt({ min: -(2n ** 64n), max: 2n ** 64n }).map(String),
      fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n }).map((value) => `"${value}"`),
      fc.string({ unit: "grapheme" }).map((text) => JSON.stringify(text)),
      fc.string({ unit: "binary" }).map(escaped),
      fc.constantFrom(
        String.raw`"\ud800"`,
        String.raw`"\ud83d\u0041\udE00\/\b\f\"\\"`,
        '"0.30000000000000004"',
      ),
      fc.constantFrom(
        '"2026-01-01T10:00:00.123456Z"',
        '"2026-02-30"',
        '"2026-01-01T10:00:00"',
        '"2026-01-01T24:00:00Z"',
      ),
      fc.uuid().map((text) => `"${text}"`),
      fc.uuid().map((text) => `"${text.toUpperCase()}"`),
      fc.constantFrom(
        "true",
        "false",
        "null",
        "[]",
        "[1,2]",
        '["a",null]',
        "{}",
        '{"n":1}',
        '[{"n":1},{"n":2}]',
        "[[]]",
      ),
      fc.constantFrom('"12.5"', '"12,5"', '"-3"', '"007"', '"1e5"', '" 1"', '"AQID"', "1767225600"),
    );
    const record = fc.array(fc.tuple(fc.constantFrom("id", "a", "b", "c", "list"), token), { maxLength: 6 });
    const pages = fc.array(fc.array(record, { minLength: 1, maxLength: 8 }), { minLength: 2, maxLength: 4 });
    const types = fc.constantFrom(
      {},
      {
        columns: { a: { type: "decimal(9,2)" }, b: { type: "int64" }, c: { type: "json" } },
      },
      {
        columns: {
          a: { type: "timestamp" },
          b: { type: "float64" },
          c: { type: "bytes" },
          list: { as: "json" },
        },
      },
      {
        columns: {
          a: { hash: true },
          b: { mask: 2 },
          c: { type: "timestamp", form: { time: "seconds" } },
          list: { type: "decimal(20,4)" },
        },
      },
      {
        columns: {
          a: { type: "uuid" },
          b: { type: "boolean", form: { yes: ["true", "1"], no: ["0"] } },
          c: { type: "float64", form: { decimal: "," } },
          list: { drop: true },
        },
      },
    );
    fc.assert(
      fc.property(pages, types, (made, stream) => {
        const text = made.map((records, page) => {
          // keys that come twice are there as well
          const objects = records.map(
            (members, i) =>
              `{${[["id", String(page * 100 + i)], ...members].map(([name, value]) => `"${name}": ${value}`).join(",")}}`,
          );
          return `[${objects.join(" , ")}]`;
        });
        const distinct = text.map((each) => parseExactJson(each) as { id: unknown }[]);
        fc.pre(distinct.every((records) => records.every(({ id }) => id !== null)));
        expectSame(text, stream);
      }),
      { numRuns: tries(100, 400) },
    );
  });

  it("scans records that are as the tables have them, and not only falls back", () => {
    const records = Array.from({ length: 300 }, (_, id) => ({
      id,
      name: `Hütte ${id}`,
      at: `2026-01-01T00:00:${String(id % 60).padStart(2, "0")}Z`,
      beds: { winter: id % 7, summer: id / 4 },
      rooms: Array.from({ length: id % 3 }, (_, no) => ({ no, free: no % 2 === 0 })),
    }));
    const shape = shapeFor();
    const text = JSON.stringify(records);
    shape.shapeRecords(records);
    for (const into of [undefined, shape]) {
      const outline = new Outliner(BY_ID).outline(encoder.encode(text), into)!;
      expect(outline.scan?.odd).toEqual(into && []);
      const ranges = [...shapeBytes(outline, shape)];
      expect(ranges.map(({ which }) => which.length)).toEqual([300]);
      expect(ranges[0]!.batches[0]!.columns.find(({ name }) => name === "name")!.utf8).toBeDefined();
    }
  });

  it("leaves rules what they look at, and gives whole records to quarantine", () => {
    const records = [
      { id: 1, n: { m: 2 }, note: "ä" },
      { id: 2, n: { m: "x" }, list: [{ a: 1 }], big: 12345678901234567890n },
      { id: 3, note: "no n" },
      { id: 4, n: { m: 0 }, hut: "its own" },
      { id: 5, n: { m: 5 }, list: [] },
    ];
    const definition = {
      get: "/s",
      key: "id",
      where: "record.n.m > 1.0",
      compute: { twice: "record.n.m * 2.0" },
    };
    const connector = defineConnector({
      connector: "c",
      api: { url: "https://a.huts.example" },
      streams: { s: definition },
    });
    const stream = compileStream(connector, "s", connector.streams.s!);
    const rules = { where: stream.where, compute: stream.compute, add: { hut: "Alm" } };
    const read = (isExpress: boolean) => {
      const shape = shapeOf(stream, { names: ANY_NAMES });
      shape.shapeRecords(records.map((record) => ({ ...record, hut: "Alm", twice: 1.5 })));
      const body = encoder.encode(stringifyExact(records));
      const express = isExpress
        ? { outliner: new Outliner(outlinePlan(stream)!), shape, news: {} }
        : undefined;
      const page = applyRules(readPage({ body, headers: {} }, stream.request.plan, {}, express), rules);
      expect(page.source !== undefined).toBe(isExpress);
      const shaped = [...page.shape(shape)];
      const rows = shaped.flatMap(({ batches }) => batches.flatMap((batch) => batchRows(batch)));
      return { rows, issues: shaped.flatMap(({ issues }) => issues.map(issueText)), leftOut: page.leftOut };
    };
    expect(read(true)).toEqual(read(false));
    expect(read(true)).toMatchObject({
      rows: [
        { id: 1n, twice: 4, hut: "Alm" },
        { id: 5n, twice: 10 },
      ],
      leftOut: 1,
    });
    expect(read(true).issues).toHaveLength(2);
  });

  it("takes no key with a quote in it that is not escaped", () => {
    const shape = shapeFor();
    shape.shapeRecords([{ id: 1, 'a"b': 2 }]);
    const outline = (text: string) => new Outliner(BY_ID).outline(encoder.encode(text), shape);
    expect(outline(String.raw`[{"id":1,"a\"b":2}]`)).toBeUndefined();
    expect(outline('[{"id":1,"a"b":2}]')).toBeUndefined();
  });

  it("scans again what was scanned before the tables changed", () => {
    const shape = shapeFor();
    shape.shapeRecords([{ id: 1, n: 1 }]);
    const outline = new Outliner(BY_ID).outline(encoder.encode('[{"id":2,"n":2},{"id":3}]'), shape)!;
    shape.shapeRecords([{ id: 4, n: 0.5 }]);
    const [range] = [...shapeBytes(outline, shape)];
    expect(range!.batches[0]!.columns[1]!.type).toEqual({ kind: "float64" });
    expect(batchRows(range!.batches[0]!).map(({ n }) => n)).toEqual([2, null]);
  });

  it("gives no outline of what is no JSON, cut at any byte or with a byte changed", () => {
    const item = {
      id: 1,
      name: "é€😀",
      n: -1.5e-3,
      m: 20.5,
      ok: true,
      no: null,
      at: "2026-01-01T10:00:00Z",
      uuid: "0b1e9a52-57f5-4a0c-9d1c-3f1a8a4a7c11",
      list: [[], {}],
      words: ["a", 1],
      beds: { winter: 4 },
      rooms: [{ no: 1 }, { no: 2 }],
    };
    const text = JSON.stringify({ items: [item], next: "t" });
    const bytes = encoder.encode(text);
    const outliner = new Outliner({ ...BY_ID, lists: [["items"]] });
    const strict = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true });
    const isJson = (of: Uint8Array) => {
      try {
        parseExactJson(strict.decode(of));
        return true;
      } catch {
        return false;
      }
    };
    const shape = shapeFor();
    shape.shapeRecords([item]);
    for (const into of [undefined, shape]) {
      expect(outliner.outline(bytes, into)).toMatchObject({ body: { items: [], next: "t" } });
      for (let end = 0; end < bytes.length; end++)
        expect(outliner.outline(bytes.slice(0, end), into)).toBeUndefined();
    }
    fc.assert(
      fc.property(fc.nat({ max: bytes.length - 1 }), fc.nat({ max: 255 }), (at, byte) => {
        const changed = bytes.slice();
        changed[at] = byte;
        if (isJson(changed)) return;
        expect(outliner.outline(changed)).toBeUndefined();
        expect(outliner.outline(changed, shape)).toBeUndefined();
      }),
      { numRuns: tries(2000, 8000) },
    );
  });
});
