/** Parquet files of ours, as two others read them: DuckDB, and a reader in JavaScript. */

import { existsSync, mkdirSync, readdirSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import fc from "fast-check";
import { parquetReadObjects } from "hyparquet";
import { describe, expect, it } from "vitest";
import { batchValue } from "../src/core/shape/batch-rows.js";
import type { ColumnType } from "../src/core/shape/column-type.js";
import { encodeColumn } from "../src/core/shape/encode.js";
import {
  type ParquetColumn,
  ParquetFile,
  type RowBatch,
  RowGroup,
} from "../src/warehouse/parquet/parquet.js";
import { bridgeInto } from "./support/carried.js";
import { fakeApi } from "./support/fake-api.js";
import { valueSql } from "./support/filled-tables.js";
import { tries } from "./support/long.js";
import { temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";

const texts = fc.oneof(
  fc.string({ unit: "grapheme" }),
  fc.string({ minLength: 30 }),
  fc.constantFrom("", "é", "😀", "\0"),
);
const digits = (most: number) =>
  fc.bigInt({ min: -(10n ** BigInt(most)) + 1n, max: 10n ** BigInt(most) - 1n });
const decimal = (precision: number, scale: number) => ({
  type: { kind: "decimal", precision, scale } as const,
  values: digits(precision).map((n) => `${n}e-${scale}`),
});
const instant = fc.date({ noInvalidDate: true, min: new Date(-2e14), max: new Date(2e14) });

/** Each type with values that it can hold. */
const TYPES: readonly { readonly type: ColumnType; readonly values: fc.Arbitrary<unknown> }[] = [
  { type: { kind: "boolean" }, values: fc.boolean() },
  { type: { kind: "int64" }, values: fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n - 1n }) },
  {
    type: { kind: "float64" },
    values: fc.double({ noNaN: true }).map((n) => (Number.isFinite(n) ? n : "INF")),
  },
  decimal(4, 2),
  decimal(18, 4),
  decimal(38, 10),
  { type: { kind: "text" }, values: texts },
  {
    type: { kind: "json" },
    values: fc
      .json()
      .map((text) => JSON.parse(text) as unknown)
      .filter((v) => v !== null),
  },
  { type: { kind: "bytes" }, values: fc.uint8Array().map((bytes) => Buffer.from(bytes).toString("base64")) },
  { type: { kind: "date" }, values: instant.map((date) => date.toISOString().slice(0, 10)) },
  { type: { kind: "timestamp" }, values: instant.map((date) => date.toISOString()) },
  { type: { kind: "local_timestamp" }, values: instant.map((date) => date.toISOString().slice(0, -1)) },
  { type: { kind: "uuid" }, values: fc.uuid() },
];

const columns: readonly ParquetColumn[] = TYPES.map(({ type }, i) => ({ name: `c${i}`, type }));

/** Pages of rows, the columns of each encoded; now and then a column is missing. */
const pages = fc.array(
  fc.nat({ max: 40 }).chain((rows) =>
    fc.tuple(
      fc.constant(rows),
      fc.tuple(
        ...TYPES.map(({ values }) =>
          fc.option(fc.array(fc.option(values, { freq: 4 }), { minLength: rows, maxLength: rows }), {
            freq: 8,
          }),
        ),
      ),
    ),
  ),
  { minLength: 1, maxLength: 6 },
);

const plain = (value: unknown) => (typeof value === "bigint" ? String(value) : value);

describe("a Parquet file", () => {
  it("holds every value of every type, as others read it", async () => {
    const path = join(temporaryFolder(), "rows.parquet");
    await fc.assert(
      fc.asyncProperty(
        pages,
        fc.integer({ min: 1, max: 30 }),
        fc.nat({ max: 3 }),
        async (made, most, beside) => {
          const groups = [new RowGroup(columns)];
          const expected: unknown[][] = [];
          const waiting: RowBatch[] = [];
          for (const [rows, values] of made) {
            if (groups.at(-1)!.rows >= most) groups.push(new RowGroup(columns));
            const batches = columns.map(({ name, type }, i) => {
              const own = values[i];
              return own === null || own === undefined
                ? undefined
                : encodeColumn(name, type, own, rows).column;
            });
            waiting.push({ columns: batches, rows });
            if (waiting.length > beside) groups.at(-1)!.add(waiting.splice(0));
            for (let row = 0; row < rows; row++)
              expected.push(
                batches.map((batch) => (batch === undefined ? null : plain(batchValue(batch, row)))),
              );
          }
          if (waiting.length > 0) groups.at(-1)!.add(waiting);
          const form = new ParquetFile(columns);
          const inside = groups.flatMap((group) => form.group(group));
          const file = Buffer.concat([...inside, ...form.end()]);
          writeFileSync(path, file);
          const cells = columns.map(({ name, type }) =>
            type.kind === "bytes" ? `base64(${name}) AS ${name}` : `${valueSql(name, type)} AS ${name}`,
          );
          const read = await queryFile(":memory:", `SELECT ${cells.join(", ")} FROM read_parquet('${path}')`);
          const seen = read.map((row) => columns.map(({ name, type }) => shown(row[name], type)));
          expect(seen).toEqual(expected.map((row) => row.map((value, i) => shown(value, columns[i]!.type))));
          const other = await parquetReadObjects({
            file: file.buffer.slice(file.byteOffset, file.byteOffset + file.length),
          });
          expect(other).toHaveLength(expected.length);
          for (const i of [0, 1, 2, 6])
            expect(other.map((row) => plain(row[`c${i}`]))).toEqual(expected.map((row) => row[i]));
        },
      ),
      { numRuns: tries(15, 60) },
    );
  });
});

describe("files of rows on their way", () => {
  it("are private, gone after the run, and what a killed process has left goes when the file is opened next", async () => {
    const folder = temporaryFolder();
    const waiting = join(folder, ".early-bridge-temporary");
    mkdirSync(waiting, { mode: 0o700 });
    const left = join(waiting, "a.duckdb-rows-0123456789abcdef.parquet");
    const another = join(waiting, "b.duckdb-rows-0123456789abcdef.parquet");
    for (const path of [left, another]) writeFileSync(path, "half written");
    // and what DuckDB itself had no room for
    const spilled = join(waiting, "a.duckdb-spilled");
    mkdirSync(spilled);
    writeFileSync(join(spilled, "duckdb_temp_block-7.block"), "half written");
    const seen = new Set<string>();
    const look = () => {
      for (const name of readdirSync(waiting)) {
        seen.add(name);
        expect(statSync(join(waiting, name)).mode & 0o077, name).toBe(name.startsWith("b.") ? 0o044 : 0);
      }
    };
    const fake = fakeApi({ streams: { s: { get: "/s", key: "id" } } }, () => ({
      body: Array.from({ length: 1500 }, (_, id) => ({ id, name: "x".repeat(20_000) })),
    }));
    const path = join(folder, "a.duckdb");
    const bridge = await bridgeInto(path, fake.api);
    const report = await bridge.run({ onEvent: look });
    expect(report).toMatchObject({ outcome: "done", error: undefined });
    expect(existsSync(left)).toBe(false);
    expect(seen).toContain("a.duckdb-spilled");
    expect([...seen].some((name) => name.startsWith("a.duckdb-rows-"))).toBe(true);
    expect(readdirSync(waiting)).toEqual(["b.duckdb-rows-0123456789abcdef.parquet"]);
    const [count] = await queryFile(
      path,
      "SELECT count(*)::INTEGER AS n, min(length(name))::INTEGER AS l FROM s",
    );
    expect(count).toEqual({ n: 1500, l: 20_000 });
  });

  it("are written sooner where few records are long", async () => {
    const folder = temporaryFolder();
    let files: readonly string[] = [];
    const stream = { get: "/s", key: "id", pages: { number: 1, query: "page" } } as const;
    const fake = fakeApi({ streams: { s: stream } }, ({ query }) => {
      const page = Number(query.get("page"));
      if (page === 9) files = readdirSync(join(folder, ".early-bridge-temporary"));
      return { body: page < 9 ? [{ id: page, text: "é".repeat(700_000) }] : [] };
    });
    const path = join(folder, "a.duckdb");
    expect(await (await bridgeInto(path, fake.api)).run()).toMatchObject({ outcome: "done" });
    expect(files.some((name) => name.startsWith("a.duckdb-rows-"))).toBe(true);
    const rows = await queryFile(
      path,
      "SELECT count(*)::INTEGER AS n, sum(length(text))::INTEGER AS l FROM s",
    );
    expect(rows).toEqual([{ n: 8, l: 5_600_000 }]);
  });
});

/** Times without the zeros at their end, bytes in one alphabet: one form for what is equal. */
function shown(value: unknown, { kind }: ColumnType): unknown {
  if (kind === "float64" && value !== null) return Number(value);
  if (typeof value !== "string") return value;
  if (kind === "timestamp" || kind === "local_timestamp")
    return value.replace(/\.0+(Z?)$|(\.\d+?)0+(Z?)$/, "$2$1$3");
  return kind === "json" ? (JSON.parse(value) as unknown) : value;
}
