// npm run bench:folder: bookings over HTTP into a folder, against the COPY of DuckDB of the same tables from a file of
// its own, and against the same bridge into a DuckDB file.
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { DuckDBInstance } from "@duckdb/node-api";
import { printRatios, RECORDS, TABLES, timed, withBookings } from "./server-bench.mjs";

const own = mkdtempSync(join(tmpdir(), "early-bridge-bench-folder-"));
const file = join(own, "huts.duckdb");
const WAYS = [
  ["Parquet", { write: "upsert" }, "FORMAT parquet, COMPRESSION zstd"],
  ["Parquet, appended", { write: "append" }, "FORMAT parquet, COMPRESSION zstd"],
  ["CSV", { write: "append", files: { format: "csv" } }, "FORMAT csv"],
  ["JSON Lines", { write: "append", files: { format: "jsonl" } }, "FORMAT json"],
];

let plain;
try {
  await withBookings("duckdb", file, async ({ carry }) => {
    plain = await carry();
  });
  const rows = [["a DuckDB file", plain, plain.seconds]];
  for (const [title, how, settings] of WAYS)
    await withBookings("folder", JSON.stringify({ path: join(own, title), ...how }), async ({ carry }) => {
      rows.push([title, await carry(), await copyOut(settings)]);
    });
  printRatios("bookings into a folder; DuckDB's COPY of the same tables", rows);
} finally {
  rmSync(own, { recursive: true, force: true });
}

/** Seconds in which DuckDB writes its tables into files. */
async function copyOut(settings) {
  const instance = await DuckDBInstance.create(file, { access_mode: "READ_ONLY" });
  const connection = await instance.connect();
  const [[count]] = (await connection.runAndReadAll("SELECT count(*)::INTEGER FROM ours.bookings")).getRows();
  if (count !== RECORDS) throw new Error(`${count} bookings`);
  const seconds = await timed(async () => {
    for (const table of TABLES)
      await connection.run(`COPY ours.${table} TO '${join(own, table)}' (${settings})`);
  });
  connection.closeSync();
  instance.closeSync();
  return seconds;
}
