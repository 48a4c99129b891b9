// npm run bench:memory: time and peak memory as a stream grows tenfold. Its pages are some bookings over and over, each
// record under an id of its own. Options by environment: BENCH_MEMORY (default 1000000,10000000); BENCH_NOTE, a text of
// so many random signs in each record (default 0).
import { fork } from "node:child_process";
import { randomBytes } from "node:crypto";
import { mkdtempSync, rmSync } from "node:fs";
import { createServer } from "node:http";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { SETS } from "./sets.mjs";

const SIZES = (process.env.BENCH_MEMORY ?? "1000000,10000000").split(",").map(Number);
const NOTE = Number(process.env.BENCH_NOTE ?? 0);
const PAGE = 1000;
const TEMPLATES = 100;
/** All ids have nine digits, so that pages need not be written anew. */
const FIRST_ID = 100_000_000;
const self = fileURLToPath(import.meta.url);

const note = () => `,"note":"${randomBytes(NOTE).toString("base64").slice(0, NOTE)}"`;

/** A page as bytes, and where its ids stand. */
function template(number) {
  const parts = Array.from({ length: PAGE }, (_, n) =>
    Buffer.from(
      SETS.bookings
        .json(number * PAGE + n)
        .replace(/^\{"id":\d+/, `{"id":${FIRST_ID}${NOTE > 0 ? note() : ""}`),
    ),
  );
  const head = Buffer.from('{"items":[');
  const ids = [];
  let at = head.length;
  for (const part of parts) {
    ids.push(at + '{"id":'.length);
    at += part.length + 1;
  }
  const comma = Buffer.from(",");
  const items = parts.flatMap((part, n) => (n === 0 ? [part] : [comma, part]));
  return { bytes: Buffer.concat([head, ...items]), ids };
}

function serve(records) {
  const templates = Array.from({ length: TEMPLATES }, (_, number) => template(number));
  const server = createServer((request, response) => {
    const page = Number(new URL(request.url, "http://huts.example").searchParams.get("after") ?? 0);
    const { bytes, ids } = templates[page % TEMPLATES];
    for (const [n, at] of ids.entries()) bytes.write(String(FIRST_ID + page * PAGE + n), at, "latin1");
    const token = (page + 1) * PAGE < records ? `"${page + 1}"` : "null";
    response.writeHead(200, { "content-type": "application/json" });
    response.end(Buffer.concat([bytes, Buffer.from(`],"paging":{"next_token":${token}}}`)]));
  });
  server.listen(0, "127.0.0.1", () => process.send({ url: `http://127.0.0.1:${server.address().port}` }));
  process.on("disconnect", () => process.exit(0));
}

async function carry(url, database) {
  const { connect, defineConnector, openBridge } = await import("../dist/index.js");
  const { duckdb } = await import("../dist/warehouse/duckdb/index.js");
  const { cursor: _, ...stream } = SETS.bookings.stream;
  const connector = defineConnector({ connector: "huts", api: { url }, streams: { bookings: stream } });
  const api = connect(connector, {});
  const from = performance.now();
  const report = await (await openBridge({ from: api, to: duckdb(database) })).run();
  await api.close();
  if (report.outcome !== "done") throw report.error;
  const seconds = (performance.now() - from) / 1000;
  process.send({ seconds, added: report.streams[0].added, peakMb: process.resourceUsage().maxRSS / 1024 });
  process.disconnect();
}

const [role, ...rest] = process.argv.slice(2);
if (role === "serve") serve(Number(rest[0]));
else if (role === "carry") await carry(...rest);
else {
  console.log("| records | s | records/s | peak memory |\n| ---: | ---: | ---: | ---: |");
  for (const records of SIZES) {
    const place = mkdtempSync(join(tmpdir(), "early-bridge-bench-memory-"));
    const server = fork(self, ["serve", String(records)]);
    const { url } = await new Promise((resolve) => server.once("message", resolve));
    const child = fork(self, ["carry", url, join(place, "bench.duckdb")]);
    const { seconds, added, peakMb } = await new Promise((resolve, reject) => {
      child.once("message", resolve);
      child.once("exit", (code) => reject(new Error(`it ended with ${code}`)));
    });
    server.disconnect();
    rmSync(place, { recursive: true, force: true });
    if (added !== records) throw new Error(`${added} records were added, not ${records}`);
    const rate = Math.round(records / seconds).toLocaleString("en-US");
    const count = records.toLocaleString("en-US");
    console.log(`| ${count} | ${seconds.toFixed(1)} | ${rate} | ${Math.round(peakMb)} MB |`);
  }
}
