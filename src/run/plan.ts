/** `planBridge`: what a run would ask and write, before anything is sent. */

import { WHOLE_STREAM } from "../core/ask/parts.js";
import type { WriteMode } from "../core/define/project-schema.js";
import { WRITE_METHODS } from "../core/define/write-method.js";
import { isBridgeError } from "../core/errors.js";
import { snakeCase } from "../core/shape/naming.js";
import type { KnownColumn } from "../core/shape/shaped.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import { type Described, describeStream } from "../core/stream/describe-stream.js";
import { otherWriting } from "../core/stream/record-life.js";
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
  const saved = await readStanding(bridge);
  const plans = [...bridge.streams].map(async ([name, choices]) => {
    const { write } = choices;
    const { cursors: standing = NONE, known = [] } = saved.get(name) ?? {};
    const stream = asBridged(await api.stream(name), choices, api);
    const cursors = WRITE_METHODS[write].keepsCursor ? standing : NONE;
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
    const table = `${bridge.schema}.${snakeCase(name)}`;
    const { lines, warnings } = describeStream(stream, { since, windows, parts });
    const own = writingWarnings(stream, known, write, table);
    return { stream: name, table, write, lines, warnings: [...warnings, ...own] };
  });
  return Promise.all(plans);
}

const NONE: ReadonlyMap<string, SavedCursor> = new Map();

/** What is to be careful of in how a stream is written. */
function writingWarnings(
  stream: CompiledStream,
  known: readonly KnownColumn[],
  write: WriteMode,
  table: string,
): string[] {
  const other = otherWriting(known, stream, WRITE_METHODS[write]);
  const isDoubled = write === "append" && stream.key.length === 0 && stream.cursor?.kind === "field";
  return [
    ...(other === undefined
      ? []
      : [
          `The table ${table} stands and was written ${other}: a run stops. Begin the stream anew with early-bridge rewind, or write it as before.`,
        ]),
    ...(isDoubled
      ? ["Records have no key: those that the cursor's overlap asks for again are added again."]
      : []),
  ];
}

/** What the ledger knows of each stream. */
interface Standing {
  readonly cursors: ReadonlyMap<string, SavedCursor>;
  readonly known: readonly KnownColumn[];
}

async function readStanding(bridge: Bridge): Promise<Map<string, Standing>> {
  const standing = new Map<string, Standing>();
  let session: Awaited<ReturnType<Bridge["warehouse"]["open"]>>;
  try {
    session = await bridge.warehouse.open({ readOnly: true });
  } catch (error) {
    // before the first run there is none
    if (isBridgeError(error, "WAREHOUSE_EMPTY")) return standing;
    throw error;
  }
  try {
    const { ledger } = session;
    for (const stream of bridge.streams.keys())
      standing.set(stream, {
        cursors: await ledger.cursors(bridge.name, stream),
        known: await ledger.columns(bridge.schema, bridge.name, stream),
      });
  } finally {
    await session.close();
  }
  return standing;
}
