// Our scanning and shaping alone: from the bytes of the same files to typed columns, nothing loaded.
import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { Outliner } from "../../dist/core/express/outline.js";
import { compileStream, defineConnector, readPage, Shape } from "../../dist/core/index.js";
import { outlinePlan } from "../../dist/core/stream/outline-plan.js";
import { SETS } from "../sets.mjs";
import { folder, measured, set } from "./report.mjs";

const connector = defineConnector({
  connector: "huts",
  api: { url: "http://huts.example" },
  streams: { [set]: SETS[set].stream },
});
const stream = compileStream(connector, set, connector.streams[set]);
const { key, columns, request } = stream;

await measured(async () => {
  const rows = {};
  const names = { maxBytes: 120 };
  const shape = new Shape({ stream: set, key, columns, names, takenTables: new Set() });
  const outliner = new Outliner(outlinePlan(stream));
  for (const [i, name] of readdirSync(folder).entries()) {
    const body = readFileSync(join(folder, name));
    // the first page is read plainly, as it is in a run
    const express = i === 0 ? undefined : { outliner, shape, news: undefined };
    for (const { batches } of readPage({ body, headers: {} }, request.plan, {}, express).shape(shape))
      for (const batch of batches) rows[batch.table] = (rows[batch.table] ?? 0) + batch.rows;
  }
  return rows;
});
