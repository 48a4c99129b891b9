/** What becomes of groups of rows that are not full, in a real file. */

import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { driver } from "./driver.js";
import { openFile } from "./session.js";
import { DUCKDB, tableName } from "./types.js";

/** DuckDB's full group has 122,880. */
const ROWS = 124_000;
const NIGHTS = tableName("huts", "nights");

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

/** The rows of each group. */
async function groups(): Promise<number[]> {
  const instance = await driver.DuckDBInstance.create(":memory:");
  const connection = await instance.connect();
  await connection.run(`ATTACH '${file}' AS f (READ_ONLY)`);
  try {
    const rows = await connection.runAndReadAll(
      `SELECT sum(count)::INTEGER AS rows FROM pragma_storage_info('f.huts.nights')
       WHERE column_name = 'id' AND segment_type <> 'VALIDITY' GROUP BY row_group_id ORDER BY row_group_id`,
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

  it("stay where the ledger alone deletes", async () => {
    await loadAnd(
      `INSERT INTO ${tableName("early_bridge", "cursors")} (bridge, stream, part) VALUES ('huts', 'nights', '')`,
      `DELETE FROM ${tableName("early_bridge", "cursors")}`,
    );
    expect(await groups()).toHaveLength(6);
  });
});
