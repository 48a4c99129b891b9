/** Where files are kept: a folder, a bucket of an object store, a folder on an SFTP server; one as the other. */

import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import S3rver from "s3rver";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { localFolder } from "../src/warehouse/files/local-folder.js";
import { bucketPlace } from "../src/warehouse/files/s3.js";
import { filesWarehouse } from "../src/warehouse/files/session.js";
import { serverPlace } from "../src/warehouse/files/sftp.js";
import type { Store, StorePlace } from "../src/warehouse/files/store.js";
import { apiOf, bridgeInto } from "./support/carry.js";
import { deliveredTables, filesIn, readFolder } from "./support/files.js";
import { isLong } from "./support/long.js";
import { hasSshd, startSshd } from "./support/own-sshd.js";
import { queryFile } from "./support/truth.js";
import { watchedWay } from "./support/watched-way.js";

const scratch = mkdtempSync(join(tmpdir(), "early-bridge-stores-"));
const stops: (() => Promise<unknown>)[] = [];
let sshd: Awaited<ReturnType<typeof startSshd>>;
let endpoint: string;

beforeAll(async () => {
  const objects = new S3rver({
    ...{ port: 0, address: "127.0.0.1", silent: true },
    directory: join(scratch, "objects"),
    configureBuckets: [{ name: "huts" }],
  });
  endpoint = `http://127.0.0.1:${(await objects.run()).port}`;
  stops.push(() => objects.close());
  if (!hasSshd && !isLong) return;
  sshd = await startSshd();
  stops.push(sshd.stop);
});
afterAll(async () => {
  for (const stop of stops) await stop();
  rmSync(scratch, { recursive: true, force: true });
});

const KEYS = { key_id: "S3RVER", secret: "S3RVER" };
const PLACES: Readonly<Record<string, (name: string) => StorePlace>> = {
  "a folder": (name) => localFolder(join(scratch, name)),
  "a bucket": (name) => bucketPlace(`s3://huts/${name}`, { endpoint, ...KEYS }),
  "an SFTP server": (name) => serverPlace(`${sshd.url}/${name}`, sshd),
};

/** A file of this machine with a text. */
const file = (text: string) => {
  const path = join(scratch, `file-${Math.random()}`);
  writeFileSync(path, text);
  return path;
};

async function textOf(store: Store, name: string): Promise<string> {
  const path = join(scratch, `fetched-${Math.random()}`);
  await store.fetch(name, path);
  return readFileSync(path, "utf8");
}

/** All that readers of a place would see, in a folder of this machine. */
async function fetched(place: StorePlace): Promise<string> {
  const store = await place.open();
  const folder = join(scratch, `copy-${Math.random()}`);
  for (const { name } of await store.list("")) {
    mkdirSync(join(folder, name, ".."), { recursive: true });
    await store.fetch(name, join(folder, name));
  }
  await store.close();
  return folder;
}

describe.each(Object.keys(PLACES))("%s", (title) => {
  const skips = title === "an SFTP server" && !hasSshd && !isLong;
  const place = (name: string) => PLACES[title]!(name);

  it.skipIf(skips)("puts, lists, moves and removes files, and takes a new name once", async () => {
    const store = await place("a b/ü").open();
    expect(await store.list("")).toEqual([]);
    await store.put(file("one"), "x/y z/ä.txt");
    await store.put(file("two!"), "x/y z/ä.txt");
    expect(await store.has("x/y z/ä.txt")).toBe(true);
    expect(await store.has("x/y z/b.txt")).toBe(false);
    expect(await textOf(store, "x/y z/ä.txt")).toBe("two!");
    expect([await store.putNew(file("1"), "n/1"), await store.putNew(file("2"), "n/1")]).toEqual([
      true,
      false,
    ]);
    expect(await textOf(store, "n/1")).toBe("1");
    await store.move("n/1", "x/y z/ä.txt");
    await store.put(file(""), "x2/empty");
    expect((await store.list("x")).sort((a, b) => (a.name < b.name ? -1 : 1))).toEqual([
      { name: "x/y z/ä.txt", bytes: 1 },
      { name: "x2/empty", bytes: 0 },
    ]);
    expect((await store.list("x/")).map(({ name }) => name)).toEqual(["x/y z/ä.txt"]);
    await store.remove("x/y z/ä.txt");
    await store.remove("x/y z/ä.txt");
    await store.remove("x2/empty");
    expect(await store.list("")).toEqual([]);
    await store.close();
  });

  it.skipIf(skips)("moves again what was moved already, as after a process that ended", async () => {
    const store = await place("again").open();
    await store.put(file("one"), "a");
    await store.move("a", "b");
    if (title !== "a folder") await store.move("a", "b");
    await expect(store.move("nothing", "nowhere")).rejects.toThrow();
    expect(await textOf(store, "b")).toBe("one");
    await store.close();
  });

  it.skipIf(skips)("takes the tables of a bridge, run after run", async () => {
    const at = place("bridge");
    const carry = async (records: readonly unknown[]) => {
      const bridge = await bridgeInto(
        filesWarehouse(at, {}),
        apiOf({}, () => ({ body: records })),
      );
      return (await bridge.run()).streams[0]!;
    };
    expect(
      await carry([
        { id: 1, v: "a", notes: [{ t: 1 }] },
        { id: 2, v: "b" },
      ]),
    ).toMatchObject({ added: 2 });
    expect(
      await carry([
        { id: 2, v: "B" },
        { id: 3, v: "c" },
      ]),
    ).toMatchObject({ added: 1, changed: 1 });
    const folder = await fetched(at);
    expect(filesIn(folder)).toEqual(["huts/s/s.parquet", "huts/s_notes/s_notes.parquet"]);
    expect(
      deliveredTables(folder)
        .map(({ table }) => table)
        .sort(),
    ).toEqual(["s", "s_notes"]);
    const path = join(scratch, "read.duckdb");
    await readFolder(folder, path);
    expect(await queryFile(path, "SELECT string_agg(id || v, ' ' ORDER BY id) AS all FROM huts.s")).toEqual([
      { all: "1a 2B 3c" },
    ]);
  });

  it.skipIf(skips)("is tried by probe, and leaves nothing there", async () => {
    const at = place("probed");
    const session = await filesWarehouse(at, { format: "csv" }).open();
    expect((await session.about()).program).toMatch(/^CSV files by DuckDB \d/);
    await session.tryWriting("huts");
    await session.close();
    expect((await fetchedNames(at)).filter((name) => !name.includes("/ledger-"))).toEqual([]);
  });
});

async function fetchedNames(place: StorePlace): Promise<string[]> {
  const store = await place.open();
  const names = (await store.list("")).map(({ name }) => name);
  await store.close();
  return names;
}

describe("an SFTP server", () => {
  it.skipIf(!hasSshd && !isLong)(
    "whose key is not known is told of with its fingerprint, and gets nothing",
    async () => {
      const unknown = serverPlace(sshd.url, { ...sshd, host_key: undefined } as never).open();
      await expect(unknown).rejects.toMatchObject({
        code: "HOST_KEY_UNKNOWN",
        hint: expect.stringContaining(`sftp: { host_key: "${sshd.host_key}" }`),
      });
      const other = serverPlace(sshd.url, { ...sshd, host_key: `${sshd.host_key.slice(0, -2)}xx` }).open();
      await expect(other).rejects.toMatchObject({
        code: "HOST_KEY_UNKNOWN",
        message: `The SFTP server 127.0.0.1 shows another key than the one that is known: ${sshd.host_key}.`,
      });
    },
  );

  it.skipIf(!hasSshd && !isLong)("that refuses the user, or is not there, says so", async () => {
    const url = new URL(sshd.url);
    url.password = "wrong-password";
    const { host_key } = sshd;
    await expect(serverPlace(String(url), { host_key }).open()).rejects.toMatchObject({
      code: "WAREHOUSE_UNREACHABLE",
      message: "The SFTP server 127.0.0.1 cannot be reached: it refuses the user's password or key.",
    });
    url.port = "1";
    await expect(serverPlace(String(url), { host_key }).open()).rejects.toMatchObject({
      message: expect.stringContaining("ECONNREFUSED"),
    });
  });
});

describe("an SFTP server that goes away", () => {
  it.skipIf(!hasSshd && !isLong)("in mid-run is told of; what was committed stands", async () => {
    const way = await watchedWay(`${sshd.url}/gone`);
    const session = await filesWarehouse(serverPlace(way.url, sshd), {}).open();
    expect(await session.ledger.startRun({ bridge: "b", startedAtMs: 0 })).toBe(1);
    way.cut();
    const end = { run: 1, outcome: "done", endedAtMs: 1, streams: [] } as const;
    const ended = session.ledger.endRun({ ...end, spent: { account: "a", byGroup: new Map() } });
    await expect(ended).rejects.toMatchObject({ code: "WAREHOUSE_UNREACHABLE" });
    await session.close();
    way.close();
    const again = await filesWarehouse(serverPlace(`${sshd.url}/gone`, sshd), {}).open();
    expect(await again.ledger.startRun({ bridge: "b", startedAtMs: 2 })).toBe(2);
    expect((await again.ledger.runs({ limit: 2 })).map(({ outcome }) => outcome)).toEqual([
      "running",
      "broken_off",
    ]);
    await again.close();
  });
});

describe("a bucket", () => {
  it("that is not there, or whose server is not, says so", async () => {
    const missing = bucketPlace("s3://nowhere/x", { endpoint, ...KEYS });
    await expect((await missing.open()).list("")).rejects.toMatchObject({
      code: "WAREHOUSE_UNREACHABLE",
      message: expect.stringContaining("404 NoSuchBucket"),
    });
    const away = bucketPlace("s3://huts/x", { endpoint: "http://127.0.0.1:1", ...KEYS });
    await expect((await away.open()).list("")).rejects.toMatchObject({ code: "WAREHOUSE_UNREACHABLE" });
  });
});
