import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { fieldStatsOf } from "../sample/field-stats.js";
import { type ShapeOptions, shape } from "../sample/shape-records.js";
import { compileColumns } from "../stream/compile-stream.js";

/** Rows by table, without the columns that a case is not about. */
function tablesOf(records: readonly unknown[], options: ShapeOptions = {}) {
  const { tables } = shape(records, { name: "huts", key: "id", ...options });
  return Object.fromEntries(
    tables.map(({ name, rows }) => [
      name,
      rows.map((row) =>
        Object.fromEntries(
          Object.entries(row)
            .filter(([, value]) => value !== null)
            .map(([key, value]) => [key, typeof value === "bigint" ? Number(value) : value]),
        ),
      ),
    ]),
  );
}

describe("an object whose keys are data", () => {
  const rates = { "2026-01-01": { eur: 12 }, "2026-02-01": { eur: 14, chf: 15 }, season: "winter" };

  it("is a map: its entries are rows with the key, its other keys columns", () => {
    expect(tablesOf([{ id: 1, rates }])).toEqual({
      huts: [{ id: 1, rates_season: "winter" }],
      huts_rates: [
        { huts_id: 1, eb_key: "2026-01-01", eur: 12 },
        { huts_id: 1, eb_key: "2026-02-01", eur: 14, chf: 15 },
      ],
    });
  });

  it.each([
    "17",
    "2026-W03",
    "0f8fad5b-d9cb-469f-a165-70867728950e",
    "ana@huts.example",
    "https://huts.example/1",
  ])("is known by %s", (key) => {
    expect(tablesOf([{ id: 1, by: { [key]: "x" } }]).huts_by).toEqual([
      { huts_id: 1, eb_key: key, value: "x" },
    ]);
  });

  it("is a map of all its keys, or of none, where that is said", () => {
    expect(tablesOf([{ id: 1, rates }], { columns: { rates: { as: "map" } } }).huts_rates).toHaveLength(3);
    expect(tablesOf([{ id: 1, rates }], { columns: { rates: { as: "columns" } } })).toEqual({
      huts: [
        {
          id: 1,
          rates_season: "winter",
          rates_2026_01_01_eur: 12,
          rates_2026_02_01_eur: 14,
          rates_2026_02_01_chf: 15,
        },
      ],
    });
  });

  it("takes rules for its entries", () => {
    const columns = { "prices{*}": { type: "decimal(6,2)" }, prices: { name: "tariffs" } } as const;
    expect(tablesOf([{ id: 1, prices: { summer: 4, winter: 5.5 } }], { columns })).toEqual({
      huts: [{ id: 1 }],
      tariffs: [
        { huts_id: 1, eb_key: "summer", value: "4.00" },
        { huts_id: 1, eb_key: "winter", value: "5.50" },
      ],
    });
  });

  it("holds maps and lists, each by its key and place", () => {
    const beds = { "1": { "2026-01-01": [{ guest: "ana" }] } };
    expect(tablesOf([{ id: 1, beds }])).toEqual({
      huts: [{ id: 1 }],
      huts_beds: [{ huts_id: 1, eb_key: "1" }],
      huts_beds_items: [{ huts_id: 1, beds_key: "1", eb_key: "2026-01-01" }],
      huts_beds_items_items: [
        { huts_id: 1, beds_key: "1", beds_items_key: "2026-01-01", eb_position: 0, guest: "ana" },
      ],
    });
    const stays = { "1": { nights: { "2026-01-01": [{ guest: "ana" }] } } };
    expect(tablesOf([{ id: 1, stays }])).toMatchObject({
      huts_stays_nights: [{ huts_id: 1, stays_key: "1", eb_key: "2026-01-01" }],
    });
  });

  it("of a record itself has columns: a record's keys are its fields", () => {
    expect(tablesOf([{ id: 1, "2026": 4 }])).toEqual({ huts: [{ id: 1, _2026: 4 }] });
  });
});

describe("items within items alike", () => {
  const replies = [
    { text: "a", replies: [{ text: "b", replies: [{ text: "c" }] }, { text: "d" }] },
    { text: "e" },
  ];

  it("are rows of one table, each with the place that it lies within", () => {
    expect(tablesOf([{ id: 1, replies }]).huts_replies).toEqual([
      { huts_id: 1, eb_position: 0, text: "a" },
      { huts_id: 1, eb_within: "0", eb_position: 0, text: "b" },
      { huts_id: 1, eb_within: "0/0", eb_position: 0, text: "c" },
      { huts_id: 1, eb_within: "0", eb_position: 1, text: "d" },
      { huts_id: 1, eb_position: 1, text: "e" },
    ]);
  });

  it("have lists of their own, which say where", () => {
    const liked = [{ replies: [{ likes: [{ by: "ana" }] }], likes: [{ by: "bo" }] }];
    expect(tablesOf([{ id: 1, replies: liked }]).huts_replies_likes).toEqual([
      { huts_id: 1, replies_within: "0", replies_position: 0, eb_position: 0, by: "ana" },
      { huts_id: 1, replies_position: 0, eb_position: 0, by: "bo" },
    ]);
  });

  it("have no say in each other's values: what is hidden is hidden in all of them", () => {
    const columns = { "replies[*].text": { mask: 0 }, "replies[*].n": { type: "int64" } } as const;
    const deep = [{ text: "secret", replies: [{ text: "secret", n: "x", replies: [{ text: "secret" }] }] }];
    const { tables, issues } = shape(
      [
        { id: 1, replies },
        { id: 2, replies: deep },
      ],
      { key: "id", columns },
    );
    expect(
      JSON.stringify([tables, issues], (_, value) => (typeof value === "bigint" ? 0 : value)),
    ).not.toMatch(/secret/);
    expect(issues).toHaveLength(1);
    expect(new Set(tables[1]!.rows.map(({ text }) => text))).toEqual(new Set(["***"]));
  });
});

describe("values of a map", () => {
  const by = { "1": { email: "ana@huts.example" }, "2": "ana@huts.example" };
  const text = (columns: NonNullable<ShapeOptions["columns"]>, more: object = {}) => {
    const { tables, issues } = shape([{ id: 1, by, ...more }], { key: "id", columns });
    return JSON.stringify([tables, issues], (_, value) => (typeof value === "bigint" ? 0 : value));
  };

  it.each([
    [{ "by{*}": { drop: true } }],
    [{ "by{*}": { hash: true }, "by{*}.email": { hash: true } }],
    [{ by: { drop: true } }],
    [{ by: { as: "json" }, "by{*}": { mask: 0 } }],
  ] as const)("are nowhere to be seen where they are hidden: %j", (columns) => {
    expect(text(columns)).not.toContain("ana@");
    // nor in quarantine
    expect(text({ ...columns, n: { type: "int64" } } as never, { n: "x" })).not.toContain("ana@");
  });
});

describe("a list of lists", () => {
  it("of objects is a table of lists, and one of their items", () => {
    expect(tablesOf([{ id: 1, grid: [[{ x: 1 }, { x: 2 }], [{ x: 3 }]] }])).toEqual({
      huts: [{ id: 1 }],
      huts_grid: [
        { huts_id: 1, eb_position: 0 },
        { huts_id: 1, eb_position: 1 },
      ],
      huts_grid_items: [
        { huts_id: 1, grid_position: 0, eb_position: 0, x: 1 },
        { huts_id: 1, grid_position: 0, eb_position: 1, x: 2 },
        { huts_id: 1, grid_position: 1, eb_position: 0, x: 3 },
      ],
    });
  });

  it("of plain values is one json column", () => {
    expect(tablesOf([{ id: 1, line: [[1, 2], [3]] }])).toEqual({ huts: [{ id: 1, line: "[[1,2],[3]]" }] });
  });

  it("of plain values is a table too, where that is said", () => {
    const columns = { line: { as: "table" }, "line[*]": { as: "table" } } as const;
    expect(tablesOf([{ id: 1, line: [[1, 2]] }], { columns }).huts_line_items).toEqual([
      { huts_id: 1, line_position: 0, eb_position: 0, value: 1 },
      { huts_id: 1, line_position: 0, eb_position: 1, value: 2 },
    ]);
  });
});

describe("what comes in two forms", () => {
  it("stands in both, and is told", () => {
    const { notes } = shape([{ guest: { n: 1 } }, { guest: [{ n: 2 }] }, { guest: { n: 3 } }]);
    expect(notes).toEqual([
      "guest comes as an object and as a list: the one is columns, the other rows of records_guest; as: table or as: columns makes one of them.",
    ]);
  });
});

describe("room", () => {
  it("for columns and tables is as it is said, and what has none stands in json", () => {
    const { tables, notes } = shape([{ x: [{ n: 1 }], y: [{ n: 1 }], a: 1, b: 2, c: 3, d: 4 }], {
      room: { columns: 3, tables: 2 },
    });
    expect(tables).toHaveLength(2);
    expect(tables[0]!.rows[0]).toMatchObject({
      a: 1n,
      y: '[{"n":1}]',
      eb_more: expect.stringContaining('"d":4'),
    });
    expect(notes).toHaveLength(2);
  });
});

describe("names", () => {
  const keys = [
    "a_b",
    "aB",
    "A b",
    "a.b",
    "ID",
    "id",
    "Id",
    "",
    " ",
    "ä",
    "A\u0308",
    "__proto__",
    "select",
    "9",
    "_",
  ];
  const record = fc
    .uniqueArray(fc.oneof(fc.constantFrom(...keys), fc.string({ maxLength: 80 })), { maxLength: 12 })
    .chain((names) => fc.tuple(fc.constant(names), fc.shuffledSubarray(names, { minLength: names.length })));

  it("are the same in whatever order the fields of a page come", () => {
    const named = (names: readonly string[]) => {
      const members = names.flatMap((name) => [
        `${JSON.stringify(name)}:{"b":1,"list":[{"n":1}]}`,
        ...(names.includes(`${name}_b`) ? [] : [`${JSON.stringify(`${name}_b`)}:1`]),
      ]);
      const { tables } = shape([JSON.parse(`{${members.join(",")}}`)]);
      return tables
        .flatMap(({ name, path, columns }) =>
          columns.map((column) => `${name} ${path} ${column.name} ${column.path}`),
        )
        .sort();
    };
    fc.assert(
      fc.property(record, ([some, other]) => {
        expect(named(some)).toEqual(named(other));
      }),
      { numRuns: 200 },
    );
  });

  it("go to the shorter path first: owner_id before owner.id", () => {
    const [table] = shape([{ owner: { id: 1 }, owner_id: 2 }]).tables;
    expect(table!.columns.find(({ path }) => path === "owner_id")?.name).toBe("owner_id");
    expect(table!.columns.find(({ path }) => path === "owner.id")?.name).toMatch(/^owner_id_[0-9a-f]{6}$/);
  });
});

describe("what is not to be seen", () => {
  it("is not seen in a sample's fields either, in maps and in items within items", () => {
    const columns = compileColumns({ "by{*}.email": { mask: 0 }, "replies[*].by": { mask: 0 } } as never);
    const record = {
      by: { "2026": { email: "ana" }, warden: { email: "ana" } },
      replies: [{ by: "ana", replies: [{ by: "ana" }] }],
    };
    const fields = fieldStatsOf([record], columns);
    expect(fields.map(({ path, of, filled }) => [path, of, filled])).toEqual([
      ["by", 1, 1],
      ["by{*}", 2, 2],
      ["by{*}.email", 2, 2],
      ["replies", 1, 1],
      ["replies[*].by", 2, 2],
      ["replies[*].replies", 2, 1],
    ]);
    expect(JSON.stringify(fields)).not.toContain("ana");
  });
});
