/** Tables as files in a folder: what readers find, what stays out of their sight, and what happens when it breaks. */

import { createHash } from "node:crypto";
import { existsSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { parse } from "csv-parse/sync";
import { parquetReadObjects } from "hyparquet";
import { describe, expect, it } from "vitest";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import type { FilesInput } from "../src/core/define/files-schema.js";
import type { WriteMode } from "../src/core/define/project-schema.js";
import { BridgeError } from "../src/core/errors.js";
import { planBridge } from "../src/index.js";
import { folder } from "../src/warehouse/files/index.js";
import { localFolder } from "../src/warehouse/files/local-folder.js";
import { filesWarehouse } from "../src/warehouse/files/session.js";
import type { Store, StorePlace } from "../src/warehouse/files/store.js";
import type { Warehouse } from "../src/warehouse/warehouse.js";
import { apiOf, bridgeInto } from "./support/carry.js";
import { fakeApi } from "./support/fake-api.js";
import { type DeliveredFile, deliveredTables, documentIn, filesIn, readFolder } from "./support/files.js";
import { everyNth, inLong, tries } from "./support/long.js";
import { command, temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";

type StreamInput = Parameters<typeof apiOf>[0];
type WholeStream = NonNullable<ConnectorInput["streams"]>[string];

/** A folder, and runs of a bridge into it. */
function folderOf(files: FilesInput = {}, write: WriteMode = "upsert", stream: StreamInput = {}) {
  const folder = join(temporaryFolder(), "handover");
  const place = localFolder(folder);
  let runs = 0;
  const run = async (records: readonly unknown[], to: Warehouse = filesWarehouse(place, files)) => {
    const streams = { s: { get: "/s", key: "id", ...stream } as WholeStream };
    const fake = fakeApi({ streams }, () => ({ body: records }));
    await fake.clock.sleep(3_600_000 * runs++);
    const bridge = await bridgeInto(to, fake.api, {
      streams: { s: { write } },
      checkpoint: { rows: 2 },
    });
    return bridge.run();
  };
  const rows = async (query: string) => {
    const path = join(folder, "..", "read.duckdb");
    await readFolder(folder, path);
    return queryFile(path, query);
  };
  return { folder, place, files, run, rows };
}

const text = (folder: string, path: string) => readFileSync(join(folder, path), "utf8");

/** Every file that the manifest names is there as it says, and readers see no other. */
function checkManifest(folder: string): void {
  const named = deliveredTables(folder).flatMap(({ files }) => files);
  expect(filesIn(folder)).toEqual(named.map(({ path }) => path).sort());
  for (const { path, bytes, sha256 } of named) {
    const content = readFileSync(join(folder, path));
    expect([content.length, createHash("sha256").update(content).digest("hex")]).toEqual([bytes, sha256]);
  }
}

const GUESTS = [
  {
    id: 1,
    hut: "Adlerhütte",
    price: 49.5,
    paid: true,
    on: "2026-07-01",
    guests: [{ name: 'Ada "A"' }, { name: "" }],
  },
  { id: 2, hut: "x;y,z\nnew", price: 1e21, paid: null, on: "2026-07-02", guests: [] },
  { id: 9007199254740993n, hut: "", price: 0.1, paid: false, on: "2026-07-01", guests: [{ name: "Bo" }] },
];
/** the API's own bytes: JSON has no room for large numbers otherwise */
const asJson = JSON.stringify(GUESTS, (_, value) =>
  typeof value === "bigint" ? `#${value}#` : value,
).replace(/"#(\d+)#"/g, "$1");
const guestStream: StreamInput = { columns: { price: { type: "decimal(30,2)" } } };

function guestsInto(files: FilesInput, write: WriteMode = "upsert") {
  const made = folderOf(files, write, guestStream);
  const run = async () => {
    const to = filesWarehouse(made.place, files);
    return (
      await bridgeInto(
        to,
        apiOf(guestStream, () => ({ body: asJson })),
        { streams: { s: { write } } },
      )
    ).run();
  };
  return { ...made, run };
}

describe("files", () => {
  it("of Parquet hold the types exactly, as another reader finds them", async () => {
    const { folder, run } = guestsInto({ compression: "snappy" });
    expect((await run()).outcome).toBe("done");
    const file = readFileSync(join(folder, "huts/s/s.parquet"));
    const rows = await parquetReadObjects({
      file: file.buffer.slice(file.byteOffset, file.byteOffset + file.length) as ArrayBuffer,
    });
    expect(rows.map(({ id }) => id)).toEqual([1n, 2n, 9007199254740993n]);
    expect(rows[0]).toMatchObject({ hut: "Adlerhütte", paid: true, eb_run: 1n });
    expect(rows[1]!.paid).toBeNull();
    checkManifest(folder);
  });

  it("of JSON Lines are JSON on each line, numbers with every digit", async () => {
    const { folder, run } = guestsInto({ format: "jsonl", compression: "gzip" });
    await run();
    const lines = gunzipSync(readFileSync(join(folder, "huts/s/s.jsonl.gz")))
      .toString("utf8")
      .trimEnd()
      .split("\n");
    expect(lines).toHaveLength(3);
    expect(lines.map((line) => JSON.parse(line).hut)).toEqual(["Adlerhütte", "x;y,z\nnew", ""]);
    expect(lines[2]).toContain('"id":9007199254740993,');
    expect(lines[1]).toContain('"price":1000000000000000000000.00,"paid":null,"on":"2026-07-02"');
    checkManifest(folder);
  });

  it("of CSV are as RFC 4180 has them, nothing and an empty text apart", async () => {
    const { folder, run } = guestsInto({ format: "csv" });
    await run();
    const csv = text(folder, "huts/s/s.csv");
    expect(csv.split("\r\n")[0]).toBe("id,hut,price,paid,on,eb_run,eb_loaded_at");
    expect(csv).toContain('\r\n2,"x;y,z\nnew",1000000000000000000000.00,,2026-07-02,1,');
    expect(csv).toContain('\r\n9007199254740993,"",0.10,false,');
    const rows: Record<string, string>[] = parse(csv, { columns: true });
    expect(rows.map(({ hut }) => hut)).toEqual(["Adlerhütte", "x;y,z\nnew", ""]);
    expect(
      parse(text(folder, "huts/s_guests/s_guests.csv"), { from: 2 }).map((row: string[]) => row[2]),
    ).toEqual(['Ada "A"', "", "Bo"]);
    checkManifest(folder);
  });

  it("of CSV are as their receiver asks", async () => {
    const csv = {
      delimiter: ";",
      decimal: ",",
      quotes: "all",
      header: false,
      lines: "lf",
      encoding: "windows-1252",
    } as const;
    const { folder, run } = guestsInto({ format: "csv", compression: "gzip", csv });
    await run();
    const bytes = gunzipSync(readFileSync(join(folder, "huts/s/s.csv.gz")));
    expect(bytes.toString("latin1")).toMatch(
      /^"1";"Adlerh\u00fctte";"49,50";"true";"2026-07-01";"1";"[^"]+Z"\n"2";/,
    );
  });

  it("never lose a sign that their encoding does not have", async () => {
    const { folder, run } = folderOf({ format: "csv", csv: { encoding: "iso-8859-1" } });
    const { error } = await run([{ id: 1, hut: "Иван" }]);
    expect([error?.code, error?.message]).toEqual([
      "FILE_UNWRITABLE",
      "A text has the sign И (U+0418), which iso-8859-1 does not have.",
    ]);
    expect(filesIn(folder)).toEqual([]);
  });

  it("are parted by a column's day, and named as the project says", async () => {
    const name = "{schema}/{day}/{table}_{date}_{run}-{number}";
    const { folder, run } = guestsInto({ name, day: "on" }, "append");
    await run();
    const today = new Date(0).toISOString().slice(0, 10);
    const named = filesIn(folder).map((path) => path.replace(/\d{4}-\d\d-\d\d_/, "DATE_"));
    expect(named).toEqual([
      "huts/2026-07-01/s_DATE_000001-1.parquet",
      "huts/2026-07-02/s_DATE_000001-1.parquet",
      "huts/undated/s_guests_DATE_000001-1.parquet",
    ]);
    expect(today).toBe("1970-01-01");
    checkManifest(folder);
  });
});

describe("a folder", () => {
  it("that is appended to gets new files, and those that were delivered stay as they are", async () => {
    const { folder, run } = folderOf({}, "append");
    await run([
      { id: 1, v: "a" },
      { id: 2, v: "b" },
    ]);
    const before = filesIn(folder).map((path) => [path, statSync(join(folder, path)).ino]);
    const { streams, error } = await run([
      { id: 1, v: "A" },
      { id: 2, v: "b" },
      { id: 3, v: "c" },
    ]);
    expect(error).toBeUndefined();
    expect(streams[0]).toMatchObject({ added: 1, changed: 1, unchanged: 1 });
    for (const [path, inode] of before) expect(statSync(join(folder, String(path))).ino).toBe(inode);
    const fresh = documentIn<{ is_complete: boolean; files: DeliveredFile[] }>(folder, "runs/000002.json");
    expect(fresh.is_complete).toBe(true);
    expect(fresh.files.reduce((sum, { rows }) => sum + rows, 0)).toBe(2);
    checkManifest(folder);
  });

  it("tells again what was delivered when its receiver has taken the files away", async () => {
    const { folder, run } = folderOf({ format: "csv" }, "append");
    await run([
      { id: 1, v: "a" },
      { id: 2, v: "b" },
    ]);
    rmSync(join(folder, "huts"), { recursive: true });
    expect(
      (
        await run([
          { id: 2, v: "b" },
          { id: 3, v: "c" },
        ])
      ).streams[0],
    ).toMatchObject({ added: 1, unchanged: 1 });
    expect(filesIn(folder)).toHaveLength(1);
    expect(text(folder, filesIn(folder)[0]!)).toMatch(/\r\n3,c,/);
  });

  it("whose tables are written whole keeps one file a table, and leaves tables that have not changed alone", async () => {
    const { folder, run, rows } = folderOf();
    await run([
      { id: 1, v: 1, notes: [{ t: "x" }] },
      { id: 2, v: 1 },
    ]);
    await run([
      { id: 2, v: 2 },
      { id: 3, v: 3 },
    ]);
    expect(await rows("SELECT id::INTEGER AS id, v::INTEGER AS v FROM huts.s ORDER BY id")).toEqual([
      { id: 1, v: 1 },
      { id: 2, v: 2 },
      { id: 3, v: 3 },
    ]);
    expect(filesIn(folder)).toEqual(["huts/s/s.parquet", "huts/s_notes/s_notes.parquet"]);
    const run2 = documentIn<{ files: DeliveredFile[] }>(folder, "runs/000002.json");
    expect(run2.files.map(({ path }) => path)).toEqual(["huts/s/s.parquet"]);
    checkManifest(folder);
  });

  it("widens a column, and reads older files into it", async () => {
    const { run, rows } = folderOf({}, "versions");
    await run([{ id: 1, v: 1 }]);
    await run([{ id: 1, v: "x", w: 2.5 }]);
    expect(await rows("SELECT v, w, eb_valid_to IS NULL AS now FROM huts.s ORDER BY eb_valid_from")).toEqual([
      { v: "1", w: null, now: false },
      { v: "x", w: 2.5, now: true },
    ]);
  });

  it("changes its form by a setting: all is written anew with the next record", async () => {
    const { folder, place, run, rows } = folderOf({ format: "csv" });
    await run([{ id: 1, v: "a" }]);
    await run([{ id: 2, v: "b" }], filesWarehouse(place, { format: "parquet" }));
    expect(filesIn(folder)).toEqual(["huts/s/s.parquet"]);
    expect(await rows("SELECT v FROM huts.s ORDER BY v")).toEqual([{ v: "a" }, { v: "b" }]);
    expect(readdirSync(join(folder, "_early_bridge/kept"), { recursive: true }).join()).not.toContain(
      "parquet",
    );
  });

  it("does not write over a file that is not ours", async () => {
    const { folder, run } = folderOf();
    await run([{ id: 1 }]);
    rmSync(join(folder, "huts/s/s.parquet"));
    const other = folderOf({ name: "{table}" });
    await other.run([]);
    writeFileSync(join(other.folder, "s.parquet"), "mine");
    const { error } = await other.run([{ id: 1 }]);
    expect([error?.code, error?.message]).toEqual([
      "TABLE_NOT_OURS",
      "The file s.parquet is there already, and it is not one of ours.",
    ]);
    expect(text(other.folder, "s.parquet")).toBe("mine");
    // and one of ours that is gone is told of, not made up for
    const gone = (await run([{ id: 2 }])).error;
    expect([gone?.code, gone?.message]).toEqual([
      "WAREHOUSE_FAILED",
      "The rows of huts/s/s.parquet cannot be read back: it is gone.",
    ]);
  });

  it("takes nothing back that it has delivered", async () => {
    const { folder, run } = folderOf({}, "append", { gone: "record.gone" });
    await run([{ id: 1, v: 1 }]);
    const { streams } = await run([{ id: 1, gone: true }]);
    expect(streams[0]).toMatchObject({ changed: 1, removed: 0 });
    expect(filesIn(folder)).toHaveLength(2);
  });

  it("keeps what it has delivered in few files, however many runs there were", async () => {
    const { folder, run, rows } = folderOf({}, "append");
    const keptFiles = () =>
      readdirSync(join(folder, "_early_bridge/kept/huts/s")).filter((name) => name.endsWith(".parquet"));
    const all = Array.from({ length: 7 }, (_, id) => ({ id, v: 1 }));
    for (const record of all) await run([record]);
    // of 4, 2 and 1 rows
    expect(keptFiles()).toHaveLength(3);
    const { streams } = await run(all.map(({ id }) => ({ id, v: id === 3 ? 2 : 1 })));
    expect(streams[0]).toMatchObject({ added: 0, changed: 1, unchanged: 6 });
    expect(
      await rows("SELECT count(*)::INTEGER AS n, count(DISTINCT id)::INTEGER AS ids FROM huts.s"),
    ).toEqual([{ n: 8, ids: 7 }]);
    checkManifest(folder);
  });

  it("forgets a stream that begins anew, and no other", async () => {
    const { folder, place, run } = folderOf({ format: "csv" }, "append");
    const { api } = fakeApi({ streams: { t: { get: "/t", key: "id" } } }, () => ({ body: [{ id: 9 }] }));
    const to = filesWarehouse(place, { format: "csv" });
    const other = await bridgeInto(to, api, { name: "other", streams: { t: { write: "append" } } });
    await run([{ id: 1 }]);
    const session = await filesWarehouse(place, { format: "csv" }).open();
    await other.run();
    await session.dropStream({ bridge: "b", stream: "s", schema: "huts" });
    expect(filesIn(folder)).toEqual(["huts/t/t-000002-1.csv"]);
    await other.run();
    await run([{ id: 1 }]);
    await session.close();
    expect(filesIn(folder)).toEqual(["huts/s/s-000004-1.csv", "huts/t/t-000002-1.csv"]);
    checkManifest(folder);
  });

  const newestLedger = (folder: string) => {
    const own = join(folder, "_early_bridge");
    const ledgers = readdirSync(own).filter((name) => name.startsWith("ledger-"));
    return join(own, ledgers.sort().at(-1)!);
  };

  it.each<[string, (ledger: Buffer) => Buffer | string]>([
    ["is damaged", () => "no gzip"],
    ["lacks its end", (ledger) => ledger.subarray(0, -10)],
    ["has another byte", (ledger) => Buffer.from(ledger).fill(0, ledger.length - 40, ledger.length - 30)],
  ])("of which the ledger %s is not used", async (_, damage) => {
    const { folder, run } = folderOf();
    await run([{ id: 1 }]);
    const newest = newestLedger(folder);
    writeFileSync(newest, damage(readFileSync(newest)));
    await expect(run([{ id: 2 }])).rejects.toMatchObject({ code: "WAREHOUSE_NOT_OURS" });
  });

  it("of which the ledger does not say where its parts are goes on", async () => {
    const { folder, run, rows } = folderOf();
    await run([{ id: 1, v: "a" }]);
    const newest = newestLedger(folder);
    const whole = readFileSync(newest);
    const { parts } = JSON.parse(gunzipSync(whole).toString("utf8").split("\n")[0]!).row;
    const all = parts.reduce((sum: number, { bytes }: { bytes: number }) => sum + bytes, 0);
    writeFileSync(newest, whole.subarray(-all));
    expect((await run([{ id: 2, v: "b" }])).streams[0]).toMatchObject({ added: 1 });
    expect(await rows("SELECT id || v AS x FROM huts.s ORDER BY x")).toEqual([{ x: "1a" }, { x: "2b" }]);
    const rewritten = gunzipSync(readFileSync(newestLedger(folder))).toString("utf8");
    expect(rewritten.split("\n")[0]).toContain('"parts":[');
  });
});

/** A place whose nth change fails, and all after it: the process has ended there. */
function endingAt(
  place: StorePlace,
  n: number,
  after: boolean,
): StorePlace & { readonly changes: () => number } {
  let changes = 0;
  const open = async (): Promise<Store> => {
    const store = await place.open();
    const change = async <T>(work: () => Promise<T>): Promise<T> => {
      changes++;
      if (changes === n && after) await work();
      if (changes >= n) throw new BridgeError("FILE_UNWRITABLE", "The process has ended.");
      return work();
    };
    return {
      root: store.root,
      list: (prefix) => store.list(prefix),
      has: (name) => store.has(name),
      fetch: (name, path) => store.fetch(name, path),
      put: (path, name) => change(() => store.put(path, name)),
      putNew: (path, name) => change(() => store.putNew(path, name)),
      move: (from, to) => change(() => store.move(from, to)),
      remove: (name) => change(() => store.remove(name)),
      close: () => store.close(),
    };
  };
  return { ...place, open, changes: () => changes };
}

describe("a process that ends in the middle of a commit", () => {
  const first = [
    { id: 1, v: "a", n: [{ t: 1 }] },
    { id: 2, v: "b" },
  ];
  const second = [
    { id: 2, v: "B" },
    { id: 3, v: "c", n: [{ t: 2 }] },
  ];
  const expected = {
    upsert: ["1a", "2B", "3c"],
    append: ["1a", "2B", "2b", "3c"],
    replace: ["2B", "3c"],
    versions: ["1a", "2B", "2b", "3c"],
  };
  const cases = (["upsert", "append", "replace", "versions"] as const).flatMap((write) =>
    (["parquet", "csv"] as const).map((format) => ({ write, format })),
  );

  it.each(everyNth(cases, 8).filter((_, i) => i % 3 !== 1))(
    "leaves $format files of $write whole, at each of its steps",
    async ({ write, format }) => {
      const name = "{schema}/{table}/{table}-{run}";
      const probe = folderOf({ format, name }, write);
      await probe.run(first);
      const counting = endingAt(probe.place, Number.POSITIVE_INFINITY, false);
      await probe.run(second, filesWarehouse(counting, probe.files));
      const steps = counting.changes();
      expect(steps).toBeGreaterThan(8);
      const stride = tries(24, 5);
      for (let n = 1, turn = 0; n <= steps; n += stride, turn++) {
        const after = turn % 2 === 0;
        const { folder, place, files, run, rows } = folderOf({ format, name }, write);
        await run(first);
        await run(second, filesWarehouse(endingAt(place, n, after), files)).catch(() => {});
        await run(second);
        checkManifest(folder);
        expect(existsSync(join(folder, "_early_bridge/working"))).toBe(false);
        expect(readdirSync(join(folder, "_early_bridge/aside"))).toEqual([]);
        if (format === "parquet")
          expect((await rows("SELECT id || v AS x FROM huts.s ORDER BY x")).map(({ x }) => x)).toEqual(
            expected[write],
          );
      }
    },
  );
});

describe("two processes", () => {
  it("at one folder: the second one is told", async () => {
    const { place, run } = folderOf();
    await run([{ id: 1 }]);
    // another process would find the number taken
    const open = async (): Promise<Store> => {
      const store = await place.open();
      return Object.assign(Object.create(store) as Store, { putNew: async () => false });
    };
    const report = run([{ id: 2 }], filesWarehouse({ ...place, open }, {}));
    await expect(report).rejects.toMatchObject({ code: "WAREHOUSE_LOCKED" });
  });

  it("of which one only reads: it sees the last commit while the other one writes", async () => {
    const { place, run } = folderOf();
    await run([{ id: 1 }]);
    const writing = await filesWarehouse(place, {}).open();
    const reading = await filesWarehouse(place, {}).open({ readOnly: true });
    expect((await reading.ledger.runs({ limit: 5 })).map(({ outcome }) => outcome)).toEqual(["done"]);
    expect(await reading.describeTables("huts")).toMatchObject([{ name: "s", rows: 1 }]);
    await reading.close();
    await writing.close();
  });
});

describe("the demo", () => {
  inLong("goes into a folder as well", async () => {
    const folder = temporaryFolder();
    const { code, stdout } = await command(
      ["demo", "--to", "./handover", "--bookings", "300", "--plain"],
      folder,
    );
    expect([code, stdout]).toEqual([0, expect.stringContaining("── folder handover, schema bookings ──")]);
    checkManifest(join(folder, "handover"));
    expect(
      deliveredTables(join(folder, "handover")).map(({ schema, table }) => `${schema}.${table}`),
    ).toEqual(
      expect.arrayContaining([
        "bookings.bookings",
        "bookings.bookings_guests",
        "stores.items",
        "sensors.readings",
      ]),
    );
  });
});

it("has no tables that stand: a stream into one says so", async () => {
  const api = apiOf({}, () => ({ body: [{ id: 1 }] }));
  const streams = { s: { into: { table: "contacts" } } };
  const bridge = await bridgeInto(folder(join(temporaryFolder(), "handover")), api, { streams });
  const saysSo = { code: "CONFIG_INVALID", message: expect.stringContaining("the warehouse has none") };
  await expect(planBridge(bridge, api)).rejects.toMatchObject(saysSo);
  expect((await bridge.run()).error).toMatchObject(saysSo);
  await expect(planBridge(bridge, api)).rejects.toMatchObject(saysSo);
});
