/** A sweep over one stream: all keys are asked for, and what stands and is not among them is gone. */

import pLimit from "p-limit";
import { BridgeError, isBridgeError, toBridgeError } from "../core/errors.js";
import { formatPath } from "../core/shape/naming.js";
import type { Shape } from "../core/shape/shape.js";
import type { Sweep } from "../core/stream/compile-stream.js";
import { startOfCursor } from "../core/track/cursor.js";
import type { Committed, StreamLoad } from "../warehouse/warehouse.js";
import type { ApiInside } from "./api.js";
import type { StreamAsk } from "./ask/stream-ask.js";
import type { TablesOptions } from "./open-tables.js";

/** Whether the API gives what lies right at the begin of a reach is not known. */
const BORDER_MS = 1000;

/** Whether a sweep is due: the rows that stand were written in place, and the last one is long enough ago. */
export async function sweepIsDue(
  { everyMs }: Sweep,
  { fresh }: StreamLoad,
  { session, bridge, write, startedAtMs }: TablesOptions,
  stream: string,
): Promise<boolean> {
  if (fresh || write.buildsBeside || write.deletes === undefined) return false;
  const last = await session.ledger.lastSweep(bridge, stream);
  return last === undefined || startedAtMs - last >= everyMs;
}

/**
 * Asks for all keys, then takes away what is gone. Where one part of the keys does not come, nothing is taken away.
 * @throws BridgeError SWEEP_TOO_MUCH, INCOMPLETE, and what asking throws
 */
export async function sweepStream(
  ask: StreamAsk,
  { share, reachMs, stream }: Sweep,
  tables: { readonly load: StreamLoad; readonly shape: Shape },
  api: ApiInside,
): Promise<Committed & { readonly keys: number }> {
  const inTurn = pLimit(1);
  const { cursor } = stream;
  const since = cursor && startOfCursor(cursor, undefined, ask.nowMs).since;
  let keys = 0;
  const take = async (records: readonly unknown[]) => {
    const living = tables.shape.shapeKeys(records);
    if (living === undefined)
      throw new BridgeError("INCOMPLETE", "A record came without a key like those that stand.", {
        hint: "Let the sweep's records hold the stream's key, in the form in which the stream itself has it.",
      });
    keys += living.rows;
    if (living.rows > 0) await tables.load.addLiving(living);
  };
  try {
    const atOnce = pLimit(api.connector.api.rate_limit.concurrency);
    const parts = await ask.parts();
    const one = async (part: (typeof parts)[number]) => {
      for await (const page of ask.pagesOf(part, { since, mayRepeat: true }))
        await inTurn(() => take(page.came));
    };
    await Promise.all(parts.map((part) => atOnce(() => one(part))));
    const newer =
      reachMs === undefined || cursor?.field === undefined
        ? undefined
        : { path: formatPath(cursor.field), thanMs: ask.nowMs - reachMs + BORDER_MS };
    return { ...(await tables.load.sweep({ atMs: api.clock.now(), share, newer })), keys };
  } catch (thrown) {
    throw unswept(thrown);
  }
}

/** What came of a sweep, in words. */
export function sweptText(keys: number, removed: number): string {
  const gone =
    removed === 0
      ? "nothing that stands is gone"
      : `${removed} ${removed === 1 ? "record is" : "records are"} gone`;
  return `A sweep asked for all keys, and ${keys} came: ${gone}.`;
}

/** The failure of a sweep: the records that came before it are in. */
function unswept(thrown: unknown): BridgeError {
  const { code, message, where, hint } = toBridgeError(thrown);
  if (isBridgeError(thrown, "SWEEP_TOO_MUCH")) return thrown;
  const cause = thrown;
  return new BridgeError(code, `The sweep was not whole, so nothing was deleted by it. ${message}`, {
    where,
    hint,
    cause,
  });
}
