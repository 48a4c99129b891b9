// How long a command takes that has little to do, against a process of Node that does nothing, in turn.
// By itself: node bench/start.mjs
import { spawnSync } from "node:child_process";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { createServer } from "node:http";
import { tmpdir } from "node:os";
import { join, resolve } from "node:path";
import { Worker } from "node:worker_threads";

const ROUNDS = 9;
const main = resolve(import.meta.dirname, "../dist/cli/main.js");

const CONNECTOR = (url) => ({
  connector: "huts",
  api: { url, sign_in: "none" },
  streams: { huts: { get: "/huts", key: "id", cursor: { field: "changed_at", query: "since" } } },
});

const BRIDGES = {
  accounts: { huts: { connector: "./huts.connector.yaml" } },
  warehouses: { local: { duckdb: "./huts.duckdb" } },
  bridges: { huts: { from: "huts", to: "local" } },
};

/** The service answers in a thread of its own: commands are waited for here. */
function serve() {
  const server = createServer((request, response) => {
    const isFirst = !request.url.includes("since=");
    const huts = isFirst ? [{ id: 1, name: "Adlerhorst", changed_at: "2026-01-01T00:00:00Z" }] : [];
    response.setHeader("content-type", "application/json").end(JSON.stringify(huts));
  });
  server.listen(0, "127.0.0.1", () => postUrl(`http://127.0.0.1:${server.address().port}`));
}

const openService = () => {
  const code = `const { createServer } = require("node:http"); const { parentPort } = require("node:worker_threads");
    const postUrl = (url) => parentPort.postMessage(url); (${serve.toString()})();`;
  const worker = new Worker(code, { eval: true });
  return new Promise((found) =>
    worker.once("message", (url) => found({ url, close: () => worker.terminate() })),
  );
};

function took(args, cwd) {
  const from = process.hrtime.bigint();
  const { status, stdout, stderr } = spawnSync(process.execPath, args, { cwd, encoding: "utf8" });
  if (status !== 0) throw new Error(`${args.join(" ")} ended with ${status}: ${stdout}${stderr}`);
  return Number(process.hrtime.bigint() - from) / 1e6;
}

export async function measureStart() {
  const folder = mkdtempSync(join(tmpdir(), "early-bridge-bench-start-"));
  const service = await openService();
  writeFileSync(join(folder, "huts.connector.yaml"), JSON.stringify(CONNECTOR(service.url)));
  writeFileSync(join(folder, "bridges.yaml"), JSON.stringify(BRIDGES));
  const commands = {
    "node, doing nothing": ["-e", "0"],
    "early-bridge --help": [main, "--help"],
    "early-bridge history": [main, "history"],
    "early-bridge run, nothing new": [main, "run", "--plain"],
  };
  took(commands["early-bridge run, nothing new"], folder);
  const times = Object.fromEntries(Object.keys(commands).map((name) => [name, []]));
  for (let round = 0; round < ROUNDS; round++)
    for (const [name, args] of Object.entries(commands)) times[name].push(took(args, folder));
  await service.close();
  rmSync(folder, { recursive: true, force: true });
  const median = (values) => values.sort((a, b) => a - b)[Math.floor(values.length / 2)];
  const bare = median(times["node, doing nothing"]);
  console.log(`\nFrom the start of a process to its end, medians of ${ROUNDS} rounds, in turn.\n`);
  console.log("| process | ms | node = 1 |\n| --- | ---: | ---: |");
  for (const [name, all] of Object.entries(times))
    console.log(`| ${name} | ${median(all).toFixed(0)} | ${(median(all) / bare).toFixed(1)} |`);
}

if (process.argv[1] === new URL(import.meta.url).pathname) await measureStart();
