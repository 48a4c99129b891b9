// early-bridge, end to end: HTTP, typed tables, cursor and ledger in a DuckDB file.
import { connect, defineConnector, openBridge } from "../../dist/index.js";
import { duckdb } from "../../dist/warehouse/duckdb/index.js";
import { RULES, SETS } from "../sets.mjs";
import { database, measured, rules, set, url } from "./report.mjs";

const connector = defineConnector({
  connector: "huts",
  api: { url: `${url}/v2` },
  streams: { [set]: { ...SETS[set].stream, ...RULES[rules] } },
});

await measured(async () => {
  const api = connect(connector, {});
  const report = await (await openBridge({ from: api, to: duckdb(database) })).run();
  await api.close();
  if (report.error !== undefined) throw report.error;
  const [stream] = report.streams;
  console.error(
    `  phases: asking ${stream.askMs} ms, shaping ${stream.shapeMs} ms, loading ${stream.loadMs} ms`,
  );
  return stream.rowsByTable;
});
