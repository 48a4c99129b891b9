/** Keys that a DuckDB file declares where its owner wants that: whatever happens to the tables, they hold. */

import { join } from "node:path";
import { describe, expect, it } from "vitest";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import { type BridgeOptions, openBridge } from "../src/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { fakeApi } from "./support/fake-api.js";
import { bookingsService, command, demoProject, temporaryFolder } from "./support/project.js";
import { queryFile } from "./support/truth.js";

type StreamInput = NonNullable<ConnectorInput["streams"]>[string];
type OfStream = NonNullable<BridgeOptions["streams"]>[string];

const PAGE = 2;

/** Runs of a stream into one file; each page is committed by itself. */
function carriedInto(stream: Partial<StreamInput>, of: OfStream = {}) {
  const database = join(temporaryFolder(), "huts.duckdb");
  const whole = { get: "/s", key: "id", pages: { offset: 0, query: "from" }, ...stream } as StreamInput;
  return {
    database,
    async run(records: readonly unknown[], declareKeys = true) {
      const { api } = fakeApi(whole, ({ query }) => {
        const from = Number(query.get("from") ?? 0);
        return { body: records.slice(from, from + PAGE) };
      });
      const bridge = await openBridge({
        ...{ from: api, to: duckdb(database, { declareKeys }), name: "b", schema: "main" },
        ...{ checkpoint: { rows: 1 }, streams: { s: of } },
      });
      const [report] = (await bridge.run()).streams;
      expect(report!.error).toBeUndefined();
    },
  };
}

const keysOf = async (database: string, schema = "main") =>
  (
    await queryFile(
      database,
      `SELECT table_name || ': ' || array_to_string(constraint_column_names, ', ') AS key FROM duckdb_constraints()
       WHERE schema_name = '${schema}' AND constraint_type = 'PRIMARY KEY' ORDER BY ALL`,
    )
  ).map(({ key }) => key);

const rowsOf = (database: string) =>
  queryFile(database, "SELECT id::VARCHAR AS id, beds::VARCHAR AS beds FROM s ORDER BY ALL");

const hut = (id: unknown, beds: unknown, more: object = {}) => ({ id, beds, rooms: [{ no: 1 }], ...more });

describe("a key that is declared", () => {
  it("stands in the stream's own table, and holds while records change, go and come again", async () => {
    const { database, run } = carriedInto({ gone: "has(record.gone)" });
    await run([hut(1, 4), hut(2, 8), hut(3, 2)]);
    expect(await keysOf(database)).toEqual(["s: id"]);
    await run([hut(2, 10), hut(1, 6), { id: 3, gone: true }]);
    await run([hut(3, 3), hut(2, 10)]);
    expect(await rowsOf(database)).toEqual([
      { id: "1", beds: "6" },
      { id: "2", beds: "10" },
      { id: "3", beds: "3" },
    ]);
    expect(await keysOf(database)).toEqual(["s: id"]);
  });

  it("gets a wider type in mid-run, its descriptions kept", async () => {
    const columns = { id: { description: "the hut's number" }, beds: { description: "places to sleep" } };
    const { database, run } = carriedInto({ columns });
    await run([hut(1, 4), hut(2, 8)]);
    await run([hut(1, 5), hut("x", 2), hut(2, "many", { phone: "7" })]);
    expect(await rowsOf(database)).toEqual([
      { id: "1", beds: "5" },
      { id: "2", beds: "many" },
      { id: "x", beds: "2" },
    ]);
    expect(await keysOf(database)).toEqual(["s: id"]);
    const comments = `SELECT comment FROM duckdb_columns() WHERE schema_name = 'main' AND table_name = 's'
      AND column_name IN ('id', 'beds') ORDER BY column_name`;
    expect(await queryFile(database, comments)).toEqual([
      { comment: "places to sleep" },
      { comment: "the hut's number" },
    ]);
  });

  it("of several fields, of a table that is replaced, widens while it is built", async () => {
    const { database, run } = carriedInto({ key: ["id", "beds"] }, { write: "replace" });
    await run([hut(1, 4), hut(2, 8)]);
    await run([hut(1, 4), hut(1, 5), hut("x", 5), hut(1, "many")]);
    expect(await rowsOf(database)).toEqual([
      { id: "1", beds: "4" },
      { id: "1", beds: "5" },
      { id: "1", beds: "many" },
      { id: "x", beds: "5" },
    ]);
    expect(await keysOf(database)).toEqual(["s: id, beds"]);
  });

  it("is none where a record has several rows, or none tells records apart", async () => {
    const versions = carriedInto({}, { write: "versions" });
    await versions.run([hut(1, 4)]);
    await versions.run([hut(1, 5)]);
    const keyless = carriedInto({ key: undefined }, { write: "append" });
    await keyless.run([hut(1, 4), hut(1, 4)]);
    expect([await keysOf(versions.database), await keysOf(keyless.database)]).toEqual([[], []]);
    expect(await rowsOf(keyless.database)).toHaveLength(2);
  });

  it("is no obstacle when it is no longer wanted", async () => {
    const { database, run } = carriedInto({});
    await run([hut(1, 4)]);
    await run([hut(1, 5), hut("x", 2)], false);
    expect(await rowsOf(database)).toEqual([
      { id: "1", beds: "5" },
      { id: "x", beds: "2" },
    ]);
    expect(await keysOf(database)).toEqual([]);
  });
});

describe("in bridges.yaml", () => {
  it("a DuckDB file declares keys, and nothing else is told to", async () => {
    const { url } = await bookingsService({ bookings: 40 });
    const { folder, database, edit } = demoProject(url);
    edit("bridges.yaml", "duckdb: ./huts.duckdb", "duckdb: ./huts.duckdb, declare_keys: true");
    expect((await command(["run", "bookings"], folder)).code).toBe(0);
    expect(await keysOf(database, "bookings")).toContain("bookings: id");
    edit("bridges.yaml", "duckdb: ./huts.duckdb", "folder: ./files");
    const wrong = await command(["run", "bookings"], folder);
    expect(wrong.code).not.toBe(0);
    expect(wrong.stderr).toContain("is for a DuckDB file");
  });
});
