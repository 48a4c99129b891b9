import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { type ReadTables, readBatches } from "../../../test/support/batches.js";
import { parseColumnType } from "./column-type.js";
import { hashing } from "./concealed-values.js";
import { decimalParts, parseExactJson } from "./exact-json.js";
import { parsePath } from "./naming.js";
import { Shape } from "./shape.js";
import type { KnownColumn } from "./shaped.js";
import type { ColumnRule } from "./table-shape.js";

function newShape(
  options: { key?: string[]; columns?: Record<string, ColumnRule>; known?: KnownColumn[] } = {},
): Shape {
  const { key = ["id"], columns = {}, known = [] } = options;
  return new Shape(
    {
      stream: "stays",
      key: key.map((path) => parsePath(path)!),
      columns: new Map(Object.entries(columns)),
      names: { maxBytes: 63 },
      takenTables: new Set(),
    },
    known,
  );
}

/** All pages through one shape; rows as plain values, types as users write them. */
function shaped(pages: unknown[][], shape = newShape()): ReadTables {
  return readBatches(
    pages.map((page) => shape.shapeRecords(page).batches),
    shape.schema(),
  );
}

function typeOf(values: unknown[]): string | undefined {
  return shaped([values.map((value, id) => ({ id, value }))]).stays?.types.value;
}

describe("columns whose type is declared", () => {
  const columns = { when: { type: { kind: "date" } }, "bags[*].kg": { type: { kind: "int64" } } } as const;
  const namesOf = (shape: Shape) =>
    shape.schema().map((table) => [table.name, table.columns.map(({ name }) => name)]);

  it("are there before the first record, their tables as well", () => {
    const shape = newShape({ columns: { ...columns, id: { type: { kind: "int64" } } } });
    expect(shape.shapeRecords([])).toEqual({ batches: [], removed: undefined, issues: [] });
    expect(namesOf(shape)).toEqual([
      ["stays", ["id", "when"]],
      ["stays_bags", ["stays_id", "eb_position", "kg"]],
    ]);
  });

  it("stand where the records have them, and behind the others where they have not", () => {
    const shape = newShape({ columns: { late: { type: { kind: "text" } }, when: columns.when } });
    shape.shapeRecords([{ id: 1, when: "2026-01-05", note: "x" }]);
    expect(namesOf(shape)).toEqual([["stays", ["id", "when", "note", "late"]]]);
  });
});

describe("records that tell of what is gone", () => {
  it("become keys alone, which have a say in the key's type", () => {
    const { spec } = newShape();
    const shape = new Shape({ ...spec, isRemoval: (record) => record.state === "deleted" });
    shape.shapeRecords([{ id: 1, n: 5 }]);
    const { batches, removed, issues } = shape.shapeRecords([
      { id: 2, n: 6 },
      { id: "b", state: "deleted", n: "not looked at" },
      { state: "deleted" },
    ]);
    expect(batches).toHaveLength(1);
    expect(batches[0]?.rows).toBe(1);
    expect(removed).toMatchObject({ table: "stays", rows: 1, recordOf: Int32Array.of(1) });
    expect(removed?.columns).toEqual([
      expect.objectContaining({ name: "id", type: { kind: "text" }, texts: ["b"] }),
    ]);
    expect(issues).toEqual([expect.objectContaining({ reason: "key_missing" })]);
    expect(shape.schema()[0]?.columns.map(({ type }) => type.kind)).toEqual(["text", "int64"]);
  });
});

describe("flattening", () => {
  it("makes columns of nested objects, child tables of lists of objects, json of other lists", () => {
    const tables = shaped([
      [
        {
          id: 1,
          guest: { name: "Ana", address: { city: "Firn" } },
          bags: [{ kg: 3 }, { kg: 4, tags: [{ t: "x" }] }],
        },
        { id: 2, guest: { name: 'say "hi", ok' }, extras: ["a", 1], bags: [] },
      ],
    ]);
    expect(tables.stays?.rows).toEqual([
      { id: 1n, guest_name: "Ana", guest_address_city: "Firn", extras: null },
      { id: 2n, guest_name: 'say "hi", ok', guest_address_city: null, extras: '["a",1]' },
    ]);
    expect(tables.stays_bags?.rows).toEqual([
      { stays_id: 1n, eb_position: 0n, kg: 3n },
      { stays_id: 1n, eb_position: 1n, kg: 4n },
    ]);
    expect(tables.stays_bags_tags?.rows).toEqual([
      { stays_id: 1n, bags_position: 1n, eb_position: 0n, t: "x" },
    ]);
  });

  it("loses nothing when a field changes its form from record to record", () => {
    const tables = shaped([
      [
        { id: 1, a: 5 },
        { id: 2, a: { b: 6 } },
        { id: 3, a: [{ c: 7 }] },
        { id: 4, a: [{ c: 8 }, 9] },
        { id: 5, a: [] },
      ],
    ]);
    expect(tables.stays?.rows).toEqual([
      { id: 1n, a: "5", a_b: null },
      { id: 2n, a: null, a_b: 6n },
      { id: 3n, a: null, a_b: null },
      { id: 4n, a: '[{"c":8},9]', a_b: null },
      { id: 5n, a: null, a_b: null },
    ]);
    expect(tables.stays_a?.rows).toEqual([{ stays_id: 3n, eb_position: 0n, c: 7n }]);
  });

  it("gives colliding keys, and keys that are ours, names of their own", () => {
    const { rows } = shaped([
      [{ id: 1, aB: 1, a_b: 2, a: { b: 3 }, eb_run: 4, __proto__x: 5, constructor: 6 }],
    ]).stays!;
    const row = rows[0]!;
    expect(Object.values(row).sort()).toEqual([1n, 1n, 2n, 3n, 4n, 5n, 6n]);
    expect(row.constructor).toBe(6n);
    expect(row.eb_run).toBeUndefined();
  });

  it("keeps [] apart from nothing in a json column, wherever in the page the first value stands", () => {
    const { rows } = shaped([[{ id: 1, x: [] }, { id: 2 }, { id: 3, x: ["y"] }, { id: 4, x: [] }]]).stays!;
    expect(rows.map((row) => row.x)).toEqual(["[]", null, '["y"]', "[]"]);
  });

  it("numbers records without a key, the same on every run, and keeps those apart that are alike", () => {
    const pages = () => [
      [{ a: 1 }, { a: 2, kids: [{ n: 1 }] }],
      [{ a: 1 }, { a: 2, kids: [{ n: 1 }] }],
    ];
    const ids = (tables: ReadTables) => tables.stays!.rows.map((row) => row.eb_row_id);
    const tables = shaped(pages(), newShape({ key: [] }));
    const first = ids(tables);
    expect(first).toEqual(ids(shaped(pages(), newShape({ key: [] }))));
    expect(new Set(first).size).toBe(4);
    expect(tables.stays_kids!.rows.map((row) => row.stays_eb_row_id)).toEqual([first[1], first[3]]);
  });

  it("follows the parent's key, with several fields and whatever its type", () => {
    const shape = newShape({ key: ["hut", "ref.day"] });
    const tables = shaped([[{ hut: "A", ref: { day: "2026-01-01" }, beds: [{ n: 1 }] }]], shape);
    expect(tables.stays_beds?.rows).toEqual([
      { stays_hut: "A", stays_ref_day: "2026-01-01", eb_position: 0n, n: 1n },
    ]);
    expect(tables.stays_beds?.types.stays_ref_day).toBe("date");
  });
});

describe("types", () => {
  it.each<[string | undefined, unknown[]]>([
    ["int64", [1, 2]],
    ["float64", [1, 2.5]],
    ["int64", [1, 9007199254740993n]],
    ["text", [2.5, 9007199254740993n]],
    ["decimal(38,0)", [1, 12345678901234567890n]],
    ["boolean", [true, false]],
    ["text", [true, 1]],
    ["date", ["2026-01-01", "2026-01-02"]],
    ["timestamp", ["2026-01-01", "2026-01-02T10:00:00+01:00"]],
    ["local_timestamp", ["2026-01-01", "2026-01-02T10:00:00"]],
    ["text", ["2026-01-01T10:00:00Z", "2026-01-02T10:00:00"]],
    ["text", ["2026-01-01", "soon"]],
    ["text", ["128.50", "1"]],
    ["uuid", ["0f8fad5b-d9cb-469f-a165-70867728950e"]],
    ["text", ["0F8FAD5B-D9CB-469F-A165-70867728950E"]],
    ["json", ["a", ["b"]]],
    [undefined, [null, undefined]],
  ])("%s is chosen for all of its values", (type, values) => {
    expect(typeOf(values)).toBe(type);
  });

  const anyScalar = fc.oneof(
    fc.integer(),
    fc.maxSafeInteger(),
    fc.double({ noNaN: true, noDefaultInfinity: true }),
    fc.bigInt({ min: -(10n ** 25n), max: 10n ** 25n }).map((big) => parseExactJson(String(big))),
    fc.boolean(),
    fc.string({ unit: "grapheme" }),
    fc.constantFrom(
      "2026-01-01",
      "2026-01-01T10:00:00Z",
      "2026-01-01T10:00:00.5+02:00",
      "2026-01-01T10:00:00",
    ),
    fc.uuid(),
    fc.constant(null),
  );

  it("do not depend on the order of the values, nor on where pages end", () => {
    fc.assert(
      fc.property(fc.array(anyScalar, { minLength: 1, maxLength: 12 }), fc.nat(12), (values, cut) => {
        const records = values.map((value, id) => ({ id, value }));
        const type = (pages: unknown[][]) => shaped(pages).stays?.types.value;
        const whole = type([records]);
        expect(type([[...records].reverse()])).toBe(whole);
        expect(type([records.slice(0, cut), records.slice(cut)].filter((page) => page.length > 0))).toBe(
          whole,
        );
      }),
    );
  });

  it("go on from what the ledger remembers", () => {
    const first = newShape();
    shaped([[{ id: 1, n: 9007199254740993n, deep: [{ when: "2026-01-01" }] }]], first);
    const known = first
      .schema()
      .flatMap((table) =>
        table.columns.map((column) => ({ ...column, table: table.name, tablePath: table.path })),
      );
    const again = newShape({ known });
    const tables = shaped([[{ id: 2, n: 0.5, deep: [{ when: "2026-01-01T10:00:00Z" }] }]], again);
    // n held an integer that a float64 cannot: a fraction beside it makes text, not a rounded number
    expect(tables.stays?.types).toEqual({ id: "int64", n: "text" });
    expect(tables.stays_deep?.types.when).toBe("timestamp");
  });

  it("hold every value exactly", () => {
    fc.assert(
      fc.property(fc.array(anyScalar, { minLength: 1, maxLength: 8 }), (values) => {
        const table = shaped([values.map((value, id) => ({ id, value }))]).stays!;
        values.forEach((value, row) => {
          const stored = table.rows[row]?.value ?? null;
          const type = table.types.value ?? "none";
          expect({ value, stored, type, same: saysTheSame(value, stored, type) }).toMatchObject({
            same: true,
          });
        });
      }),
    );
  });
});

/** Whether a stored value says the same as the one that came, by the type's own measure. */
function saysTheSame(came: unknown, stored: unknown, type: string): boolean {
  if (came === null) return stored === null;
  if (typeof came === "string" && type.endsWith("timestamp")) {
    const zone = type === "timestamp" && came.length === 10 ? "T00:00:00Z" : "";
    return Date.parse(came + zone) === Date.parse(stored as string) || `${came}T00:00:00` === stored;
  }
  if (typeof came === "string" || typeof came === "boolean")
    return type === "boolean" ? came === stored : String(came) === stored;
  const [sent, kept] = [decimalParts(String(came)), decimalParts(String(stored))];
  return (
    sent.digits === kept.digits &&
    sent.exponent === kept.exponent &&
    (sent.digits === "" || sent.negative === kept.negative)
  );
}

describe("declared types", () => {
  const rules = (type: string): Record<string, ColumnRule> => ({ value: { type: parseColumnType(type)! } });

  it.each([
    ["decimal(12,2)", ["128.50", 7, "0.1", "-3"], ["128.50", "7.00", "0.10", "-3.00"]],
    ["decimal(30,3)", ["12345678901234567890.125", 1], ["12345678901234567890.125", "1.000"]],
    ["int64", ["42", 7], [42n, 7n]],
    ["float64", ["1.5", 2], [1.5, 2]],
    ["text", [1.5, true, { a: 1 }], ["1.5", "true", '{"a":1}']],
    ["json", [{ a: 1 }, [1]], ['{"a":1}', "[1]"]],
    ["timestamp", ["2026-01-01T10:00:00+02:00"], ["2026-01-01T08:00:00Z"]],
  ])("%s takes what it can hold", (type, values, stored) => {
    const shape = newShape({ columns: rules(type) });
    const table = shaped([(values as unknown[]).map((value, id) => ({ id, value }))], shape).stays!;
    expect(table.rows.map((row) => row.value)).toEqual(stored);
  });

  it("send a record that does not fit into quarantine, whole, and load the others with their children", () => {
    const shape = newShape({
      columns: { ...rules("decimal(5,2)"), "beds[*].n": { type: { kind: "int64" } } },
    });
    const bad = { id: 2, value: "12.345", beds: [{ n: 1 }] };
    const badChild = { id: 3, value: "1", beds: [{ n: 1 }, { n: "many" }] };
    const page = [
      { id: 1, value: "1.5", beds: [{ n: 9 }] },
      bad,
      badChild,
      { id: 4, value: null, beds: [] },
      { value: "1" },
      5,
    ];
    const { batches, issues } = shape.shapeRecords(page);
    const tables = readBatches([batches], shape.schema());
    expect(tables.stays?.rows.map((row) => row.id)).toEqual([1n, 4n]);
    expect(tables.stays_beds?.rows).toEqual([{ stays_id: 1n, eb_position: 0n, n: 9n }]);
    expect(issues.map(({ reason, path }) => [reason, path])).toEqual([
      ["key_missing", "id"],
      ["not_an_object", ""],
      ["type_mismatch", "value"],
      ["type_mismatch", "beds[*].n"],
    ]);
    expect(issues[2]).toMatchObject({
      record: bad,
      message: "value is declared decimal(5,2), seen text 12.345",
    });
    expect(issues[3]?.record).toBe(badChild);
  });

  it("hide by hash, and skip", () => {
    const shape = newShape({
      columns: { "guest.email": { conceal: hashing(), type: { kind: "text" } }, secret: { skip: true } },
    });
    const { rows } = shaped([[{ id: 1, guest: { email: "a@mail.example" }, secret: { pin: 1 } }]], shape)
      .stays!;
    // printf a@mail.example | sha256sum
    expect(rows).toEqual([
      { id: 1n, guest_email: "a0b4729af601ef5e56bbd00a479759829f3e075f83254384d29838d0df35cbf6" },
    ]);
  });

  it("has a hundred tables at most; lists that come beyond them are kept whole", () => {
    const shape = newShape({});
    const lists = Object.fromEntries(Array.from({ length: 130 }, (_, i) => [`l${i}`, [{ n: i }]]));
    const { issues } = shape.shapeRecords([{ id: 1, ...lists }]);
    expect(issues).toEqual([]);
    const tables = shape.schema();
    expect(tables).toHaveLength(100);
    const whole = tables[0]!.columns.filter(({ type }) => type.kind === "json").map(({ name }) => name);
    expect(whole).toHaveLength(31);
    expect(whole[0]).toBe("l99");
    expect(shape.takeNotes()).toContain("The stream has 100 tables: the list l99 stands in a json column.");
    expect(shape.takeNotes()).toEqual([]);
  });

  it("are what the connector says, whatever they came as", () => {
    const columns: Record<string, ColumnRule> = {
      tags: { as: "table" },
      room: { as: "table" },
      desk: { as: "columns" },
      raw: { type: { kind: "json" } },
    };
    const shape = newShape({ columns });
    const records = [
      { id: 1, tags: ["a", "b"], room: { no: 1 }, desk: [{ name: "north" }], raw: [{ x: 1 }] },
      { id: 2, tags: "c", room: [{ no: 2 }, { no: 3 }], desk: { name: "south" }, raw: "text" },
      { id: 3, tags: [], room: [], desk: [], raw: 7 },
      { id: 4, desk: [{ name: "east" }, { name: "west" }] },
    ];
    const tables = shaped([records], shape);
    const [issue, ...others] = newShape({ columns }).shapeRecords(records).issues;
    expect([issue?.path, issue?.message, others]).toEqual([
      "desk",
      "desk is to be columns, and a list of 2 came",
      [],
    ]);
    expect(tables.stays?.rows).toEqual([
      { id: 1n, desk_name: "north", raw: '[{"x":1}]' },
      { id: 2n, desk_name: "south", raw: '"text"' },
      { id: 3n, desk_name: null, raw: "7" },
    ]);
    expect(tables.stays_tags?.rows).toEqual([
      { stays_id: 1n, eb_position: 0n, value: "a" },
      { stays_id: 1n, eb_position: 1n, value: "b" },
      { stays_id: 2n, eb_position: 0n, value: "c" },
    ]);
    expect(tables.stays_room?.rows.map(({ no }) => no)).toEqual([1n, 2n, 3n]);
  });
});
