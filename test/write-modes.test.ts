/** Each way of writing and of deleting, against a slow model in memory. */

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { HOUR_MS, loadRuns, type RunOfRecords } from "./support/loads.js";
import { tries } from "./support/long.js";
import { queryFile } from "./support/truth.js";

interface Item {
  readonly id: number;
  readonly v?: number | null;
  readonly kids?: readonly { readonly n: number }[];
  /** hours */
  readonly at?: number;
  readonly gone?: boolean;
}

const RUNS = tries(3, 12);
const id = fc.integer({ min: 1, max: 4 });
const content = {
  id,
  v: fc.constantFrom(1, 2, null),
  kids: fc.constantFrom([], [{ n: 1 }], [{ n: 1 }, { n: 2 }]),
};
const removal = fc.record({ id, gone: fc.constant(true) });
const change: fc.Arbitrary<Item> = fc.record(content, { requiredKeys: ["id"] });
const item = fc.oneof({ weight: 3, arbitrary: change }, removal);
/** what is told of one record between two checkpoints is told once */
const checkpoint = (of: fc.Arbitrary<Item>) =>
  fc.uniqueArray(of, { selector: (each) => each.id, maxLength: 4 }).map((items) => [items]);
const runsOf = (of: fc.Arbitrary<Item>) =>
  fc.array(fc.array(checkpoint(of), { minLength: 1, maxLength: 3 }), { minLength: 1, maxLength: 3 });

const contentOf = ({ v, kids = [] }: Item) => JSON.stringify([v ?? null, kids.map(({ n }) => n)]);
const sorted = (rows: readonly string[]) => [...rows].sort();
const hour = (column: string) => `(epoch_ms(${column}) / ${HOUR_MS})::DOUBLE`;
const time = (at: number) => new Date(at * HOUR_MS).toISOString();

/** The rows as texts: the key, the content with that of the children, and more. */
async function rowsIn(path: string, more: readonly string[] = [], link = ""): Promise<string[]> {
  const columns = new Set(
    (
      await queryFile(path, "SELECT table_name || '.' || column_name AS c FROM information_schema.columns")
    ).map(({ c }) => String(c)),
  );
  if (!columns.has("s.id")) return [];
  const kids = columns.has("s_kids.n")
    ? `(SELECT list(k.n ORDER BY k.eb_position) FROM s_kids AS k WHERE k.s_id = s.id ${link})`
    : "NULL";
  const v = columns.has("s.v") ? "v" : "NULL";
  const rows = await queryFile(
    path,
    `SELECT to_json([s.id::VARCHAR, ${v}::VARCHAR, coalesce(${kids}, [])::VARCHAR, ${more.map((each) => `(${each})::VARCHAR`).join(", ")}])::VARCHAR AS row FROM s`,
  );
  return sorted(rows.map(({ row }) => String(row)));
}

const asRow = (of: Item, ...more: readonly (string | number | null)[]) =>
  JSON.stringify([
    String(of.id),
    of.v === undefined || of.v === null ? null : String(of.v),
    `[${(of.kids ?? []).map(({ n }) => n).join(", ")}]`,
    ...more.map((each) => (each === null ? null : typeof each === "number" ? each.toFixed(1) : each)),
  ]);

async function kidsLeftBehind(path: string, key: string): Promise<number> {
  const tables = await queryFile(
    path,
    "SELECT table_name AS t FROM information_schema.tables WHERE table_name = 's_kids'",
  );
  if (tables.length === 0) return 0;
  const [row] = await queryFile(
    path,
    `SELECT count(*)::INTEGER AS n FROM s_kids AS k WHERE NOT EXISTS (SELECT 1 FROM s WHERE ${key})`,
  );
  return Number(row?.n);
}

const check = (
  arbitrary: fc.Arbitrary<readonly RunOfRecords[]>,
  property: (all: readonly RunOfRecords[]) => Promise<void>,
) => fc.assert(fc.asyncProperty(arbitrary, property), { numRuns: RUNS });

describe("upsert", () => {
  it("marks what is gone, children as well, and lets it live again", async () => {
    await check(runsOf(item), async (all) => {
      const { path } = await loadRuns(all, { write: "upsert", deletes: "mark" });
      const model = new Map<number, Item & { deleted: number | null }>();
      for (const [n, checkpoints] of all.entries())
        for (const each of checkpoints.flat(2) as Item[]) {
          const stands = model.get(each.id);
          if (each.gone !== true) model.set(each.id, { ...each, deleted: null });
          else if (stands !== undefined) model.set(each.id, { ...stands, deleted: stands.deleted ?? n });
        }
      const expected = [...model.values()].map((each) => asRow(each, each.deleted));
      expect(await rowsIn(path, [hour("eb_deleted_at")])).toEqual(sorted(expected));
      expect(
        await kidsLeftBehind(path, "s.id = k.s_id AND s.eb_deleted_at IS NOT DISTINCT FROM k.eb_deleted_at"),
      ).toBe(0);
    });
  });
});

describe("append", () => {
  it("adds every state once, and changes nothing that stands", async () => {
    await check(runsOf(change), async (all) => {
      const { path } = await loadRuns(all, { write: "append" });
      const model = new Map<string, Item>();
      for (const each of all.flat(3) as Item[]) {
        const state = `${each.id} ${contentOf(each)}`;
        if (!model.has(state)) model.set(state, each);
      }
      expect(await rowsIn(path, [], "AND k.eb_state = s.eb_state")).toEqual(
        sorted([...model.values()].map((each) => asRow(each))),
      );
    });
  });

  it("adds all records of a stream without a key, those that are alike as well", async () => {
    const records = [{ v: 1 }, { v: 1 }, { v: 2, kids: [{ n: 1 }] }];
    const { path, counts } = await loadRuns([[[records]], [[records]]], {
      write: "append",
      stream: { key: undefined, gone: undefined },
    });
    const [row] = await queryFile(
      path,
      "SELECT count(*)::INTEGER AS n, count(DISTINCT eb_row_id)::INTEGER AS ids FROM s",
    );
    expect(row).toEqual({ n: 6, ids: 6 });
    expect(counts.map(({ added }) => added)).toEqual([3, 3]);
  });
});

interface Version {
  from: number;
  item: Item;
  to: number | null;
  deleted: number | null;
}

/** Puts versions in their places, one after the other. */
class Versions {
  readonly all = new Map<number, Version[]>();

  take(each: Item, now: number): void {
    const versions = this.all.get(each.id) ?? [];
    const last = versions.at(-1);
    if (each.gone === true) {
      if (last?.to === null) last.deleted = last.to = Math.max(now, last.from);
      return;
    }
    const told = each.at ?? now;
    const from = last?.deleted != null && told <= last.deleted ? now : told;
    const others = versions.filter((v) => v.from !== from);
    others.push({ from, item: each, to: null, deleted: null });
    others.sort((a, b) => a.from - b.from);
    const kept = others.filter((v, i) => {
      const before = others[i - 1];
      return before === undefined || before.deleted !== null || contentOf(before.item) !== contentOf(v.item);
    });
    for (const [i, version] of kept.entries()) version.to = version.deleted ?? kept[i + 1]?.from ?? null;
    this.all.set(each.id, kept);
  }

  rows(): string[] {
    return [...this.all.values()]
      .flat()
      .map(({ item: of, from, to, deleted }) => asRow(of, from, to, deleted));
  }
}

async function versionsIn(path: string): Promise<string[]> {
  const times = [hour("eb_valid_from"), hour("eb_valid_to"), hour("eb_deleted_at")];
  const link = "AND k.eb_valid_from = s.eb_valid_from";
  const same =
    "s.id = k.s_id AND s.eb_valid_from = k.eb_valid_from AND s.eb_valid_to IS NOT DISTINCT FROM k.eb_valid_to";
  expect(await kidsLeftBehind(path, same)).toBe(0);
  return rowsIn(path, times, link);
}

describe("versions", () => {
  const model = (all: readonly RunOfRecords[]) => {
    const versions = new Versions();
    for (const [n, checkpoints] of all.entries())
      for (const each of checkpoints.flat(2) as (Item & { changed?: string })[]) versions.take(each, n);
    return sorted(versions.rows());
  };

  it("hold since the run that brought them, where records tell no time", async () => {
    await check(runsOf(item), async (all) => {
      const { path } = await loadRuns(all, { write: "versions" });
      expect(await versionsIn(path)).toEqual(model(all));
    });
  });

  it("begin with the first record, also where earlier runs brought nothing", async () => {
    const { path, counts } = await loadRuns([[[[]]], [[[{ id: 1, v: 1 }]]]], { write: "versions" });
    expect(counts.map(({ added }) => added)).toEqual([0, 1]);
    expect(await rowsIn(path)).toEqual([asRow({ id: 1, v: 1 })]);
  });

  it("go in their places by the cursor's field, late ones as well", async () => {
    const timed = fc
      .record({ id, at: fc.integer({ min: 0, max: 5 }) })
      // what is told of one moment is always the same
      .map(({ id: of, at }) => ({
        id: of,
        at,
        changed: time(at),
        v: (at * 7 + of) % 3,
        kids: [{ n: at % 2 }],
      }));
    const stream = { cursor: { field: "changed" }, fields: { except: ["at", "changed"] } };
    await check(runsOf(timed), async (all) => {
      const { path } = await loadRuns(all, { write: "versions", stream });
      expect(await versionsIn(path)).toEqual(model(all));
    });
  });

  it("are closed by deletions, and begin anew when a record comes back as it was", async () => {
    const was = { id: 1, v: 1, changed: time(0) };
    const { path } = await loadRuns([[[[was]]], [[[{ id: 1, gone: true }]]], [[[was]]], [[[was]]]], {
      write: "versions",
      stream: { cursor: { field: "changed" } },
    });
    expect(
      await queryFile(
        path,
        `SELECT ${hour("eb_valid_from")} AS a, ${hour("eb_valid_to")} AS b, ${hour("eb_deleted_at")} AS d FROM s ORDER BY 1`,
      ),
    ).toEqual([
      { a: 0, b: 1, d: 1 },
      { a: 2, b: null, d: null },
    ]);
  });

  it("live on where their record went and came back as it was in one run", async () => {
    const was = { id: 3, v: 1, kids: [{ n: 1 }] };
    const { path } = await loadRuns([[[[was]], [[{ id: 3, gone: true }]], [[was]]]], { write: "versions" });
    expect(
      await queryFile(path, "SELECT count(*)::INTEGER AS n, count(eb_deleted_at)::INTEGER AS gone FROM s"),
    ).toEqual([{ n: 1, gone: 0 }]);
    expect(
      await queryFile(path, "SELECT count(*)::INTEGER AS n FROM s_kids WHERE eb_valid_to IS NULL"),
    ).toEqual([{ n: 1 }]);
  });

  it("count by the API's times alone once a record came back with one, whatever the clock here shows", async () => {
    const at = (hours: number, v: number) => ({ id: 1, v, changed: time(hours) });
    const { path } = await loadRuns(
      [[[[at(0, 1)]]], [[[{ id: 1, gone: true }]]], [[[at(0.25, 2)]]], [[[at(0.5, 3)]]]],
      { write: "versions", stream: { cursor: { field: "changed" } } },
    );
    expect(
      await queryFile(
        path,
        `SELECT v::DOUBLE AS v, ${hour("eb_valid_from")} AS a, ${hour("eb_valid_to")} AS b, ${hour("eb_deleted_at")} AS d
         FROM s ORDER BY 1`,
      ),
    ).toEqual([
      { v: 1, a: 0, b: 0.25, d: 0.25 },
      { v: 2, a: 0.25, b: 0.5, d: null },
      { v: 3, a: 0.5, b: null, d: null },
    ]);
  });

  it("are removed whole where that is asked for", async () => {
    const { path, counts } = await loadRuns(
      [[[[{ id: 1, v: 1 }]]], [[[{ id: 1, v: 2 }]]], [[[{ id: 1, gone: true }]]]],
      {
        write: "versions",
        deletes: "remove",
      },
    );
    expect(await queryFile(path, "SELECT * FROM s")).toEqual([]);
    expect(counts.at(-1)).toMatchObject({ removed: 1 });
  });
});
