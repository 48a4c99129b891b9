/** A ledger that an older version wrote: brought up to date in place, step by step, with nothing lost. */

import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { describe, expect, it } from "vitest";
import { openBridge } from "../src/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { fakeApi } from "./support/fake-api.js";
import { temporaryFolder } from "./support/project.js";
import { changeFile, queryFile } from "./support/truth.js";

/** Written by version 0.1.0: two runs of one stream, with child rows, a quarantined record and a widened column. */
const OLD_FILE = "test/data/ledger-of-0.1.0.duckdb.gz";

function oldFile(): string {
  const path = join(temporaryFolder(), "old.duckdb");
  writeFileSync(path, gunzipSync(readFileSync(OLD_FILE)));
  return path;
}

async function runOn(path: string) {
  const stream = { get: "/stays", key: "id", cursor: { field: "at", query: "since" } } as const;
  const fake = fakeApi({ streams: { stays: stream } }, () => ({
    body: [
      { id: 3, at: "2026-10-04T00:00:00Z", beds: 4 },
      { id: 4, at: "2026-10-05T00:00:00Z", beds: 5 },
    ],
  }));
  const report = await (
    await openBridge({ from: fake.api, to: duckdb(path), name: "stays", schema: "stays" })
  ).run();
  return { report, asked: fake.log.map(({ query }) => query.get("since")) };
}

/** The names and types of all tables and columns of the ledger. */
const form = async (path: string) =>
  queryFile(
    path,
    `SELECT table_name, column_name, data_type FROM information_schema.columns
     WHERE table_schema = 'early_bridge' ORDER BY ALL`,
  );

describe("the ledger of an older version", () => {
  it("is brought up to date, and its cursor goes on where it stood", async () => {
    const path = oldFile();
    const { report, asked } = await runOn(path);
    expect(report).toMatchObject({ run: 3, outcome: "done", streams: [{ added: 1, unchanged: 1 }] });
    expect(asked).toEqual(["2026-10-03T23:59:59Z"]);
    const fresh = join(temporaryFolder(), "fresh.duckdb");
    await runOn(fresh);
    expect(await form(path)).toEqual(await form(fresh));
    const session = await duckdb(path).open({ readOnly: true });
    const [, second, first] = await session.ledger.runs({ limit: 10 });
    expect(first).toMatchObject({ outcome: "done", streams: [{ added: 2, quarantined: 1, unchanged: 0 }] });
    expect(second).toMatchObject({ streams: [{ added: 1, changed: 1, unchanged: 0 }] });
    await session.close();
    const keys = "SELECT table_name, key_columns FROM early_bridge.table_report ORDER BY table_name";
    expect(await queryFile(path, keys)).toEqual([
      { table_name: "stays", key_columns: "id" },
      { table_name: "stays_guests", key_columns: "stays_id, eb_position" },
    ]);
    const changes = "SELECT DISTINCT change FROM early_bridge.schema_changes ORDER BY change";
    expect((await queryFile(path, changes)).map(({ change }) => change)).toEqual([
      "table_added",
      "type_widened",
    ]);
  });

  it("is only read by who brings it up to date", async () => {
    const path = oldFile();
    await expect(duckdb(path).open({ readOnly: true })).rejects.toMatchObject({
      code: "WAREHOUSE_OLDER",
      hint: expect.stringContaining("Run a bridge"),
    });
  });

  it("may be of the first version, whose cursors are those of whole streams", async () => {
    const path = oldFile();
    await changeFile(
      path,
      "ALTER TABLE early_bridge.cursors DROP COLUMN part; UPDATE early_bridge.about SET format = 1",
    );
    expect((await runOn(path)).asked).toEqual(["2026-10-03T23:59:59Z"]);
    const cursors = "SELECT version, part FROM early_bridge.ledger_version, early_bridge.cursors";
    expect(await queryFile(path, cursors)).toEqual([{ version: 10, part: "" }]);
  });
});
