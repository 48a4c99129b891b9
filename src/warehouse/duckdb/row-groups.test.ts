/** What becomes of groups of rows that are not full, in a real file. */

import { mkdtempSync, rmSync, statSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { driver } from "./driver.js";
import { openFile } from "./session.js";
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
