/** Cells of the ledger reach a DuckDB file as they are, whichever way they take. */

import { DuckDBInstance } from "@duckdb/node-api";
import fc from "fast-check";
import { expect, it } from "vitest";
import { DUCKDB } from "../src/warehouse/duckdb/types.js";
import { tries } from "./support/long.js";
import { whenDone } from "./support/when-done.js";

const text = fc.oneof(
  fc.string({ unit: "grapheme" }),
  fc.constantFrom(
    "'",
    "''; DROP TABLE t; --",
    "$1",
    "\\'",
    "a\0b",
    "\n",
    "E'\\x'",
    "é😀",
    "x".repeat(70_000),
  ),
);
const row = fc.tuple(fc.option(text), fc.option(text), fc.option(fc.maxSafeInteger()));

it("few cells and many, with any signs in them", async () => {
  const instance = await DuckDBInstance.create(":memory:");
  const connection = await instance.connect();
  whenDone(() => instance.closeSync());
  whenDone(() => connection.closeSync());
  await connection.run("CREATE TABLE t (a VARCHAR, b VARCHAR, n BIGINT)");
  await fc.assert(
    fc.asyncProperty(
      fc.array(row, { minLength: 1, maxLength: 3 }),
      fc.constantFrom(1, 200),
      async (rows, times) => {
        const all = Array.from({ length: times }, () => rows).flat();
        for (const { query, values } of DUCKDB.ledger.rowsOf(all))
          await connection.run(`INSERT INTO t ${query}`, [...values]);
        const stored = (
          await connection.runAndReadAll("SELECT a, b, n::VARCHAR FROM t ORDER BY rowid")
        ).getRows();
        expect(stored).toEqual(all.map(([a, b, n]) => [a, b, n === null ? null : String(n)]));
        await connection.run("TRUNCATE TABLE t");
      },
    ),
    { numRuns: tries(20, 60) },
  );
});
