/** `planBridge`: what a run would ask and write, before anything is sent. */

import { WHOLE_STREAM } from "../core/ask/parts.js";
import type { WriteMode } from "../core/define/project-schema.js";
import { WRITE_METHODS } from "../core/define/write-method.js";
import { isBridgeError } from "../core/errors.js";
import { snakeCase } from "../core/shape/naming.js";
import { type Described, describeStream } from "../core/stream/describe-stream.js";
import type { SavedCursor } from "../core/track/cursor.js";
import { describeCursors, PartProgress } from "../core/track/part-progress.js";
import { type Api, insideOf } from "./api.js";
import type { Bridge } from "./bridge.js";
import { asBridged } from "./bridge-stream.js";

/** What a run would ask for a stream, in words. */
export interface StreamPlan extends Described {
  readonly stream: string;
  readonly table: string;
  readonly write: WriteMode;
}

/**
 * The plan of a bridge's streams. Nothing is sent to the API; the warehouse is only read, where there is one.
 * @throws BridgeError CONFIG_INVALID where the API's limits of a request are not kept
 */
export async function planBridge(bridge: Bridge, of: Api): Promise<StreamPlan[]> {
  const api = insideOf(of);
  const saved = await readCursors(bridge);
  const plans = [...bridge.streams].map(async ([name, choices]) => {
    const { write } = choices;
    const stream = asBridged(await api.stream(name), choices, api);
    const cursors =
      (WRITE_METHODS[write].keepsCursor ? saved.get(name) : undefined) ?? new Map<string, SavedCursor>();
    const nowMs = api.clock.now();
    const rule = { cursor: stream.cursor, field: undefined, windows: stream.definition.windows };
    const whole = new PartProgress(WHOLE_STREAM, rule, cursors.get(""), nowMs);
    const hasParts = stream.definition.each !== undefined;
    const stands = (each: readonly SavedCursor[]) => describeCursors(each, rule.windows, nowMs);
    // which parts there are is not known before they are asked for
    const begun = [...cursors.values()].filter((each) => stands([each]) !== undefined);
    const since = hasParts || rule.windows !== undefined ? stands(begun) : whole.start.since;
    const windows = !hasParts && rule.windows !== undefined ? whole.windows().length : undefined;
    const parts = hasParts ? begun.length : undefined;
    return {
      stream: name,
      table: `${bridge.schema}.${snakeCase(name)}`,
      write,
      ...describeStream(stream, { since, windows, parts }),
    };
  });
  return Promise.all(plans);
}

async function readCursors(bridge: Bridge): Promise<Map<string, Map<string, SavedCursor>>> {
  const cursors = new Map<string, Map<string, SavedCursor>>();
  let session: Awaited<ReturnType<Bridge["warehouse"]["open"]>>;
  try {
    session = await bridge.warehouse.open({ readOnly: true });
  } catch (error) {
    // before the first run there is none
    if (isBridgeError(error, "WAREHOUSE_UNREACHABLE")) return cursors;
    throw error;
  }
  try {
    for (const stream of bridge.streams.keys())
      cursors.set(stream, await session.ledger.cursors(bridge.name, stream));
  } finally {
    await session.close();
  }
  return cursors;
}
