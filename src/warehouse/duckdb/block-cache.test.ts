/** What DuckDB keeps in memory of its file, against a real one. */

import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir, totalmem } from "node:os";
import { join } from "node:path";
import type { DuckDBConnection, DuckDBInstance } from "@duckdb/node-api";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { BlockCache, memoryLimit, memoryShare } from "./block-cache.js";
import { driver } from "./driver.js";
import { openFile } from "./session.js";

let folder: string;
let instance: DuckDBInstance;
let connection: DuckDBConnection;

beforeEach(async () => {
  folder = mkdtempSync(join(tmpdir(), "early-bridge-blocks-"));
  instance = await driver.DuckDBInstance.create(":memory:");
  connection = await instance.connect();
  await connection.run("SET threads = 1");
  await connection.run(`ATTACH '${join(folder, "huts.duckdb")}' AS f`);
});

afterEach(() => {
  connection.closeSync();
  instance.closeSync();
  rmSync(folder, { recursive: true });
});

async function heldBytes(): Promise<number> {
  const rows = await connection.runAndReadAll(
    "SELECT sum(memory_usage_bytes)::DOUBLE AS held FROM duckdb_memory()",
  );
  return Number(rows.getRowObjects()[0]?.held);
}

describe("DuckDB's memory", () => {
  it("is half of what the process has, at most", async () => {
    const session = await openFile(join(folder, "half.duckdb"), {});
    const [row] = await session.onFile((on) => on.rows("SELECT current_setting('memory_limit') AS told"));
    await session.close();
    const [, figure, unit] = /^([\d.]+) (\w+)$/.exec(String(row?.told))!;
    const bytes = Number(figure) * 1024 ** ["bytes", "KiB", "MiB", "GiB", "TiB"].indexOf(unit!);
    // it is told to a tenth
    expect(Math.abs(bytes / memoryShare() - 1)).toBeLessThan(0.06);
    expect(memoryShare()).toBeLessThanOrEqual(totalmem() / 2);
  });
});

describe("blocks of the file", () => {
  it("are given back, and the limit that holds is the usual one again", async () => {
    const usual = await memoryLimit(connection);
    const cache = new BlockCache(connection);
    // texts that cannot be packed, read again: they stand in memory then
    await connection.run(
      "CREATE TABLE f.rooms AS SELECT repeat(md5(range::VARCHAR), 4) AS text FROM range(1_000_000)",
    );
    await connection.run("SELECT max(length(text)), max(text) FROM f.rooms");
    expect(await heldBytes()).toBeGreaterThan(66_000_000);
    await cache.trim();
    expect(await heldBytes()).toBeLessThan(64_000_000);
    // it is told to a tenth
    const [before, after] = [usual, await memoryLimit(connection)].map(Number.parseFloat);
    expect(Math.abs(after! - before!)).toBeLessThan(0.15);
    // a group of rows so wide needs more than may stay
    const columns = Array.from(
      { length: 120 },
      (_, i) => `md5((range * ${i + 1})::VARCHAR) || range AS c${i}`,
    );
    await connection.run(`CREATE TABLE f.wide AS SELECT ${columns.join(", ")} FROM range(20_000)`);
    await connection.run("CHECKPOINT f");
    const [row] = (
      await connection.runAndReadAll("SELECT count(*)::INTEGER AS n FROM f.wide")
    ).getRowObjects();
    expect(row?.n).toBe(20_000);
  });

  it("are given back alone: rows that wait in memory stay there", async () => {
    await connection.run(
      "CREATE TABLE waiting AS SELECT repeat('x', 100) || range AS text FROM range(400_000)",
    );
    await connection.run(
      "CREATE TABLE f.rooms AS SELECT repeat(md5(range::VARCHAR), 4) AS text FROM range(200_000)",
    );
    await connection.run("SELECT max(text) FROM f.rooms");
    await new BlockCache(connection).trim();
    const rows = await connection.runAndReadAll(
      `SELECT tag, memory_usage_bytes::DOUBLE AS held, temporary_storage_bytes::DOUBLE AS written
       FROM duckdb_memory() WHERE tag IN ('BASE_TABLE', 'IN_MEMORY_TABLE')`,
    );
    const byTag = new Map(rows.getRowObjects().map(({ tag, ...bytes }) => [tag, bytes]));
    expect(byTag.get("IN_MEMORY_TABLE")?.held).toBeGreaterThan(40_000_000);
    expect(byTag.get("IN_MEMORY_TABLE")?.written).toBe(0);
    expect(byTag.get("BASE_TABLE")?.held).toBeLessThan(10_000_000);
  });

  it("stay while work is under way that needs memory", async () => {
    const cache = new BlockCache(connection);
    const seen: string[] = [];
    await cache.during(async () => {
      await cache.trim();
      seen.push(await memoryLimit(connection));
    });
    expect(seen).toEqual([await memoryLimit(connection)]);
  });
});
