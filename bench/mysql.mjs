// npm run bench:mariadb and bench:mysql: bookings over HTTP into MariaDB or MySQL, against the server's own LOAD DATA
// of a ready-made file into the same tables, with the same indexes. EARLY_BRIDGE_MARIADB and EARLY_BRIDGE_MYSQL name a
// server, and a user who may do everything.
// Argument: mariadb or mysql.

import { once } from "node:events";
import { createReadStream, createWriteStream } from "node:fs";
import { join } from "node:path";
import mysql from "mysql2";
import { printRatios, RECORDS, TABLES, timed, withBookings } from "./server-bench.mjs";

const [make] = process.argv.slice(2);
const SERVER = process.env[`EARLY_BRIDGE_${make.toUpperCase()}`] ?? `${make}://root@127.0.0.1:3306`;
const DATABASES = ["eb_bench_ours", "eb_bench_theirs", "eb_bench_early_bridge"];

const warehouse = Object.assign(new URL(SERVER), { pathname: "/eb_bench" }).href;
const { hostname, port, username, password } = new URL(SERVER);
const connection = mysql.createConnection({
  ...{ host: hostname, port: Number(port || 3306), user: username, password, charset: "utf8mb4_bin" },
  dateStrings: true,
});
const query = (sql, options = {}) => connection.promise().query({ sql, ...options });
const dropAll = async () => {
  for (const database of DATABASES) await query(`DROP DATABASE IF EXISTS ${database}`);
};
await dropAll();
try {
  await withBookings(make, warehouse, compare);
} finally {
  await dropAll();
  connection.end();
}

async function compare({ folder, carry }) {
  const first = await carry();
  await query("CREATE DATABASE eb_bench_theirs");
  for (const table of TABLES) {
    await writeLines(table, join(folder, table));
    await query(`CREATE TABLE eb_bench_theirs.${table} LIKE eb_bench_ours.${table}`);
  }
  const load = (table) =>
    query(`LOAD DATA LOCAL INFILE 'rows' INTO TABLE eb_bench_theirs.${table} CHARACTER SET utf8mb4`, {
      infileStreamFactory: () => createReadStream(join(folder, table), { highWaterMark: 1024 * 1024 }),
    });
  const loaded = await timed(async () => {
    for (const table of TABLES) await load(table);
  });
  const again = await carry();
  const [[{ n, m }]] = await query(
    "SELECT (SELECT count(*) FROM eb_bench_ours.bookings) AS n, (SELECT count(*) FROM eb_bench_theirs.bookings) AS m",
  );
  if (n !== RECORDS || m !== RECORDS) throw new Error(`${n} and ${m} rows`);
  printRatios(`bookings into ${{ mariadb: "MariaDB", mysql: "MySQL" }[make]}`, [
    ["into empty tables; LOAD DATA of a ready-made file", first, loaded],
    ["all of them again; the same LOAD DATA", again, loaded],
  ]);
}

/** A table as LOAD DATA reads it. */
async function writeLines(table, path) {
  const out = createWriteStream(path);
  const escaped = (value) =>
    value === null
      ? "\\N"
      : String(value).replace(/[\\\t\n]/g, (sign) => ({ "\\": "\\\\", "\t": "\\t", "\n": "\\n" })[sign]);
  const rows = connection.query({ sql: `SELECT * FROM eb_bench_ours.${table}`, rowsAsArray: true }).stream();
  for await (const row of rows) if (!out.write(`${row.map(escaped).join("\t")}\n`)) await once(out, "drain");
  out.end();
  await once(out, "finish");
}
