/** A load by itself: rows, doubles, removals and widening in any pages and checkpoints, against a map in memory. */

import { join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { WRITE_METHODS } from "../src/core/define/write-method.js";
import { Shape } from "../src/core/shape/shape.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { addCounts, NO_ROWS } from "../src/warehouse/warehouse.js";
import { temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";

interface Item {
  readonly id: number | string;
  readonly v?: number | string | boolean | null;
  readonly kids?: readonly { readonly n: number }[];
  readonly gone?: true;
}

// small whole numbers: what widens to text stays the same text
const id = fc.oneof({ weight: 6, arbitrary: fc.integer({ min: 1, max: 5 }) }, fc.constantFrom("a", "5"));
const change = fc.record(
  {
    id,
    v: fc.oneof(fc.integer({ min: -3, max: 3 }), fc.constantFrom("x", "7"), fc.boolean(), fc.constant(null)),
    kids: fc.array(fc.record({ n: fc.integer({ min: 0, max: 3 }) }), { maxLength: 3 }),
  },
  { requiredKeys: ["id"] },
);
const removal = fc.record({ id, gone: fc.constant(true as const) });
const item: fc.Arbitrary<Item> = fc.oneof({ weight: 3, arbitrary: change }, removal);
/** runs of checkpoints of pages of records */
const runs = fc.array(
  fc.array(fc.array(fc.array(item, { maxLength: 4 }), { maxLength: 3 }), { minLength: 1, maxLength: 3 }),
  { minLength: 1, maxLength: 3 },
);

const text = (cell: unknown) => (cell === null || cell === undefined ? null : String(cell));
const byText = (a: unknown, b: unknown) => (JSON.stringify(a) < JSON.stringify(b) ? -1 : 1);

/** Loads it all; gives the tables, and checks that every record is accounted for. */
async function loaded(all: readonly (readonly (readonly (readonly Item[])[])[])[]) {
  const path = join(temporaryFolder(), "merge.duckdb");
  const session = await duckdb(path).open();
  try {
    for (const checkpoints of all) {
      const run = await session.ledger.startRun({ bridge: "b", startedAtMs: 0 });
      session.ledger.letGo("b");
      const of = { run, bridge: "b", stream: "s", schema: "main", rootTable: "s", loadedAtMs: 0 };
      const load = await session.openLoad({ ...of, write: WRITE_METHODS.upsert });
      const known = await session.ledger.columns("main", "b", "s");
      const isRemoval = (record: Readonly<Record<string, unknown>>) => record.gone === true;
      const { names } = session;
      const spec = { stream: "s", key: [["id"]], columns: new Map(), names, takenTables: new Set(["s"]) };
      const shape = new Shape({ ...spec, isRemoval }, known);
      let counts = NO_ROWS;
      let version = -1;
      for (const [i, pages] of checkpoints.entries()) {
        for (const page of pages) {
          const shaped = shape.shapeRecords(page);
          expect(shaped.issues).toEqual([]);
          await load.add(shaped, version === shape.version ? undefined : shape.schema());
          version = shape.version;
        }
        const entry = {
          number: i + 1,
          cursors: new Map(),
          atMs: 0,
          spent: { account: "a", byGroup: new Map() },
        };
        const last = i === checkpoints.length - 1;
        counts = addCounts(counts, (await (last ? load.finish(entry) : load.checkpoint(entry))).counts);
      }
      await load.close();
      const { added, changed, unchanged, removed, doubled } = counts;
      const records = checkpoints.flat(2).length;
      expect(added + changed + unchanged + removed + doubled, JSON.stringify(counts)).toBe(records);
    }
  } finally {
    await session.close();
  }
  return path;
}

async function tablesIn(path: string) {
  const columns = await queryFile(
    path,
    "SELECT table_name || '.' || column_name AS c FROM information_schema.columns WHERE table_schema = 'main'",
  );
  const has = (name: string) => columns.some(({ c }) => c === name);
  const v = has("s.v") ? "v::VARCHAR" : "NULL";
  const rows = has("s.id") ? await queryFile(path, `SELECT id::VARCHAR AS id, ${v} AS v FROM s`) : [];
  const kids = has("s_kids.n")
    ? await queryFile(
        path,
        "SELECT s_id::VARCHAR AS id, eb_position::INTEGER AS at, n::INTEGER AS n FROM s_kids",
      )
    : [];
  return { rows: rows.sort(byText), kids: kids.sort(byText) };
}

function modelOf(items: readonly Item[]) {
  const model = new Map<string, Item>();
  for (const each of items) {
    if (each.gone === true) model.delete(String(each.id));
    else model.set(String(each.id), each);
  }
  const rows = [...model].map(([key, { v }]) => ({ id: key, v: text(v) }));
  const kids = [...model].flatMap(([key, { kids: all = [] }]) =>
    all.map(({ n }, at) => ({ id: key, at, n })),
  );
  return { rows: rows.sort(byText), kids: kids.sort(byText) };
}

describe("a load", () => {
  it("equals a map in memory, whatever comes twice, goes, or widens", async () => {
    await fc.assert(
      fc.asyncProperty(runs, async (all) => {
        expect(await tablesIn(await loaded(all))).toEqual(modelOf(all.flat(3)));
      }),
      { numRuns: process.env.EARLY_BRIDGE_LONG === "1" ? 150 : 25 },
    );
  });

  it("lets the last word count, where a record comes and goes between two checkpoints", async () => {
    const back: Item[] = [
      { id: 1, kids: [{ n: 1 }] },
      { id: 1, gone: true },
      { id: 1, kids: [{ n: 2 }] },
    ];
    const gone: Item[] = [
      { id: 2, kids: [{ n: 3 }] },
      { id: 2, gone: true },
      { id: 3, gone: true },
    ];
    expect(await tablesIn(await loaded([[[back, gone]]]))).toEqual({
      rows: [{ id: "1", v: null }],
      kids: [{ id: "1", at: 0, n: 2 }],
    });
  });

  it("writes into each row the run that wrote it last", async () => {
    const path = await loaded([
      [
        [
          [
            { id: 1, v: 1 },
            { id: 2, v: 1 },
          ],
        ],
      ],
      [[[{ id: 2, v: 1 }]]],
    ]);
    expect(
      await queryFile(path, "SELECT id::INTEGER AS id, eb_run::INTEGER AS run FROM s ORDER BY id"),
    ).toEqual([
      { id: 1, run: 1 },
      { id: 2, run: 2 },
    ]);
  });
});
