/** A stream of an API in this process, carried through a warehouse run after run. */

import { join } from "node:path";
import type { ConnectorInput } from "../../src/core/define/connector-input.js";
import { type Api, type Bridge, type BridgeOptions, openBridge, type RunEvent } from "../../src/index.js";
import { type Answered, type Asked, fakeApi } from "./fake-api.js";
import { temporaryFolder } from "./project.js";
import { queryFile } from "./truth.js";
import { warehouseAt } from "./warehouse.js";

type StreamInput = NonNullable<ConnectorInput["streams"]>[string];
const HOUR = 3_600_000;

/** A bridge of an API into a file, as tests mostly want it: tables in the schema main. */
export async function bridgeInto(
  path: string,
  api: Api,
  options: Omit<BridgeOptions, "from" | "to"> = {},
): Promise<Bridge> {
  return openBridge({ from: api, to: warehouseAt(path), name: "b", schema: "main", ...options });
}

/** A stream, carried into one file run after run; time goes on by an hour between two runs. */
export function carried(stream: StreamInput, answer: (asked: Asked) => Answered, checkpointRows?: number) {
  const database = join(temporaryFolder(), "test.duckdb");
  const events: RunEvent[] = [];
  let runs = 0;
  return {
    database,
    events,
    async run(options: Pick<BridgeOptions, "streams"> = {}) {
      const fake = fakeApi({ streams: { s: stream }, api: { rate_limit: { concurrency: 2 } } }, answer);
      await fake.clock.sleep(HOUR * runs++);
      const checkpoint = checkpointRows === undefined ? undefined : { rows: checkpointRows };
      const bridge = await bridgeInto(database, fake.api, { checkpoint, ...options });
      const report = await bridge.run({ onEvent: (event) => events.push(event) });
      const asked = fake.log.map(
        ({ path, query }) => `${path}${query.size === 0 ? "" : `?${decodeURIComponent(String(query))}`}`,
      );
      return { report, asked, stream: report.streams[0]! };
    },
    ids: async () =>
      (await queryFile(database, "SELECT id::INTEGER AS id FROM s ORDER BY id")).map((row) => row.id),
    notices: () => events.flatMap((event) => (event.type === "notice" ? [event.message] : [])),
  };
}
