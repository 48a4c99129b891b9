// Bookings into a server's tables, in a process of its own.
// Arguments: postgres, mariadb, mysql, duckdb or folder, the address of the API, the address of the server; for a
// folder, a path, how files are written, and the write mode, in JSON.
import { connect, defineConnector, openBridge } from "../../dist/index.js";
import { SETS } from "../sets.mjs";

const [kind, url, address] = process.argv.slice(2);
const { [kind]: warehouse } = await import(`early-bridge/${kind === "folder" ? "files" : kind}`);
const { path, files, write = "upsert" } = kind === "folder" ? JSON.parse(address) : { path: address };
const { cursor: _, ...stream } = SETS.bookings.stream;
const connector = defineConnector({
  connector: "huts",
  api: { url: `${url}/v2` },
  streams: { bookings: stream },
});
const api = connect(connector, {});
const bridge = await openBridge({
  from: api,
  to: warehouse(path, files),
  schema: "ours",
  streams: { bookings: { write } },
});
const from = performance.now();
const report = await bridge.run();
const seconds = (performance.now() - from) / 1000;
await api.close();
if (report.outcome !== "done") throw report.error;
const [{ askMs, shapeMs, loadMs }] = report.streams;
console.error(`  phases: asking ${askMs} ms, shaping ${shapeMs} ms, loading ${loadMs} ms`);
process.send({ seconds, peakMb: process.resourceUsage().maxRSS / 1024 });
process.disconnect();
