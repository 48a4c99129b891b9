// The board's server: reads the DuckDB file, and runs the bridge that fills it, with its events shown as they come.
import { spawn } from "node:child_process";
import { readFile } from "node:fs/promises";
import { createServer } from "node:http";
import { extname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { DuckDBInstance } from "@duckdb/node-api";
import { openProject } from "early-bridge";
import { board, booking, huts } from "./board.mjs";

const here = fileURLToPath(new URL(".", import.meta.url));
const project = process.env.HUT_BOARD_PROJECT ?? join(here, "early-bridge-demo");
const TYPES = { ".html": "text/html", ".js": "text/javascript", ".css": "text/css" };

/** One after the other: a DuckDB file has one writer or some readers, and no both. */
let turn = Promise.resolve();
const inTurn = (work) => {
  const next = turn.then(work, work);
  turn = next.catch(() => {});
  return next;
};

/** Work with a function that asks the tables. */
const reading = (work) =>
  inTurn(async () => {
    const file = await DuckDBInstance.create(join(project, "huts.duckdb"), { access_mode: "READ_ONLY" });
    const connection = await file.connect();
    try {
      return await work(async (sql, values) =>
        (await connection.runAndReadAll(sql, values)).getRowObjectsJson(),
      );
    } finally {
      connection.closeSync();
      file.closeSync();
    }
  });

/** The bridge, as one's own program runs it: every event goes to the page. */
const running = (tell) =>
  inTurn(async () => {
    const { openBridge } = await openProject(project);
    const { bridge, close } = await openBridge("bookings");
    try {
      return await bridge.run({ onEvent: tell });
    } finally {
      await close();
    }
  });

const filtersOf = (parameters) => ({
  hut: parameters.get("hut") || null,
  from: parameters.get("from") || null,
  to: parameters.get("to") || null,
});

async function answer(url, response) {
  const json = (value) =>
    response
      .writeHead(value === undefined ? 404 : 200, { "content-type": "application/json" })
      .end(JSON.stringify(value ?? {}));
  if (url.pathname === "/api/huts") return json(await reading(huts));
  if (url.pathname === "/api/board")
    return json(await reading((query) => board(query, filtersOf(url.searchParams))));
  if (url.pathname === "/api/booking")
    return json(await reading((query) => booking(query, url.searchParams.get("id"))));
  if (url.pathname === "/api/run") return runAndTell(response);
  const path = join(here, "dist", url.pathname === "/" ? "index.html" : url.pathname);
  const body = await readFile(path).catch(() => undefined);
  response
    .writeHead(body === undefined ? 404 : 200, { "content-type": TYPES[extname(path)] ?? "text/plain" })
    .end(body);
}

/** Server-sent events (HTML, section 9.2): one for each of the run's. */
async function runAndTell(response) {
  response.writeHead(200, { "content-type": "text/event-stream", "cache-control": "no-store" });
  const tell = (event) =>
    response.write(
      `data: ${JSON.stringify(event, (_key, value) => (typeof value === "bigint" ? Number(value) : value))}\n\n`,
    );
  try {
    await running(({ type, stream, rows, records, message, report }) =>
      tell({ type, stream, rows, records, message, outcome: report?.outcome }),
    );
  } catch (error) {
    tell({ type: "failed", message: `${error.message} ${error.hint ?? ""}` });
  }
  response.end();
}

const server = createServer((request, response) => {
  answer(new URL(request.url, "http://board"), response).catch((error) => {
    response
      .writeHead(500, { "content-type": "application/json" })
      .end(JSON.stringify({ message: error.message }));
  });
});
// the demo's service is the API that the bridge asks
const service =
  process.env.HUT_BOARD_PROJECT === undefined
    ? spawn(
        process.execPath,
        [join(here, "../../dist/cli/main.js"), "demo", "--serve", "--bookings", "5000"],
        { cwd: here, stdio: "ignore" },
      )
    : undefined;
process.on("exit", () => service?.kill());
for (const signal of ["SIGINT", "SIGTERM"]) process.on(signal, () => process.exit(0));
server.listen(Number(process.env.PORT ?? 4700), "127.0.0.1", () =>
  console.log(`The hut board is at http://127.0.0.1:${server.address().port}/`),
);
