/** Records of which states are kept, scanned: what they say of their lives is what the plain reader says. */

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { tries } from "../../../test/support/long.js";
import { BY_ID } from "../../../test/support/outline-plans.js";
import { batchRows } from "../shape/batch-rows.js";
import { hashing } from "../shape/concealed-values.js";
import { stringifyExact } from "../shape/exact-json.js";
import { Shape } from "../shape/shape.js";
import type { RecordLife, Shaped } from "../shape/shaped.js";
import type { ColumnRule } from "../shape/table-shape.js";
import { ANY_NAMES } from "../stream/shape-of.js";
import { Outliner } from "./outline.js";
import { shapeBytes } from "./shape-bytes.js";
import type { FieldPath } from "./sketch.js";

const encoder = new TextEncoder();

const shapeWith = (life: RecordLife, columns: ReadonlyMap<string, ColumnRule> = new Map()) =>
  new Shape({ stream: "s", takenTables: new Set(), names: ANY_NAMES, key: [["id"]], columns, life });

const outlinerOf = (fields: readonly FieldPath[]) => new Outliner({ ...BY_ID, fields });

describe("a record of which states are kept", () => {
  it.each<[string, RecordLife, string[]]>([
    ["appended", { states: true }, ["eb_state"]],
    [
      "versions",
      { states: true, deleted: true, validFrom: ({ at }) => String(at) },
      ["eb_valid_from", "eb_state"],
    ],
  ])("is scanned (%s)", (_, life, told) => {
    const records = Array.from({ length: 40 }, (_, id) => ({
      id,
      at: `2026-01-01T00:00:${String(id % 60).padStart(2, "0")}Z`,
      rooms: Array.from({ length: id % 3 }, (_, no) => ({ no })),
    }));
    const [plain, express] = [shapeWith(life), shapeWith(life)];
    for (const shape of [plain, express]) shape.shapeRecords(records);
    const outliner = outlinerOf([["id"], ["at"]]);
    const outline = outliner.outline(encoder.encode(JSON.stringify(records)), express)!;
    expect(outline.scan?.odd).toEqual([]);
    const lives = (batches: Shaped["batches"]) =>
      batches.map((batch) => batchRows(batch).map((row) => told.map((name) => row[name])));
    const scanned = [...shapeBytes(outline, express)];
    expect(lives(scanned[0]!.batches)).toEqual(lives(plain.shapeRecords(records).batches));
    expect(lives(scanned[0]!.batches)[0]!.flat()).not.toContain(null);
  });

  it("of a version that holds from a time out of reach is left to the plain reader, those beside it are not", () => {
    const life: RecordLife = { states: true, deleted: true, validFrom: ({ at }) => String(at) };
    const records = Array.from({ length: 20 }, (_, id) => ({
      id,
      at: [7, 8, 12].includes(id) ? "9999-12-31T00:00:00Z" : "2026-01-01T00:00:00Z",
      rooms: [{ no: id }, { no: 0 }],
    }));
    const [plain, express] = [shapeWith(life), shapeWith(life)];
    for (const shape of [plain, express]) shape.shapeRecords(records.slice(0, 3));
    const outline = outlinerOf([["id"], ["at"]]).outline(encoder.encode(JSON.stringify(records)), express)!;
    expect(outline.scan?.odd).toEqual([7, 8, 12]);
    const rowsOf = (all: Shaped[], table: number) =>
      all
        .flatMap(({ batches }) => batchRows(batches[table]!))
        .map(({ eb_valid_to: _, eb_deleted_at: __, ...row }) => stringifyExact(row))
        .toSorted();
    const scanned = [...shapeBytes(outline, express)];
    const expected = [plain.shapeRecords(records)];
    for (const table of [0, 1]) expect(rowsOf(scanned, table)).toEqual(rowsOf(expected, table));
  });

  it("counts what is stored of it, what it is given as well", () => {
    const columns = new Map([["note", { skip: true }]]);
    const [plain, express] = [shapeWith({ states: true }, columns), shapeWith({ states: true }, columns)];
    const news = { hut: "Alm", a: 1 };
    const records = [1, 2, 3].map((id) => ({ id, rooms: [{ no: id }], note: "x".repeat(id), z: null }));
    for (const shape of [plain, express])
      shape.shapeRecords(records.map((record) => ({ ...record, ...news })));
    const outline = outlinerOf([["id"]]).outline(encoder.encode(JSON.stringify(records)), express, news)!;
    expect(outline.scan?.odd).toEqual([]);
    const others = records.map(({ note, ...record }) => ({ ...record, note: `not ${note}`, ...news }));
    const states = (batches: Shaped["batches"]) => batchRows(batches[0]!).map((row) => row.eb_state);
    const [scanned] = [...shapeBytes(outline, express)];
    expect(states(scanned!.batches)).toEqual(states(plain.shapeRecords(others).batches));
  });

  it("is read plainly where values of it are hidden", () => {
    const shape = shapeWith({ states: true }, new Map([["name", { conceal: hashing() }]]));
    shape.shapeRecords([{ id: 1, name: "a" }]);
    expect(
      outlinerOf([["id"]]).outline(encoder.encode('[{"id":2,"name":"b"}]'), shape)?.scan,
    ).toBeUndefined();
  });
});

describe("a sketch", () => {
  it("has nothing of an object that is wanted whole, and in part as well, in the place of the record's own", () => {
    const shape = shapeWith({});
    const records = [{ id: 1, meta: { id: "a", n: 1 } }];
    shape.shapeRecords(records);
    const outline = outlinerOf([["id"], ["meta"], ["meta", "id"]]).outline(
      encoder.encode(JSON.stringify(records)),
      shape,
    )!;
    expect(outline.scan?.odd).toEqual([]);
    expect(outline.sketches).toEqual(records);
  });

  it("has the texts of its own record, be there many records and texts of every kind", () => {
    const text = fc.oneof(
      fc.constant(""),
      fc.string({ maxLength: 50 }),
      fc.string({ unit: "binary", maxLength: 50 }),
      { arbitrary: fc.stringMatching(/^[A-Za-z0-9:-]{30,42}$/), weight: 4 },
    );
    const record = fc.record({ at: text, meta: fc.record({ tag: text }) });
    fc.assert(
      fc.property(fc.array(record, { minLength: 600, maxLength: 700 }), (some) => {
        const shape = shapeWith({});
        const records = some.map((each, id) => ({ id, ...each }));
        shape.shapeRecords(records);
        const outline = outlinerOf([["id"], ["at"], ["meta", "tag"]]).outline(
          encoder.encode(JSON.stringify(records)),
          shape,
        )!;
        expect(outline.sketches).toEqual(records);
      }),
      { numRuns: tries(8, 100) },
    );
  });

  it("is that of a page whose keys differ, in whatever order they come", () => {
    const ids = (of: readonly unknown[]) =>
      outlinerOf([["id"]]).outline(encoder.encode(JSON.stringify(of.map((id) => ({ id })))), shapeWith({}))
        ?.sketches.length;
    expect([ids([1, 2, 3]), ids([3, 1, 2]), ids(["b", "a"]), ids([])]).toEqual([3, 3, 2, 0]);
    expect([ids([1, 2, 2]), ids([2, 1, 2]), ids(["a", "a"]), ids([1, "1"]), ids([1, "2"])]).toEqual(
      Array(5).fill(undefined),
    );
  });
});
