// npm run bench: us and three yardsticks over the same bytes, in one run, in turn; then the use made of a limit, OData,
// and what it takes to start.
// Options by environment: BENCH_RECORDS (default 400000), BENCH_ROUNDS (default 3).
import { fork } from "node:child_process";
import { mkdtempSync, rmSync, statSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { measureOData } from "./odata.mjs";
import { measurePace } from "./pace.mjs";
import { pageFile, writePages } from "./pages.mjs";
import { measureStart } from "./start.mjs";

const RECORDS = Number(process.env.BENCH_RECORDS ?? 400_000);
const ROUNDS = Number(process.env.BENCH_ROUNDS ?? 3);
const CONTENDERS = {
  ours: "early-bridge: HTTP to tables",
  reader: "DuckDB's JSON reader + unnest, from disk",
  script: "hand-written script: fetch to tables",
  parse: "JSON.parse alone, from disk",
};

const here = (path) => fileURLToPath(new URL(path, import.meta.url));
const folder = join(tmpdir(), `early-bridge-bench-${RECORDS}`);
console.log(`Writing ${RECORDS.toLocaleString("en-US")} bookings …`);
const pages = writePages(folder, RECORDS);
let bytes = 0;
for (let page = 0; page < pages; page++) bytes += statSync(pageFile(folder, page)).size;
console.log(`${pages} pages, ${(bytes / 1e6).toFixed(1)} MB of JSON; ${ROUNDS} rounds, in turn; medians.\n`);

const server = fork(here("./serve.mjs"), [folder]);
const { url } = await new Promise((resolve) => server.once("message", resolve));

async function runOnce(name) {
  const place = mkdtempSync(join(tmpdir(), "early-bridge-bench-db-"));
  const options = JSON.stringify({ url, folder, database: join(place, "bench.duckdb") });
  const child = fork(here(`./contenders/${name}.mjs`), [options]);
  const result = await new Promise((resolve, reject) => {
    child.once("message", resolve);
    child.once("exit", (code) => reject(new Error(`${name} ended with ${code}`)));
  });
  rmSync(place, { recursive: true, force: true });
  return result;
}

const results = Object.fromEntries(Object.keys(CONTENDERS).map((name) => [name, []]));
for (let round = 0; round < ROUNDS; round++) {
  for (const name of Object.keys(CONTENDERS)) {
    const result = await runOnce(name);
    results[name].push(result);
    console.log(`round ${round + 1}  ${name.padEnd(7)} ${result.seconds.toFixed(2)} s`);
  }
}
server.disconnect();

const median = (values) => values.sort((a, b) => a - b)[Math.floor(values.length / 2)];
const rowsOf = (result) => result.rows.bookings + result.rows.bookings_guests;
const rows = rowsOf(results.ours[0]);
for (const [name, [first]] of Object.entries(results)) {
  if (rowsOf(first) !== rows) throw new Error(`${name} made ${rowsOf(first)} rows, not ${rows}`);
}
const ours = median(results.ours.map((each) => each.seconds));
console.log(
  "\n| contender | s | rows/s | time, ours = 1 | peak memory |\n| --- | ---: | ---: | ---: | ---: |",
);
for (const [name, title] of Object.entries(CONTENDERS)) {
  const seconds = median(results[name].map((each) => each.seconds));
  const peak = median(results[name].map((each) => each.peakMb));
  const rate = Math.round(rows / seconds).toLocaleString("en-US");
  console.log(
    `| ${title} | ${seconds.toFixed(2)} | ${rate} | ${(seconds / ours).toFixed(2)} | ${Math.round(peak)} MB |`,
  );
}
console.log(`\n${rows.toLocaleString("en-US")} rows in two tables.\n`);
await measurePace();
await measureOData();
await measureStart();
