/** A load by itself: rows, doubles, removals and widening in any pages and checkpoints, against a map in memory. */

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { loadRuns, type RunOfRecords } from "./support/loads.js";
import { tries } from "./support/long.js";
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

/** Loads it all, with every record accounted for. */
async function loaded(all: readonly RunOfRecords[]): Promise<string> {
  return (await loadRuns(all, { write: "upsert" })).path;
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
      { numRuns: tries(5, 20) },
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

  it("writes into each row the run that changed it last, children as well", async () => {
    const at = (id: number, v: number, ...kids: number[]) => ({ id, v, kids: kids.map((n) => ({ n })) });
    const path = await loaded([
      [[[at(1, 1, 1), at(2, 1, 1, 2), at(3, 1, 1), at(4, 1, 1, 2), at(5, 1), at(6, 1, 1)]]],
      // as it stands, another value, a child more, one less, one at all, another one
      [[[at(1, 1, 1), at(2, 2, 1, 2), at(3, 1, 1, 2), at(4, 1, 1), at(5, 1, 3), at(6, 1, 2)]]],
    ]);
    const rows = "SELECT id::INTEGER AS id, eb_run::INTEGER AS run FROM s ORDER BY id";
    expect((await queryFile(path, rows)).map(({ run }) => run)).toEqual([1, 2, 2, 2, 2, 2]);
    const kids =
      "SELECT s_id::INTEGER AS id, n::INTEGER AS n, eb_run::INTEGER AS run FROM s_kids ORDER BY ALL";
    expect((await queryFile(path, kids)).map(({ id, n, run }) => [id, n, run])).toEqual([
      [1, 1, 1],
      [2, 1, 2],
      [2, 2, 2],
      [3, 1, 2],
      [3, 2, 2],
      [4, 1, 2],
      [5, 3, 2],
      [6, 2, 2],
    ]);
  });
});
