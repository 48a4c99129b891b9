// A run of a bridge over a set, end to end: HTTP, typed tables, cursor and ledger in a DuckDB file.
import { connect, defineConnector, openBridge } from "../../dist/index.js";
import { duckdb } from "../../dist/warehouse/duckdb/index.js";
import { RULES, SETS } from "../sets.mjs";
import { database, rules, set, url } from "./report.mjs";

/** `stream`: what differs from the set's own; `write`: how records are written; `file`: choices for it. */
export async function runBridge(stream = {}, { write = "upsert", file = {} } = {}) {
  const connector = defineConnector({
    connector: "huts",
    api: { url: `${url}/v2` },
    streams: { [set]: { ...SETS[set].stream, ...RULES[rules], ...stream } },
  });
  const api = connect(connector, {});
  const report = await (
    await openBridge({ from: api, to: duckdb(database, file), streams: { [set]: { write } } })
  ).run();
  await api.close();
  if (report.error !== undefined) throw report.error;
  const [{ askMs, shapeMs, loadMs, rowsByTable }] = report.streams;
  console.error(`  phases: asking ${askMs} ms, shaping ${shapeMs} ms, loading ${loadMs} ms`);
  return rowsByTable;
}
