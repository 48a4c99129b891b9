// npm run bench: us and the yardsticks over the same bytes, in one run, in turn; then the use made of a limit, OData,
// and what it takes to start.
// Options by environment: BENCH_ROUNDS (default 3), BENCH_SHARE of the records (default 1).
import { fork } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { measureOData } from "./odata.mjs";
import { measurePace } from "./pace.mjs";
import { writePages } from "./pages.mjs";
import { RULES, SETS } from "./sets.mjs";
import { measureStart } from "./start.mjs";

/** Write modes that keep states. */
const MODES = ["append", "versions"];
const ROUNDS = Number(process.env.BENCH_ROUNDS ?? 3);
const SHARE = Number(process.env.BENCH_SHARE ?? 1);
const CONTENDERS = {
  ours: "early-bridge: HTTP to tables",
  reader: "DuckDB's JSON reader + unnest, from disk",
  script: "hand-written script: fetch to tables",
  scan: "early-bridge: scanning alone, from disk",
  parse: "JSON.parse alone, from disk",
};
/** A short run is mostly start, a long one mostly pages. */
const SMALL = { records: [20_000, 100_000], pageRecords: 50 };

const here = (path) => fileURLToPath(new URL(path, import.meta.url));
const median = (values) => values.toSorted((a, b) => a - b)[Math.floor(values.length / 2)];
const many = (number) => number.toLocaleString("en-US");

/** A server of a set's pages, in a process of its own. */
async function served({ folder }) {
  const server = fork(here("./serve.mjs"), [folder]);
  const { url } = await new Promise((resolve) => server.once("message", resolve));
  return { url, close: () => server.disconnect() };
}

async function runOnce(contender, options) {
  const place = mkdtempSync(join(tmpdir(), "early-bridge-bench-db-"));
  const told = JSON.stringify({ ...options, database: join(place, "bench.duckdb") });
  const child = fork(here(`./contenders/${contender}.mjs`), [told]);
  const result = await new Promise((resolve, reject) => {
    child.once("message", resolve);
    child.once("exit", (code) => reject(new Error(`${contender} ended with ${code}`)));
  });
  rmSync(place, { recursive: true, force: true });
  return result;
}

/** Runs contenders in turn, round by round: the medians of each, by its name. `runs`: contender and rules by name. */
async function inTurn(set, pages, runs) {
  const server = await served(pages);
  const results = Object.fromEntries(Object.keys(runs).map((name) => [name, []]));
  for (let round = 0; round < ROUNDS; round++)
    for (const [name, { contender, rules }] of Object.entries(runs)) {
      const result = await runOnce(contender, { url: server.url, folder: pages.folder, set, rules });
      results[name].push(result);
      console.log(`${set}, round ${round + 1}  ${name.padEnd(7)} ${result.seconds.toFixed(2)} s`);
    }
  server.close();
  return Object.fromEntries(
    Object.entries(results).map(([name, all]) => {
      const rows = Object.values(all[0].rows).reduce((sum, each) => sum + each, 0);
      return [
        name,
        { rows, seconds: median(all.map((r) => r.seconds)), peakMb: median(all.map((r) => r.peakMb)) },
      ];
    }),
  );
}

function printTable(title, results) {
  const [{ rows }] = Object.values(results);
  for (const [name, each] of Object.entries(results))
    if (each.rows !== rows) throw new Error(`${name} made ${each.rows} rows, not ${rows}`);
  console.log(`\n${title}; ${many(rows)} rows; medians of ${ROUNDS} rounds in turn.\n`);
  console.log(
    "| contender | s | rows/s | time, ours = 1 | peak memory |\n| --- | ---: | ---: | ---: | ---: |",
  );
  for (const [name, { seconds, peakMb }] of Object.entries(results)) {
    const ratio = (seconds / results.ours.seconds).toFixed(2);
    const rate = many(Math.round(rows / seconds));
    console.log(
      `| ${CONTENDERS[name]} | ${seconds.toFixed(2)} | ${rate} | ${ratio} | ${Math.round(peakMb)} MB |`,
    );
  }
  console.log("");
}

const own = (names) => Object.fromEntries(names.map((name) => [name, { contender: name }]));
const measures = [];
for (const [set, { title, records }] of Object.entries(SETS)) {
  const pages = writePages(set, Math.round(records * SHARE));
  const runs = own(Object.keys(CONTENDERS).filter((name) => name !== "script" || set === "bookings"));
  const results = await inTurn(set, pages, runs);
  printTable(`${title}: ${pages.pages} pages, ${(pages.bytes / 1e6).toFixed(1)} MB of JSON`, results);
  const { ours, reader, script, scan, parse } = results;
  measures.push([`${set}: scanning alone, against JSON.parse alone`, parse.seconds / scan.seconds]);
  measures.push([`${set}: HTTP to tables, against DuckDB's reader`, reader.seconds / ours.seconds]);
  if (script !== undefined)
    measures.push([`${set}: HTTP to tables, against the script`, script.seconds / ours.seconds]);
}
const pages = writePages("bookings", Math.round(SETS.bookings.records * SHARE));
const ruled = Object.fromEntries(Object.keys(RULES).map((rules) => [rules, { contender: "ours", rules }]));
const results = await inTurn("bookings", pages, {
  ...own(["ours", "again", ...MODES, "newer-form"]),
  ...ruled,
});
measures.push([
  "bookings, all of them again, against the first time",
  results.ours.seconds / results.again.seconds,
]);
for (const mode of MODES)
  measures.push([`bookings by ${mode}, against upsert`, results.ours.seconds / results[mode].seconds]);
measures.push([
  "bookings into a file of DuckDB 1.3, against one that all read",
  results.ours.seconds / results["newer-form"].seconds,
]);
for (const rules of Object.keys(RULES))
  measures.push([`bookings with ${rules}, against without`, results.ours.seconds / results[rules].seconds]);
for (const records of SMALL.records) {
  const small = writePages("bookings", records, SMALL.pageRecords);
  const few = await inTurn("bookings", small, own(["ours", "script"]));
  measures.push([
    `${many(records)} bookings in pages of ${SMALL.pageRecords}, against the script`,
    few.script.seconds / few.ours.seconds,
  ]);
}

console.log("\n| measure | how many times as fast |\n| --- | ---: |");
for (const [measure, ratio] of measures) console.log(`| ${measure} | ${ratio.toFixed(2)} |`);
console.log("");
await measurePace();
await measureOData();
await measureStart();
