/** Runs of one stream `s` into a table of somebody's, in schema `huts` of a warehouse where no bridge has run yet. */

import { join } from "node:path";
import type { BridgeStreamInput } from "../../src/core/define/project-schema.js";
import { openBridge, planBridge } from "../../src/index.js";
import { fakeApi } from "./fake-api.js";
import { temporaryFolder } from "./project.js";
import { changeFile } from "./truth.js";
import { isServer, namedFor, onWarehouse, warehouseAt } from "./warehouse.js";

/** Records, or what is given for a value of the cursor. */
export type Records = readonly unknown[] | ((since: string | null) => readonly unknown[]);

/** `sql`: what is there before. */
export async function userHouse(sql: readonly string[]) {
  const path = join(temporaryFolder(), "house.duckdb");
  const change = async (statement: string): Promise<void> => {
    await (isServer ? onWarehouse(path, statement) : changeFile(path, statement));
  };
  const [own] = (await namedFor(path, "huts.x")).split(".");
  for (const statement of [`CREATE SCHEMA ${own}`, ...sql]) await change(statement);
  const notices: string[] = [];
  const bridgeOf = async (records: Records, said: BridgeStreamInput, stream: object = {}) => {
    const { api } = fakeApi({ get: "/s", key: "id", ...stream }, ({ query }) => ({
      body: typeof records === "function" ? records(query.get("since")) : records,
    }));
    const options = { to: warehouseAt(path), name: "b", schema: "huts", streams: { s: said } };
    return { api, bridge: await openBridge({ from: api, ...options }) };
  };
  return {
    path,
    notices,
    change,
    bridgeOf,
    run: async (records: Records, said: BridgeStreamInput, stream?: object) => {
      const { bridge } = await bridgeOf(records, said, stream);
      return bridge.run({
        onEvent: (event) => {
          if (event.type === "notice") notices.push(event.message);
        },
      });
    },
    plan: async (said: BridgeStreamInput, stream?: object) => {
      const { bridge, api } = await bridgeOf([], said, stream);
      return (await planBridge(bridge, api))[0]!;
    },
    /** as the warehouse writes values, in the order of the first column */
    rows: async (table = "contacts", schema = "huts") => {
      const session = await warehouseAt(path).open({ readOnly: true });
      try {
        const rows = await session.sampleRows(schema, table, 1000);
        const first = (each: (typeof rows)[number]) => Object.values(each)[0] ?? "";
        return rows.toSorted((a, b) => (first(a) < first(b) ? -1 : 1));
      } finally {
        await session.close();
      }
    },
  };
}
