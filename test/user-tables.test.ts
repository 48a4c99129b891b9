/** Tables that stand already and are not ours: filled by their columns' names, checked before, and never altered. */

import { readFileSync } from "node:fs";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { parseYaml } from "../src/core/define/check.js";
import { projectSchema } from "../src/core/define/project-schema.js";
import { rewind } from "../src/index.js";
import { tries } from "./support/long.js";
import { userHouse } from "./support/user-house.js";
import { isServer } from "./support/warehouse.js";

const CONTACTS = `CREATE TABLE huts.contacts (external_id VARCHAR(20) UNIQUE, "FirstName" VARCHAR(10), city VARCHAR(40),
  beds SMALLINT, note VARCHAR(40) DEFAULT 'ours')`;
const INTO = { table: "contacts", columns: { id: "external_id", "address.city": "city" } };
const GUEST = { id: "g1", first_name: "Anna", address: { city: "Alm", zip: "1" }, beds: 2, extra: [1] };
const row = (external_id: string | null, FirstName: string | null, more: object = {}) => ({
  external_id,
  FirstName,
  city: null,
  beds: null,
  note: "ours",
  ...more,
});

describe("a table that stands", () => {
  it("takes what its columns have a name for; the rest of it stays as it is", async () => {
    const { run, rows, change, notices } = await userHouse([
      CONTACTS,
      "INSERT INTO huts.contacts VALUES (NULL, 'Own', 'X', 1, 'mine')",
    ]);
    const first = await run([GUEST, { id: "g2", first_name: "Bo" }], { into: INTO });
    expect(first).toMatchObject({ outcome: "done", error: undefined });
    expect(first.streams[0]).toMatchObject({ added: 2, changed: 0, unchanged: 0, passedOver: 0 });
    expect(notices).toEqual(["huts.contacts has no column for address.zip, extra."]);
    await change("UPDATE huts.contacts SET note = 'kept' WHERE external_id = 'g1'");
    const records = [
      { ...GUEST, beds: 3 },
      { id: "g2", first_name: "Bo" },
      { id: "g3", first_name: "Cy" },
    ];
    const second = await run(records, { into: INTO });
    expect(second.streams[0]).toMatchObject({ added: 1, changed: 1, unchanged: 1 });
    expect(await rows()).toEqual([
      row(null, "Own", { city: "X", beds: "1", note: "mine" }),
      row("g1", "Anna", { city: "Alm", beds: "3", note: "kept" }),
      row("g2", "Bo"),
      row("g3", "Cy"),
    ]);
  });

  it("is emptied where a field that has come once comes no more, and left alone where none ever came", async () => {
    const { run, rows, change, notices } = await userHouse([CONTACTS]);
    const into = { ...INTO, columns: { ...INTO.columns, remark: "note" } };
    await run([GUEST], { into });
    expect(notices).toContain("No record has remark, which into.columns names: its column is left alone.");
    await change("UPDATE huts.contacts SET note = 'mine'");
    await run([{ id: "g1", first_name: "Anna" }], { into });
    expect(await rows()).toEqual([row("g1", "Anna", { note: "mine" })]);
    await run([{ id: "g1", first_name: null, remark: null }], { into });
    expect(await rows()).toEqual([row("g1", null, { note: null })]);
  });

  it("is neither dropped nor swept, and stands when the stream is begun anew", async () => {
    const { run, rows, bridgeOf } = await userHouse([CONTACTS]);
    const sweep = { get: "/s", every: "PT0S" };
    await run([GUEST, { ...GUEST, id: "g2" }], { into: INTO }, { sweep });
    const again = await run([GUEST], { into: INTO }, { sweep });
    expect(again).toMatchObject({ outcome: "done", streams: [{ removed: 0, unchanged: 1 }] });
    const { bridge, api } = await bridgeOf([], { into: INTO });
    expect(await rewind({ bridge, api, stream: "s", anew: true })).toMatchObject({ dropped: [] });
    expect(await rows()).toHaveLength(2);
  });

  it("has its own cursors: what went elsewhere counts for nothing", async () => {
    const { run, rows, notices } = await userHouse([CONTACTS]);
    const stream = { cursor: { field: "at", query: "since" } };
    const first = { ...GUEST, at: "2026-01-01T00:00:00Z" };
    const asked = (since: string | null) =>
      since === null ? [first] : [{ ...first, id: "g2", at: "2026-02-01T00:00:00Z" }];
    await run(asked, {}, stream);
    await run(asked, { into: INTO }, stream);
    expect(notices.join()).toContain("So far its records went into the stream's own table");
    expect((await rows()).map(({ external_id }) => external_id)).toEqual(["g1"]);
    await run(asked, { into: INTO }, stream);
    expect((await rows()).map(({ external_id }) => external_id)).toEqual(["g1", "g2"]);
    notices.length = 0;
    // the stream's own table has missed what came since
    await run(asked, {}, stream);
    expect(notices.join()).toContain("So far its records went into huts.contacts");
    expect((await rows("s")).map(({ id }) => id)).toEqual(["g1"]);
  });

  it("takes all of a checkpoint or nothing, and the cursor with it", async () => {
    const { run, rows, change } = await userHouse([CONTACTS]);
    await change('CREATE UNIQUE INDEX one_name ON huts.contacts ("FirstName")');
    const stream = { cursor: { field: "at", query: "since" } };
    const asked = (since: string | null) =>
      since === null
        ? [
            { id: "g1", first_name: "A", at: 1 },
            { id: "g2", first_name: "A", at: 2 },
          ]
        : [];
    const failed = await run(asked, { into: INTO }, stream);
    expect(failed).toMatchObject({ outcome: "failed", error: { code: "WAREHOUSE_FAILED" } });
    expect(await rows()).toEqual([]);
    const mended = (since: string | null) =>
      asked(since).map((each, i) => ({ ...each, first_name: `A${i}` }));
    const again = await run(mended, { into: INTO }, stream);
    expect(again).toMatchObject({ outcome: "done", streams: [{ added: 2 }] });
  });
});

describe("a way of writing", () => {
  const two = [
    { id: "g1", first_name: "A" },
    { id: "g2", first_name: "B" },
  ];
  const standing = [
    CONTACTS,
    "INSERT INTO huts.contacts (external_id, \"FirstName\") VALUES ('g1', 'Old'), ('g9', 'Own')",
  ];
  const counts = { added: 0, changed: 0, unchanged: 0, removed: 0, passedOver: 0 };

  it.each([
    ["upsert", { added: 1, changed: 1 }, ["A", "B", "Own"]],
    ["insert", { added: 1, passedOver: 1 }, ["B", "Old", "Own"]],
    ["update", { changed: 1, passedOver: 1 }, ["A", "Own"]],
    ["delete", { removed: 1, passedOver: 1 }, ["Own"]],
  ] as const)("%s counts each kind", async (write, told, names) => {
    const { run, rows } = await userHouse(standing);
    const report = await run(two, { into: INTO, write });
    expect(report).toMatchObject({ outcome: "done", streams: [{ ...counts, ...told, received: 2 }] });
    expect((await rows()).map(({ FirstName }) => FirstName).sort()).toEqual(names);
  });

  it("deletes what is told to be gone where that is said, and lets it stand else", async () => {
    const { run, rows } = await userHouse(standing);
    const stream = { gone: "record.gone" };
    const gone = [
      { id: "g1", gone: true },
      { id: "g7", gone: true },
    ];
    expect(await run(gone, { into: INTO }, stream)).toMatchObject({
      streams: [{ removed: 0, passedOver: 2 }],
    });
    expect(await rows()).toHaveLength(2);
    const said = { into: INTO, deletes: "remove" } as const;
    expect(await run(gone, said, stream)).toMatchObject({ streams: [{ removed: 1, passedOver: 1 }] });
    expect((await rows()).map(({ external_id }) => external_id)).toEqual(["g9"]);
  });

  it("is refused where it does not go with the table", async () => {
    const { run } = await userHouse([CONTACTS]);
    await expect(run([], { into: INTO, write: "replace" })).rejects.toThrow("cannot be written by replace");
    await expect(run([], { write: "update" })).rejects.toThrow("no table is named");
    await expect(run([], { into: INTO, deletes: "mark" })).rejects.toThrow("cannot be marked");
  });

  it("does what a slow model does, whatever comes", async () => {
    const record = fc.record(
      {
        id: fc.constantFrom("a", "b", "c"),
        first_name: fc.constantFrom("x", "X", "", null),
        beds: fc.nat(3),
        gone: fc.boolean(),
      },
      { requiredKeys: ["id"] },
    );
    const page = fc.uniqueArray(record, { selector: ({ id }) => id, minLength: 1 });
    const runs = fc.array(page, { minLength: 1, maxLength: 3 });
    const write = fc.constantFrom("upsert", "insert", "update", "delete" as const);
    const property = async (all: readonly (readonly Record<string, unknown>[])[], how: "upsert") => {
      const { run, rows } = await userHouse([
        CONTACTS,
        "INSERT INTO huts.contacts (external_id, beds) VALUES ('a', 9)",
      ]);
      const model = new Map<string, Record<string, unknown>>([["a", { first_name: null, beds: 9 }]]);
      const seen = new Set<string>();
      for (const records of all) {
        const report = await run(
          records,
          { into: INTO, write: how, deletes: "remove" },
          { gone: "has(record.gone) && record.gone" },
        );
        expect(report.error).toBeUndefined();
        // of a record that is gone, only the key is read
        for (const { gone, ...each } of records)
          if (gone !== true) for (const key of Object.keys(each)) seen.add(key);
        const last = new Map(records.map((each) => [String(each.id), each]));
        for (const [id, each] of last) applied(model, seen, how, id, each);
      }
      const expected = [...model].map(([id, { first_name, beds }]) => [
        id,
        first_name ?? null,
        beds === undefined || beds === null ? null : String(beds),
      ]);
      expect((await rows()).map((each) => [each.external_id, each.FirstName, each.beds])).toEqual(
        expected.sort((a, b) => (String(a[0]) < String(b[0]) ? -1 : 1)),
      );
    };
    await fc.assert(fc.asyncProperty(runs, write as fc.Arbitrary<"upsert">, property), {
      numRuns: tries(4, 12),
      examples: [[[[{ id: "b", beds: 0, gone: true }, { id: "a" }]], "upsert"]],
    });
  });
});

/** What one record does to the model. */
function applied(
  model: Map<string, Record<string, unknown>>,
  seen: ReadonlySet<string>,
  how: string,
  id: string,
  record: Record<string, unknown>,
): void {
  const stands = model.get(id);
  if (record.gone === true || how === "delete") model.delete(id);
  else if (stands === undefined ? how !== "update" : how !== "insert") {
    const filled = ["first_name", "beds"].filter((key) => seen.has(key));
    model.set(id, { ...stands, ...Object.fromEntries(filled.map((key) => [key, record[key] ?? null])) });
  }
}

describe("the page", () => {
  it.runIf(!isServer)("has an example that holds", async () => {
    const page = readFileSync("docs/standing-tables.md", "utf8");
    const block = (language: string) => new RegExp(`\`\`\`${language}\\n([\\s\\S]*?)\`\`\``).exec(page)![1]!;
    const { value } = parseYaml(block("yaml"), "bridges.yaml");
    const { streams } = projectSchema.shape.bridges.parse((value as { bridges: unknown }).bridges).members!;
    const { run, change, rows } = await userHouse(["CREATE SCHEMA office"]);
    await change(block("sql"));
    const [, record, row] = /^\| `(\{.*\})` *\| (.*?) *\|$/m.exec(page)!;
    const report = await run([JSON.parse(record!)], streams!.members!);
    expect(report.error).toBeUndefined();
    const [found] = await rows("members", "office");
    const shown = Object.values(found!).map((value) => (value === null ? "nothing" : `\`${value}\``));
    expect(shown.join(", ")).toBe(row);
  });
});
