// One run of the notes that a server makes up, in a process of its own: into a DuckDB file, or a folder where the third
// word says so.
import { connect, defineConnector, openBridge } from "../../dist/index.js";
import { duckdb } from "../../dist/warehouse/duckdb/index.js";
import { folder } from "../../dist/warehouse/files/index.js";

const [address, place, kind] = process.argv.slice(2);
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
const to = kind === "folder" ? folder(place) : duckdb(place);
const { outcome, error, streams } = await (await openBridge({ from: api, to })).run();
await api.close();
if (error !== undefined) throw error;
const [{ added, unchanged, checkpoints }] = streams;
const peakMb = process.resourceUsage().maxRSS / 1024;
process.send({ outcome, counts: [added, unchanged], checkpoints, peakMb });
process.disconnect();
