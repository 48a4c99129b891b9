// early-bridge, end to end: HTTP, typed tables, cursor and ledger in a DuckDB file.
import { connect, defineConnector, openBridge } from "../../dist/index.js";
import { duckdb } from "../../dist/warehouse/duckdb/index.js";
import { database, measured, url } from "./report.mjs";

const connector = defineConnector({
  connector: "bookings",
  api: { url: `${url}/v2` },
  streams: {
    bookings: {
      get: "/bookings",
      records: "$.items[*]",
      pages: { token: "$.paging.next_token", query: "after" },
      cursor: { field: "changed_at", query: "changed_after", order: "ascending" },
      key: "id",
      columns: { "price.amount": { type: "decimal(12,2)" } },
    },
  },
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
