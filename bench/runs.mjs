// npm run bench:runs: what short runs cost as they become many, and as their streams do. A hundred records come first,
// then three that have changed with each run. EARLY_BRIDGE_POSTGRES, EARLY_BRIDGE_MARIADB and EARLY_BRIDGE_MYSQL name
// servers where databases may be made; without them it is DuckDB and a folder. BENCH_RUNS (default 200).
import { mkdtempSync, rmSync, statSync } from "node:fs";
import { createServer } from "node:http";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { connect, defineConnector, openBridge } from "../dist/index.js";

const RUNS = Number(process.env.BENCH_RUNS ?? 200);
const STREAMS = [10, 100];
const DATABASE = "eb_bench_runs";
const { EARLY_BRIDGE_POSTGRES: postgresUrl, EARLY_BRIDGE_MARIADB, EARLY_BRIDGE_MYSQL } = process.env;

let run = 0;
const hut = (id, changed) => ({ id, name: `Hut ${id}`, beds: changed % 40, changed, rooms: [{ no: 1 }] });
const server = createServer((request, response) => {
  const isFirst = !request.url.includes("since=");
  const huts = isFirst
    ? Array.from({ length: 100 }, (_, id) => hut(id, 1000))
    : [0, 1, 2].map((n) => hut((run * 7 + n) % 110, 1000 + run));
  response.setHeader("content-type", "application/json").end(JSON.stringify(huts));
});
await new Promise((ready) => server.listen(0, "127.0.0.1", ready));
const url = `http://127.0.0.1:${server.address().port}`;

function connectorOf(streams) {
  const stream = { key: "id", cursor: { field: "changed", query: "since" } };
  const names = Array.from({ length: streams }, (_, n) => `huts_${n}`);
  return defineConnector({
    connector: "huts",
    api: { url, sign_in: "none" },
    streams: Object.fromEntries(names.map((name) => [name, { get: `/${name}`, ...stream }])),
  });
}

/** Milliseconds of each of some runs, one after the other. */
async function runsInto(warehouse, streams, count, write = "upsert") {
  const connector = connectorOf(streams);
  const names = Object.keys(connector.streams);
  const times = [];
  for (run = 0; run < count; run++) {
    const api = connect(connector, {});
    const choices = Object.fromEntries(names.map((name) => [name, { write }]));
    const bridge = await openBridge({ from: api, to: warehouse, schema: "ours", streams: choices });
    const from = performance.now();
    const report = await bridge.run();
    times.push(performance.now() - from);
    await api.close();
    if (report.outcome !== "done") throw report.error;
  }
  return times;
}

const median = (values) => values.toSorted((a, b) => a - b)[Math.floor(values.length / 2)];

/** What gives `work` a place that is empty, and takes it away; by what it is. */
const KINDS = {
  async "a DuckDB file"(work) {
    const { duckdb } = await import("../dist/warehouse/duckdb/index.js");
    await inFolder((folder) => work(duckdb(join(folder, "huts.duckdb")), join(folder, "huts.duckdb")));
  },
  async "a folder, `append`"(work) {
    const { folder: files } = await import("../dist/warehouse/files/index.js");
    await inFolder((folder) => work(files(folder, {}), undefined, "append"));
  },
  ...(postgresUrl && {
    async PostgreSQL(work) {
      const { default: pg } = await import("pg");
      const { postgres } = await import("../dist/warehouse/postgres/index.js");
      const admin = new pg.Client(postgresUrl);
      await admin.connect();
      await admin.query(`DROP DATABASE IF EXISTS ${DATABASE}`);
      await admin.query(`CREATE DATABASE ${DATABASE}`);
      try {
        await work(postgres(Object.assign(new URL(postgresUrl), { pathname: `/${DATABASE}` }).href));
      } finally {
        await admin.query(`DROP DATABASE ${DATABASE} WITH (FORCE)`);
        await admin.end();
      }
    },
  }),
  ...(EARLY_BRIDGE_MARIADB && { MariaDB: (work) => onMysql("mariadb", EARLY_BRIDGE_MARIADB, work) }),
  ...(EARLY_BRIDGE_MYSQL && { MySQL: (work) => onMysql("mysql", EARLY_BRIDGE_MYSQL, work) }),
};

async function inFolder(work) {
  const folder = mkdtempSync(join(tmpdir(), "early-bridge-bench-runs-"));
  try {
    await work(folder);
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}

async function onMysql(kind, address, work) {
  const { createConnection } = await import("mysql2/promise");
  const { [kind]: warehouse } = await import(`early-bridge/${kind}`);
  const admin = await createConnection(address.replace(/^mariadb:/, "mysql:"));
  const drop = async () => {
    const [schemas] = await admin.query("SHOW DATABASES LIKE ?", [`${DATABASE}%`]);
    for (const schema of schemas.flatMap(Object.values)) await admin.query(`DROP DATABASE \`${schema}\``);
  };
  await drop();
  try {
    await work(warehouse(Object.assign(new URL(address), { pathname: `/${DATABASE}` }).href));
  } finally {
    await drop();
    await admin.end();
  }
}

console.log(`| ${RUNS} runs into | ms a run, the second to the tenth | ms a run, the last ten | file |`);
console.log("| --- | ---: | ---: | ---: |");
for (const [title, withPlace] of Object.entries(KINDS))
  await withPlace(async (warehouse, file, write) => {
    const times = await runsInto(warehouse, 1, RUNS, write);
    const size = file === undefined ? "" : `${(statSync(file).size / 1e6).toFixed(1)} MB`;
    const [early, late] = [times.slice(1, 10), times.slice(-10)].map((some) => Math.round(median(some)));
    console.log(`| ${title} | ${early} | ${late} | ${size} |`);
  });
console.log(
  `\n| little new, into | ${STREAMS.map((count) => `ms a stream, of ${count}`).join(" | ")} |\n| --- | ---: | ---: |`,
);
for (const [title, withPlace] of Object.entries(KINDS)) {
  const each = [];
  for (const count of STREAMS)
    await withPlace(async (warehouse, _, write) => {
      each.push((await runsInto(warehouse, count, 3, write)).at(-1) / count);
    });
  console.log(`| ${title} | ${each.map((ms) => ms.toFixed(0)).join(" | ")} |`);
}
server.close();
