/** `mend`: what did not fit is kept once, tried again by the rules as they are, discarded or taken out. */

import { readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterEach, describe, expect, it } from "vitest";
import { mend, openBridge } from "../src/index.js";
import { QUARANTINE_SIZES } from "../src/warehouse/sql/ledger-quarantine.js";
import type { Quarantined } from "../src/warehouse/warehouse.js";
import { fakeApi } from "./support/fake-api.js";
import { inLong } from "./support/long.js";
import { bookingsService, command, demoProject, temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";
import { warehouseAt } from "./support/warehouse.js";

const HOUR = 3_600_000;
const declared = {
  get: "/s",
  key: "id",
  columns: { beds: { type: "int64" }, mail: { hash: true } },
} as const;
const mended = { ...declared, columns: { beds: { type: "text" }, mail: { hash: true } } } as const;
type Stream = Parameters<typeof fakeApi>[0];
type Records = readonly unknown[] | Parameters<typeof fakeApi>[1];

function house(write: "upsert" | "replace" | "append" | "versions" = "upsert") {
  const path = join(temporaryFolder(), "mend.duckdb");
  let hours = 0;
  const open = async (stream: Stream, records: Records, more: object = {}) => {
    const answer = typeof records === "function" ? records : () => ({ body: records });
    const { api, clock } = fakeApi({ streams: { s: stream as never } }, answer);
    await clock.sleep(HOUR * hours++);
    const streams = { s: { write } };
    return {
      api,
      bridge: await openBridge({
        from: api,
        to: warehouseAt(path),
        name: "b",
        schema: "main",
        streams,
        ...more,
      }),
    };
  };
  return {
    path,
    run: async (stream: Stream, records: Records, more?: object) => {
      const { bridge } = await open(stream, records, more);
      return (await bridge.run()).streams[0]!;
    },
    mend: async (stream: Stream, options: object = {}) => mend({ ...(await open(stream, [])), ...options }),
    rows: () => queryFile(path, "SELECT id::INTEGER AS id, beds::VARCHAR AS beds FROM s ORDER BY id, beds"),
    open: () =>
      queryFile(
        path,
        "SELECT id, reason, path, page::INTEGER AS page, record::VARCHAR AS record FROM early_bridge.quarantine WHERE settled IS NULL ORDER BY record",
      ),
  };
}

const odd = { id: 2, beds: "many", mail: "ana@huts.example" };

const sizes = { ...QUARANTINE_SIZES };
afterEach(() => void Object.assign(QUARANTINE_SIZES, sizes));

describe("mend", () => {
  it("keeps a record once, tells where it came, and tries it again when the rule is put right", async () => {
    const { run, mend: retry, rows, open } = house();
    await run(declared, [{ id: 1, beds: 4 }, odd]);
    await run(declared, [{ id: 1, beds: 4 }, odd]);
    const [kept, ...others] = await open();
    expect([kept?.reason, kept?.path, kept?.page, others]).toEqual(["type_mismatch", "beds", 1, []]);
    expect(kept?.record).not.toContain("ana@");
    expect(await retry(declared)).toMatchObject({ streams: [{ tried: 1, mended: 0, left: 1 }] });
    expect(await retry(mended)).toMatchObject({ streams: [{ tried: 1, mended: 1, left: 0, outdated: 0 }] });
    expect(await rows()).toEqual([
      { id: 1, beds: "4" },
      { id: 2, beds: "many" },
    ]);
    expect(await open()).toEqual([]);
    expect(await retry(mended)).toEqual({ run: undefined, streams: [] });
  });

  it("stores what is hashed as a run would have", async () => {
    const { run, mend: retry, path } = house();
    await run(declared, [{ id: 1, beds: 4, mail: "ana@huts.example" }, odd]);
    await retry(mended);
    const [row] = await queryFile(
      path,
      "SELECT count(DISTINCT mail)::INTEGER AS n, count(*)::INTEGER AS rows FROM s",
    );
    expect(row).toEqual({ n: 1, rows: 2 });
  });

  it("replaces nothing that a later run has written", async () => {
    const { run, mend: retry, rows, open } = house();
    await run(declared, [{ id: 1, beds: 4 }, odd]);
    await run(declared, [{ id: 2, beds: 6 }]);
    expect(await retry(mended)).toMatchObject({ streams: [{ tried: 1, mended: 0, outdated: 1, left: 0 }] });
    expect(await rows()).toEqual([
      { id: 1, beds: "4" },
      { id: 2, beds: "6" },
    ]);
    expect(await open()).toEqual([]);
  });

  describe.each([1, 500_000])("with a checkpoint after %d rows", (rows) => {
    const ways = {
      pages: { token: "$.next", query: "after" },
      records: "$.items[*]",
      cursor: { field: "at", query: "since" },
    } as const;
    const ids = [1, 2, 3, 4, 5, 6, 7, 8];
    const items = (second: number, beds: (id: number) => unknown) =>
      ids.map((id) => ({ id, beds: beds(id), at: `2026-11-01T00:00:0${second}Z` }));
    it.each([
      ["both of which did not fit", (id: number) => `${id} or so`, (id: number) => `${id} and more`],
      ["the later of which fitted", (id: number) => `${id} or so`, (id: number) => id],
      ["the earlier of which fitted", (id: number) => id, (id: number) => `${id} and more`],
    ])("leaves the later of two states of a record that one run brought, %s", async (_, earlier, later) => {
      const { run, mend: retry, rows: written } = house();
      const fits = { id: 9, beds: 4, at: "2026-11-01T00:00:00Z" };
      const stream = await run(
        { ...declared, ...ways },
        ({ query }) => ({
          body: query.has("after")
            ? { items: items(2, later), next: null }
            : { items: [fits, ...items(1, earlier)], next: "more" },
        }),
        { quarantine: { share: 1 }, checkpoint: { rows } },
      );
      expect(stream).toMatchObject({ outcome: "done", received: 17 });
      expect(await retry({ ...mended, ...ways })).toMatchObject({ streams: [{ left: 0 }] });
      const beds = (await written()).map((row) => row.beds);
      expect(beds).toEqual([...ids.map((id) => String(later(id))), "4"]);
    });
  });

  it.each(["replace", "append", "versions"] as const)(
    "goes into tables that are written by %s",
    async (write) => {
      const { run, mend: retry, rows } = house(write);
      await run(declared, [{ id: 1, beds: 4 }, odd]);
      expect(await retry(mended)).toMatchObject({ streams: [{ mended: 1, left: 0 }] });
      expect(await rows()).toEqual([
        { id: 1, beds: "4" },
        { id: 2, beds: "many" },
      ]);
    },
  );

  it("names records without a key of several runs apart", async () => {
    const { run, mend: retry, path } = house("append");
    const keyless = { ...declared, key: undefined };
    await run(keyless, [{ id: 1, beds: 4 }, odd]);
    await run(keyless, [
      { id: 3, beds: 5 },
      { ...odd, id: 4 },
    ]);
    expect(await retry({ ...mended, key: undefined })).toMatchObject({ streams: [{ mended: 2, left: 0 }] });
    const count = "SELECT count(*)::INTEGER AS rows, count(DISTINCT eb_row_id)::INTEGER AS ids FROM s";
    expect(await queryFile(path, count)).toEqual([{ rows: 4, ids: 4 }]);
  });

  it("replaces nothing that came again as it stands after the record had gone to quarantine", async () => {
    const { run, mend: retry, rows } = house();
    await run(declared, [{ id: 2, beds: 7 }]);
    await run(declared, [odd]);
    expect(await run(declared, [{ id: 2, beds: 7 }])).toMatchObject({ unchanged: 1 });
    expect(await retry(mended)).toMatchObject({ streams: [{ tried: 1, mended: 0, outdated: 1, left: 0 }] });
    expect(await rows()).toEqual([{ id: 2, beds: "7" }]);
  });

  it("tells what rules leave out now, and what computed fields need", async () => {
    const { run, mend: retry, open, path } = house();
    const compute = { get: "/s", key: "id", compute: { twice: "record.beds * 2.0" } };
    await run(compute, [{ id: 1, beds: 4.5 }, odd]);
    expect((await open())[0]?.reason).toBe("not_computed");
    await retry({ ...compute, compute: { twice: "string(record.beds)" } });
    expect((await queryFile(path, "SELECT twice::VARCHAR AS twice FROM s WHERE id = 2"))[0]).toEqual({
      twice: "many",
    });
    const other = house();
    await other.run(declared, [
      { id: 1, beds: 4 },
      { id: 3, beds: "none" },
    ]);
    const left = await other.mend({ ...mended, where: "record.id < 3" });
    expect(left.streams[0]).toMatchObject({ leftOut: 1, mended: 0, left: 0 });
  });

  it("is not needed where all is wrong: the stream stops before it writes the page", async () => {
    const { run, rows } = house();
    await run(declared, [{ id: 1, beds: 4 }]);
    const wrong = Array.from({ length: 60 }, (_, id) => ({ id, beds: id % 5 === 0 ? id : "many" }));
    expect((await run(declared, wrong)).error).toMatchObject({
      code: "QUARANTINE_FULL",
      message: expect.stringContaining("48 records do not fit, and the bridge permits a share of 0.5"),
    });
    expect(await rows()).toEqual([{ id: 1, beds: "4" }]);
    const permitted = await run(declared, wrong, { quarantine: { share: 1 } });
    expect([permitted.error, permitted.quarantined]).toEqual([undefined, 48]);
    expect((await run(declared, wrong.slice(0, 5), { quarantine: { records: 3 } })).error?.message).toContain(
      "4 records do not fit, and the bridge permits 3",
    );
  });

  it("is not kept waiting in memory until the rows are due, and goes through many a part at a time", async () => {
    Object.assign(QUARANTINE_SIZES, { waiting: 10_000, read: 20_000 });
    const path = join(temporaryFolder(), "many.duckdb");
    const large = (id: number) => ({ id, beds: "many", note: "é".repeat(1000) });
    const page = (number: number) =>
      number < 8
        ? [number === 1 ? { id: 2, beds: 4 } : large(2 * number), large(2 * number + 1)]
        : number > 8
          ? []
          : Array.from({ length: 700 }, (_, n) => ({ id: 100 + n, beds: `${n} or so` }));
    const open = (columns: typeof declared.columns | typeof mended.columns) => {
      const stream = { ...declared, columns, pages: { number: 1, query: "page" } } as const;
      return fakeApi({ streams: { s: stream } }, ({ query }) => ({ body: page(Number(query.get("page"))) }));
    };
    const { api } = open(declared.columns);
    const options = { to: warehouseAt(path), name: "b", schema: "main", quarantine: { share: 1 } };
    const bridge = await openBridge({ from: api, ...options });
    const [stream] = (await bridge.run()).streams;
    expect(stream).toMatchObject({ outcome: "done", added: 1, quarantined: 713, checkpoints: 3 });
    const session = await options.to.open({ readOnly: true });
    const [fault, ...others] = await session.ledger.faults({ bridge: "b" });
    expect([fault, others]).toMatchObject([{ stream: "s", run: 1, path: "beds", records: 713 }, []]);
    const parts: (readonly Quarantined[])[] = [];
    for await (const some of session.ledger.quarantined({ bridge: "b", stream: "s" })) parts.push(some);
    await session.close();
    expect(parts.length).toBeGreaterThan(1);
    expect(new Set(parts.flat().map(({ id }) => id)).size).toBe(713);
    expect(Math.max(...parts.slice(1).map((some) => JSON.stringify(some).length))).toBeLessThan(60_000);
    const { api: better } = open(mended.columns);
    const retried = await mend({ bridge: await openBridge({ from: better, ...options }), api: better });
    expect(retried.streams).toMatchObject([{ tried: 713, mended: 713, left: 0 }]);
    const [row] = await queryFile(
      path,
      "SELECT count(*)::INTEGER AS n, max(length(note))::INTEGER AS note FROM s",
    );
    expect(row).toEqual({ n: 714, note: 1000 });
  });

  inLong("lists reasons, shows one record, exports, discards and retries on the command line", async () => {
    const service = await bookingsService({ bookings: 300 });
    const project = demoProject(service.url);
    const { folder } = project;
    project.edit("connectors/bookings.connector.yaml", 'type: "decimal(12,2)"', 'type: "decimal(4,2)"');
    project.edit("bridges.yaml", "    from: north", "    from: north\n    quarantine: { share: 1 }");
    expect((await command(["run", "bookings", "--plain"], folder)).code).toBe(0);
    const listed = await command(["mend"], folder);
    expect(listed.stdout).toMatch(
      /bookings bookings {2}type mismatch at price\.amount {2}\d+ records, the last/,
    );
    const id = /--show ([0-9a-f]{12})/.exec(listed.stdout)![1]!;
    const shown = await command(["mend", "bookings", "--show", id], folder);
    expect(shown.stdout).toContain(`${id}  bookings bookings, run 1, page 1`);
    expect(shown.stdout).toContain('"lead_guest": {');
    const [line] = (await command(["mend", "--json"], folder)).stdout.split("\n");
    expect(JSON.parse(line!)).toMatchObject({ type: "in_quarantine", reason: "type_mismatch", page: 1 });
    const file = join(folder, "odd.jsonl");
    expect((await command(["mend", "--export", file], folder)).code).toBe(0);
    const lines = readFileSync(file, "utf8").trimEnd().split("\n");
    expect(JSON.parse(lines[0]!)).toMatchObject({ bridge: "bookings", reason: "type_mismatch" });
    const twice = await command(["mend", "--export", file], folder);
    expect([twice.code, twice.stderr]).toEqual([2, expect.stringContaining("is there already")]);
    const dropped = await command(["mend", "bookings", "--show", id, "--discard"], folder);
    expect([dropped.code, dropped.stderr]).toEqual([2, expect.stringContaining("Say why")]);
    const still = await command(["mend", "bookings", "--retry"], folder);
    expect([still.code, still.stdout]).toEqual([
      5,
      expect.stringContaining("still do not fit: price.amount is declared"),
    ]);
    writeFileSync(
      join(folder, "connectors/bookings.connector.yaml"),
      readFileSync(join(folder, "connectors/bookings.connector.yaml"), "utf8").replace(
        "decimal(4,2)",
        "decimal(12,2)",
      ),
    );
    const retried = await command(["mend", "bookings", "--retry"], folder);
    expect([retried.code, retried.stdout]).toEqual([0, expect.stringContaining(`${lines.length} mended`)]);
    const [row] = await queryFile(project.database, "SELECT count(*)::INTEGER AS n FROM bookings.bookings");
    expect(row).toEqual({ n: 300 });
    // looking needs no account
    rmSync(join(folder, ".env"));
    expect((await command(["mend"], folder)).stdout).toContain("Nothing is in quarantine.");
    expect((await command(["drift", "bookings"], folder)).code).toBe(0);
  });
});
