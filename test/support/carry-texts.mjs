// One run of the notes that a server makes up into a DuckDB file, in a process of its own.
import { connect, defineConnector, openBridge } from "../../dist/index.js";
import { duckdb } from "../../dist/warehouse/duckdb/index.js";

const [address, database] = process.argv.slice(2);
const { origin, searchParams } = new URL(address);
const connector = defineConnector({
  connector: "texts",
  api: { url: origin, sign_in: "none" },
  streams: {
    notes: {
      get: "/",
      key: "id",
      query: Object.fromEntries(searchParams),
      pages: { number: 1, query: "page" },
    },
  },
});
const api = connect(connector, {});
const { outcome, error, streams } = await (await openBridge({ from: api, to: duckdb(database) })).run();
await api.close();
if (error !== undefined) throw error;
const [{ added, unchanged, checkpoints }] = streams;
const peakMb = process.resourceUsage().maxRSS / 1024;
process.send({ outcome, counts: [added, unchanged], checkpoints, peakMb });
process.disconnect();
