// npm run bench:files: one long response of JSON Lines or CSV, as exports give them, packed by gzip as well; against
// DuckDB's own reader of the same file on disk, and against ourselves without scanning.
// Option by environment: BENCH_SHARE of the records (default 1).
import { fork } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from "node:fs";
import { createServer } from "node:http";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { gzipSync } from "node:zlib";

const RECORDS = Math.round(600_000 * Number(process.env.BENCH_SHARE ?? 1));
const STATES = ["booked", "arrived", "left", "cancelled"];
const self = fileURLToPath(import.meta.url);

const night = (index) => ({
  id: index + 1,
  hut: 1 + (index % 40),
  guest: `Ana "Gams" Ötzi ${index % 9973}`,
  state: STATES[index % STATES.length],
  price: (index % 20_000) / 100,
  note: index % 3 === 0 ? null : "two beds by the stove, please, and a late dinner",
  arrived_at: new Date(Date.UTC(2026, 0, 1) + index * 1000).toISOString(),
});

function csvLine(record) {
  const field = (value) =>
    value === null ? "" : /[",]/.test(value) ? `"${value.replaceAll('"', '""')}"` : String(value);
  return Object.values(record).map(field).join(",");
}

const FORMS = {
  "JSON Lines": {
    text: (records) => records.map((record) => `${JSON.stringify(record)}\n`).join(""),
    response: "json_lines",
    reader: (file) => `read_json('${file}', format = 'newline_delimited')`,
  },
  CSV: {
    text: (records) =>
      `${Object.keys(records[0]).join(",")}\n${records.map((each) => `${csvLine(each)}\n`).join("")}`,
    response: "csv",
    reader: (file) => `read_csv('${file}', header = true)`,
  },
};

function serve(file) {
  const bytes = readFileSync(file);
  const server = createServer((_, response) => response.end(bytes));
  server.listen(0, "127.0.0.1", () => process.send({ url: `http://127.0.0.1:${server.address().port}` }));
  process.on("disconnect", () => process.exit(0));
}

async function carry(url, database, form) {
  const { connect, defineConnector, openBridge } = await import("../dist/index.js");
  const { duckdb } = await import("../dist/warehouse/duckdb/index.js");
  const nights = {
    get: "/nights",
    response: FORMS[form].response,
    records: "$[*]",
    key: "id",
    columns: {
      id: { type: "int64" },
      hut: { type: "int64" },
      price: { type: "float64" },
      arrived_at: { type: "timestamp" },
    },
  };
  const api = connect(defineConnector({ connector: "huts", api: { url }, streams: { nights } }), {});
  const report = await (await openBridge({ from: api, to: duckdb(database) })).run();
  await api.close();
  if (report.outcome !== "done") throw report.error;
  return report.streams[0].added;
}

async function readByDuckDB(file, database, form) {
  const { DuckDBInstance } = await import("@duckdb/node-api");
  const connection = await (await DuckDBInstance.create(database)).connect();
  await connection.run(`CREATE TABLE nights AS FROM ${FORMS[form].reader(file)}`);
  const [[count]] = (await connection.runAndReadAll("SELECT count(*) FROM nights")).getRows();
  connection.closeSync();
  return Number(count);
}

async function contend(work, ...args) {
  const from = performance.now();
  const rows = await work(...args);
  const seconds = (performance.now() - from) / 1000;
  process.send({ rows, seconds, peakMb: process.resourceUsage().maxRSS / 1024 });
  process.disconnect();
}

function inProcess(args, env = {}) {
  const child = fork(self, args, { env: { ...process.env, ...env } });
  return new Promise((resolve, reject) => {
    child.once("message", (message) => resolve({ ...message, close: () => child.disconnect() }));
    child.once("exit", (code) => reject(new Error(`${args[0]} ended with ${code}`)));
  });
}

async function compare(form, file) {
  const server = await inProcess(["serve", file]);
  const timed = async (args, env) => {
    const place = mkdtempSync(join(tmpdir(), "early-bridge-bench-files-db-"));
    const result = await inProcess([...args, join(place, "bench.duckdb"), form], env);
    rmSync(place, { recursive: true, force: true });
    if (result.rows !== RECORDS) throw new Error(`${args[0]}: ${result.rows} rows, not ${RECORDS}`);
    return result;
  };
  const ours = await timed(["carry", server.url]);
  const plain = await timed(["carry", server.url], { EARLY_BRIDGE_READER: "plain" });
  const reader = await timed(["read", file]);
  server.close();
  const [size, isPacked] = [statSync(file).size, file.endsWith(".gz")];
  const cells = [ours, plain, reader].map(({ seconds }) => seconds.toFixed(2));
  const title = `${form}${isPacked ? ", packed" : ""}, ${(size / 1e6).toFixed(0)} MB`;
  console.log(`| ${title} | ${cells.join(" | ")} | ${Math.round(ours.peakMb)} MB |`);
}

const [role, ...rest] = process.argv.slice(2);
if (role === "serve") serve(...rest);
else if (role === "carry") await contend(carry, ...rest);
else if (role === "read") await contend(readByDuckDB, ...rest);
else {
  const place = mkdtempSync(join(tmpdir(), "early-bridge-bench-files-"));
  const records = Array.from({ length: RECORDS }, (_, index) => night(index));
  console.log(
    "| one response | early-bridge, s | without scanning, s | DuckDB's reader, s | peak memory of ours |",
  );
  console.log("| --- | ---: | ---: | ---: | ---: |");
  for (const [form, { text }] of Object.entries(FORMS)) {
    const file = join(place, form.replaceAll(" ", ""));
    const bytes = Buffer.from(text(records));
    writeFileSync(file, bytes);
    writeFileSync(`${file}.gz`, gzipSync(bytes));
    await compare(form, file);
    await compare(form, `${file}.gz`);
  }
  rmSync(place, { recursive: true, force: true });
}
