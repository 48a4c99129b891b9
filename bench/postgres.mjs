// npm run bench:postgres: bookings over HTTP into PostgreSQL, against the server's own COPY of ready-made CSV into the
// same tables, with the same indexes; then all of them again, against COPY into a stage and INSERT … ON CONFLICT.
// Options by environment: EARLY_BRIDGE_POSTGRES (a server where databases may be made), BENCH_SHARE of the records.
import { fork } from "node:child_process";
import { createReadStream, createWriteStream, mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { pipeline } from "node:stream/promises";
import { fileURLToPath } from "node:url";
import pg from "pg";
import copy from "pg-copy-streams";
import { writePages } from "./pages.mjs";
import { SETS } from "./sets.mjs";

const SERVER = process.env.EARLY_BRIDGE_POSTGRES ?? "postgres://postgres@127.0.0.1:5432/postgres";
const DATABASE = "eb_bench";
const RECORDS = Math.round(SETS.bookings.records * Number(process.env.BENCH_SHARE ?? 1));
const TABLES = ["bookings", "bookings_guests"];
const self = fileURLToPath(import.meta.url);

async function carry(url, warehouse) {
  const { connect, defineConnector, openBridge } = await import("../dist/index.js");
  const { postgres } = await import("../dist/warehouse/postgres/index.js");
  const { cursor: _, ...stream } = SETS.bookings.stream;
  const connector = defineConnector({
    connector: "huts",
    api: { url: `${url}/v2` },
    streams: { bookings: stream },
  });
  const api = connect(connector, {});
  const bridge = await openBridge({ from: api, to: postgres(warehouse), schema: "ours" });
  const from = performance.now();
  const report = await bridge.run();
  const seconds = (performance.now() - from) / 1000;
  await api.close();
  if (report.outcome !== "done") throw report.error;
  const [{ askMs, shapeMs, loadMs }] = report.streams;
  console.error(`  phases: asking ${askMs} ms, shaping ${shapeMs} ms, loading ${loadMs} ms`);
  process.send({ seconds, peakMb: process.resourceUsage().maxRSS / 1024 });
  process.disconnect();
}

const [role, ...rest] = process.argv.slice(2);
if (role === "carry") await carry(...rest);
else await compare();

function inProcess(args) {
  const child = fork(self, args);
  return new Promise((resolve, reject) => {
    child.once("message", resolve);
    child.once("exit", (code) => reject(new Error(`${args[0]} ended with ${code}`)));
  });
}

async function timed(work) {
  const from = performance.now();
  await work();
  return (performance.now() - from) / 1000;
}

async function compare() {
  const admin = new pg.Client(SERVER);
  await admin.connect();
  await admin.query(`DROP DATABASE IF EXISTS ${DATABASE}`);
  await admin.query(`CREATE DATABASE ${DATABASE}`);
  const warehouse = Object.assign(new URL(SERVER), { pathname: `/${DATABASE}` }).href;
  const pages = writePages("bookings", RECORDS);
  const server = fork(fileURLToPath(new URL("./serve.mjs", import.meta.url)), [pages.folder]);
  const { url } = await new Promise((resolve) => server.once("message", resolve));
  const client = new pg.Client(warehouse);
  const folder = mkdtempSync(join(tmpdir(), "early-bridge-bench-postgres-"));
  try {
    const first = await inProcess(["carry", url, warehouse]);
    await client.connect();
    for (const table of TABLES) {
      const out = client.query(copy.to(`COPY ours.${table} TO STDOUT (FORMAT csv)`));
      await pipeline(out, createWriteStream(join(folder, table)));
    }
    const copyIn = (table, target) =>
      pipeline(
        createReadStream(join(folder, table)),
        client.query(copy.from(`COPY ${target} FROM STDIN (FORMAT csv)`)),
      );
    await client.query("CREATE SCHEMA theirs");
    for (const table of TABLES)
      await client.query(`CREATE TABLE theirs.${table} (LIKE ours.${table} INCLUDING ALL)`);
    const csv = await timed(async () => {
      for (const table of TABLES) await copyIn(table, `theirs.${table}`);
    });
    const again = await inProcess(["carry", url, warehouse]);
    const upsert = await timed(() => upsertAll(client, copyIn));
    const { rows } = await client.query(
      "SELECT (SELECT count(*) FROM ours.bookings) AS n, (SELECT count(*) FROM theirs.bookings) AS m",
    );
    if (Number(rows[0].n) !== RECORDS || Number(rows[0].m) !== RECORDS) throw new Error(JSON.stringify(rows));
    const row = (title, own, other) =>
      console.log(
        `| ${title} | ${own.seconds.toFixed(2)} | ${other.toFixed(2)} | ${(other / own.seconds).toFixed(2)} | ${Math.round(own.peakMb)} MB |`,
      );
    console.log(
      "| bookings into PostgreSQL | early-bridge, s | the server alone, s | how many times as fast | peak memory of ours |",
    );
    console.log("| --- | ---: | ---: | ---: | ---: |");
    row("into empty tables; COPY of ready-made CSV", first, csv);
    row("all of them again; COPY into a stage, INSERT … ON CONFLICT", again, upsert);
  } finally {
    server.disconnect();
    rmSync(folder, { recursive: true, force: true });
    await client.end();
    await admin.query(`DROP DATABASE ${DATABASE} WITH (FORCE)`);
    await admin.end();
  }
}

/** Rows of the stream's own table by its key; those of guests are put in the place of the old ones. */
async function upsertAll(client, copyIn) {
  await client.query("BEGIN");
  for (const table of TABLES) {
    await client.query(`CREATE TEMP TABLE stage_${table} (LIKE theirs.${table}) ON COMMIT DROP`);
    await copyIn(table, `stage_${table}`);
  }
  const { rows } = await client.query(
    "SELECT attname AS name FROM pg_attribute WHERE attrelid = 'theirs.bookings'::regclass AND attnum > 0 AND attname <> 'id'",
  );
  const set = rows.map(({ name }) => `"${name}" = excluded."${name}"`).join(", ");
  await client.query(
    `INSERT INTO theirs.bookings SELECT * FROM stage_bookings ON CONFLICT (id) DO UPDATE SET ${set}`,
  );
  await client.query(
    "DELETE FROM theirs.bookings_guests AS g USING stage_bookings AS s WHERE g.bookings_id = s.id",
  );
  await client.query("INSERT INTO theirs.bookings_guests SELECT * FROM stage_bookings_guests");
  await client.query("COMMIT");
}
