/** What becomes of groups of rows that are not full, in a real file. */

import { mkdtempSync, rmSync, statSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { driver } from "./driver.js";
import { rowsOfGroup } from "./row-groups.js";
import { openFile } from "./session.js";
import { STAGE_SIZES } from "./stage-sizes.js";
import { DUCKDB, tableName } from "./types.js";

/** DuckDB's full group has 122,880. */
const ROWS = 124_000;
const NIGHTS = tableName("huts", "nights");
const CHECKPOINT_OF = (run: number) =>
  `INSERT INTO ${tableName("early_bridge", "checkpoints")} (run, bridge, stream, number, committed_at, "rows")
   VALUES (${run}, 'huts', 'nights', 1, now(), 0)`;

let folder: string;
let file: string;

beforeEach(() => {
  folder = mkdtempSync(join(tmpdir(), "early-bridge-row-groups-"));
  file = join(folder, "huts.duckdb");
});

afterEach(() => rmSync(folder, { recursive: true }));

/** Three loads, each of a full group and a little one, then what else is to be done, until the file is closed. */
async function loadAnd(...statements: string[]): Promise<void> {
  const session = await openFile(file, {});
  await session.onFile(async (on) => {
    await on.run(DUCKDB.makeSchema("huts"));
    await on.run(`CREATE TABLE ${NIGHTS} (id BIGINT, price BIGINT)`);
    for (const from of [0, ROWS, 2 * ROWS])
      await on.run(
        `INSERT INTO ${NIGHTS} SELECT range, hash(range) % 10_000 FROM range(${from}, ${from + ROWS})`,
      );
    for (const statement of statements) await on.run(statement);
  });
  await session.close();
}

/** The file, opened for a little, as by each run. */
async function openAnd(...statements: string[]): Promise<void> {
  const session = await openFile(file, {});
  await session.onFile(async (on) => {
    for (const statement of statements) await on.run(statement);
  });
  await session.close();
}

/** The rows of each group. */
async function groups(table = "huts.nights", column = "id"): Promise<number[]> {
  const instance = await driver.DuckDBInstance.create(":memory:");
  const connection = await instance.connect();
  await connection.run(`ATTACH '${file}' AS f (READ_ONLY)`);
  try {
    const rows = await connection.runAndReadAll(
      `SELECT sum(count)::INTEGER AS rows FROM pragma_storage_info('f.${table}')
       WHERE column_name = '${column}' AND segment_type <> 'VALIDITY' GROUP BY row_group_id ORDER BY row_group_id`,
    );
    return rows.getRowObjects().map((row) => Number(row.rows));
  } finally {
    connection.closeSync();
    instance.closeSync();
  }
}

describe("groups of rows that are not full", () => {
  it("stay as they came, not to be packed twice", async () => {
    await loadAnd();
    expect(await groups()).toEqual([122_880, 1_120, 122_880, 1_120, 122_880, 1_120]);
  });

  it("are put together where rows were deleted", async () => {
    await loadAnd(`DELETE FROM ${NIGHTS} WHERE id % 2 = 0`);
    const left = await groups();
    expect(left.length).toBeLessThan(6);
    // the deleted ones are gone with it
    expect(left.reduce((sum, rows) => sum + rows, 0)).toBeLessThan(3 * ROWS);
  });

  it("are not put together for a few rows that are deleted", async () => {
    await loadAnd(`DELETE FROM ${NIGHTS} WHERE id < 100`);
    expect(await groups()).toHaveLength(6);
  });

  it("are put together run by run, a few of them each time", async () => {
    await loadAnd();
    await openAnd(CHECKPOINT_OF(1));
    expect(await groups()).toEqual([122_880, 122_880, 2_240, 122_880, 1_120]);
  });

  it("do not grow in number with runs of few rows", async () => {
    await openAnd(DUCKDB.makeSchema("huts"), `CREATE TABLE ${NIGHTS} (id BIGINT)`);
    for (let run = 0; run < 20; run++)
      await openAnd(`INSERT INTO ${NIGHTS} VALUES (${run})`, CHECKPOINT_OF(run));
    expect(await groups()).toEqual([20]);
    expect(await groups("early_bridge.checkpoints", "run")).toEqual([20]);
    expect(statSync(file).size).toBeLessThan(4 * 1024 * 1024);
  });

  it("do not grow in number in the ledger with runs of many rows", async () => {
    await openAnd(DUCKDB.makeSchema("huts"), `CREATE TABLE ${NIGHTS} (id BIGINT)`);
    const many = `INSERT INTO ${NIGHTS} SELECT range FROM range(${ROWS})`;
    for (let run = 0; run < 24; run++) await openAnd(many, CHECKPOINT_OF(run));
    expect((await groups("early_bridge.checkpoints", "run")).length).toBeLessThan(10);
  });

  it("stay where the ledger alone deletes", async () => {
    await loadAnd(
      `INSERT INTO ${tableName("early_bridge", "cursors")} (bridge, stream, part) VALUES ('huts', 'nights', '')`,
      `DELETE FROM ${tableName("early_bridge", "cursors")}`,
    );
    expect(await groups()).toHaveLength(6);
  });
});

describe("groups of long rows", () => {
  const usual = { ...STAGE_SIZES };

  beforeEach(() => {
    STAGE_SIZES.groupBytes = 4 * 1024 * 1024;
  });

  afterEach(() => {
    Object.assign(STAGE_SIZES, usual);
  });

  const text = (signs: number) =>
    `array_to_string([md5((range * 1000 + i)::VARCHAR) FOR i IN range(${signs / 32})], '')`;
  const insert = (from: number, count: number, signs: number) =>
    `INSERT INTO ${NIGHTS} SELECT range, ${text(signs)} FROM range(${from}, ${from + count})`;

  /** A file that somebody else has made, each insertion a group of its own. */
  async function madeElsewhere(...statements: string[]): Promise<void> {
    const instance = await driver.DuckDBInstance.create(":memory:");
    const connection = await instance.connect();
    await connection.run("SET max_vacuum_tasks = 0");
    await connection.run(`ATTACH '${file}' AS eb_file`);
    await connection.run(DUCKDB.makeSchema("huts"));
    await connection.run(`CREATE TABLE ${NIGHTS} (id BIGINT, note VARCHAR)`);
    for (const statement of statements) {
      await connection.run(statement);
      await connection.run("CHECKPOINT eb_file");
    }
    connection.closeSync();
    instance.closeSync();
  }

  it("have as many rows as have room, in whole vectors", () => {
    STAGE_SIZES.groupBytes = 16 * 1024 * 1024;
    expect([0, 20, 136].map(rowsOfGroup)).toEqual([122_880, 122_880, 122_880]);
    expect([140, 300, 1000].map(rowsOfGroup)).toEqual([118_784, 55_296, 16_384]);
    // and no fewer than narrow tables of the same file can do with
    expect([3000, 5000, 330_000].map(rowsOfGroup)).toEqual([4096, 4096, 4096]);
  });

  it("stay as they come from the first one on, where they come in number", async () => {
    const session = await openFile(file, {});
    await session.onFile(async (on) => {
      await on.run(DUCKDB.makeSchema("huts"));
      await on.run(`CREATE TABLE ${NIGHTS} (id BIGINT, note VARCHAR)`);
      for (let n = 0; n < 4; n++) {
        session.groups.come(2 * STAGE_SIZES.groupBytes);
        await on.run(insert(n * 3000, 3000, 2048));
        await on.run("CHECKPOINT eb_file");
      }
    });
    await session.close();
    expect(await groups()).toEqual([3000, 3000, 3000, 3000]);
  });

  it("are put together up to the size that suits the file's rows", async () => {
    await madeElsewhere(...Array.from({ length: 12 }, (_, n) => insert(n * 2000, 2000, 800)));
    expect(await groups()).toHaveLength(12);
    for (let run = 0; run < 12; run++) await openAnd(CHECKPOINT_OF(run));
    const left = await groups();
    // they take half the room, or somewhat more: they are hexadecimal digits
    expect([4096, 6144, 8192]).toContain(Math.max(...left));
    expect(left.reduce((sum, rows) => sum + rows, 0)).toBe(24_000);
    expect(left.length).toBeLessThan(9);
  });

  it("stay as they are where even the smallest would be too large, and the ledger's are put together", async () => {
    await madeElsewhere(...Array.from({ length: 4 }, (_, n) => insert(n * 300, 300, 20_000)));
    for (let run = 0; run < 24; run++) await openAnd(CHECKPOINT_OF(run));
    expect(await groups()).toEqual([300, 300, 300, 300]);
    const ledger = await groups("early_bridge.checkpoints", "run");
    expect(ledger.reduce((sum, rows) => sum + rows, 0)).toBe(24);
    expect(ledger.length).toBeLessThan(22);
    await openAnd(`DELETE FROM ${NIGHTS} WHERE id < 600`);
    expect(await groups()).toEqual([300, 300]);
  });
});
