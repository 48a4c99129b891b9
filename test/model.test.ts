/** Shape, merge and replace against a slow model in memory: whatever comes, in whatever pages and checkpoints. */

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { carried } from "./support/carried.js";
import { tries } from "./support/long.js";
import { queryFile } from "./support/truth.js";

interface Item {
  readonly id: number;
  readonly v?: number | string | boolean | null;
  readonly kids?: readonly { readonly n: number | string }[];
  readonly nested?: { readonly a?: number; readonly b?: string };
}

const value = fc.oneof(
  fc.integer({ min: -5, max: 5 }),
  fc.constantFrom("x", "7", ""),
  fc.boolean(),
  fc.constant(null),
);
const item = fc.record(
  {
    id: fc.integer({ min: 1, max: 9 }),
    v: value,
    kids: fc.array(fc.record({ n: fc.oneof(fc.integer({ min: 0, max: 3 }), fc.constantFrom("k")) }), {
      maxLength: 3,
    }),
    nested: fc.record(
      { a: fc.integer({ min: 0, max: 9 }), b: fc.constantFrom("p", "q") },
      { requiredKeys: [] },
    ),
  },
  { requiredKeys: ["id"] },
);
/** What one run finds: each record once, in pages of a few. */
const list = fc.uniqueArray(item, { selector: ({ id }) => id, maxLength: 9 });
const runs = fc.array(list, { minLength: 1, maxLength: 4 });

const SIZE = 3;
const text = (cell: unknown) => (cell === null || cell === undefined ? null : String(cell));
const bySort = (a: unknown, b: unknown) => (JSON.stringify(a) < JSON.stringify(b) ? -1 : 1);

async function tablesAfter(
  lists: readonly (readonly Item[])[],
  write: "upsert" | "replace",
  checkpoint: number,
) {
  let now: readonly Item[] = [];
  const stream = { get: "/s", key: "id", pages: { number: 1, query: "page" } };
  const { run, database } = carried(
    stream,
    ({ query }) => ({
      body: now.slice((Number(query.get("page")) - 1) * SIZE, Number(query.get("page")) * SIZE),
    }),
    checkpoint,
  );
  for (const each of lists) {
    now = each;
    const { stream: told } = await run({ streams: { s: { write } } });
    expect(told.error?.message).toBeUndefined();
  }
  const columns = new Set(
    (
      await queryFile(
        database,
        "SELECT table_name || '.' || column_name AS c FROM information_schema.columns",
      )
    ).map(({ c }) => c),
  );
  const cell = (name: string) => (columns.has(`s.${name}`) ? `${name}::VARCHAR` : "NULL");
  const rows = !columns.has("s.id")
    ? []
    : await queryFile(
        database,
        `SELECT id::INTEGER AS id, ${cell("v")} AS v, ${cell("nested_a")} AS a, ${cell("nested_b")} AS b FROM s`,
      );
  const kids = !columns.has("s_kids.n")
    ? []
    : await queryFile(
        database,
        "SELECT s_id::INTEGER AS id, eb_position::INTEGER AS at, n::VARCHAR AS n FROM s_kids",
      );
  return { rows: rows.sort(bySort), kids: kids.sort(bySort) };
}

function modelOf(lists: readonly (readonly Item[])[], write: "upsert" | "replace") {
  const model = new Map<number, Item>();
  for (const each of lists) {
    if (write === "replace") model.clear();
    for (const record of each) model.set(record.id, record);
  }
  const rows = [...model.values()].map(({ id, v, nested }) => ({
    id,
    v: text(v),
    a: text(nested?.a),
    b: text(nested?.b),
  }));
  const kids = [...model.values()].flatMap(({ id, kids: all = [] }) =>
    all.map(({ n }, at) => ({ id, at, n: text(n) })),
  );
  return { rows: rows.sort(bySort), kids: kids.sort(bySort) };
}

/** The column is of another type in the second run. */
const KIND_CHANGES = [[{ id: 8, v: false }], [{ id: 8, v: -1 }]];

describe("tables after several runs", () => {
  it.each(["upsert", "replace"] as const)("equal a model in memory (%s)", async (write) => {
    await fc.assert(
      fc.asyncProperty(runs, fc.integer({ min: 1, max: 6 }), async (lists, checkpoint) => {
        expect(await tablesAfter(lists, write, checkpoint)).toEqual(modelOf(lists, write));
      }),
      { examples: [[KIND_CHANGES, 1]], numRuns: tries(3, 8) },
    );
  });
});

describe("a table that is replaced", () => {
  it("is compared with the one before it, whatever became of its key", async () => {
    let now: unknown[] = [{ id: 1 }, { id: 2 }];
    const { run, database } = carried({ get: "/s", key: "id" }, () => ({ body: now }));
    const streams = { s: { write: "replace" } } as const;
    await run({ streams });
    now = [{ id: 2 }, { id: "hut-3" }];
    expect((await run({ streams })).stream).toMatchObject({
      unchanged: 1,
      added: 1,
      removed: 1,
      error: undefined,
    });
    expect(await queryFile(database, "SELECT id FROM s ORDER BY id")).toEqual([{ id: "2" }, { id: "hut-3" }]);
  });
});
