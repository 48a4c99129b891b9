// npm run bench:postgres: bookings over HTTP into PostgreSQL, against the server's own COPY of ready-made CSV into the
// same tables, with the same indexes; then all of them again, against COPY into a stage and INSERT … ON CONFLICT.
// EARLY_BRIDGE_POSTGRES names a server where databases may be made.
import { createReadStream, createWriteStream } from "node:fs";
import { join } from "node:path";
import { pipeline } from "node:stream/promises";
import pg from "pg";
import copy from "pg-copy-streams";
import { printRatios, RECORDS, TABLES, timed, withBookings } from "./server-bench.mjs";

const SERVER = process.env.EARLY_BRIDGE_POSTGRES ?? "postgres://postgres@127.0.0.1:5432/postgres";
const DATABASE = "eb_bench";

const admin = new pg.Client(SERVER);
await admin.connect();
await admin.query(`DROP DATABASE IF EXISTS ${DATABASE}`);
await admin.query(`CREATE DATABASE ${DATABASE}`);
const warehouse = Object.assign(new URL(SERVER), { pathname: `/${DATABASE}` }).href;
const client = new pg.Client(warehouse);
await client.connect();
try {
  await withBookings("postgres", warehouse, compare);
} finally {
  await client.end();
  await admin.query(`DROP DATABASE ${DATABASE} WITH (FORCE)`);
  await admin.end();
}

async function compare({ folder, carry }) {
  const first = await carry();
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
  const again = await carry();
  const upsert = await timed(() => upsertAll(copyIn));
  const { rows } = await client.query(
    "SELECT (SELECT count(*) FROM ours.bookings) AS n, (SELECT count(*) FROM theirs.bookings) AS m",
  );
  if (Number(rows[0].n) !== RECORDS || Number(rows[0].m) !== RECORDS) throw new Error(JSON.stringify(rows));
  printRatios("bookings into PostgreSQL", [
    ["into empty tables; COPY of ready-made CSV", first, csv],
    ["all of them again; COPY into a stage, INSERT … ON CONFLICT", again, upsert],
  ]);
}

/** Rows of the stream's own table by its key; those of guests are put in the place of the old ones. */
async function upsertAll(copyIn) {
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
