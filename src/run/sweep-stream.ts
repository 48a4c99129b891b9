/** A sweep over one stream: all keys are asked for, and what stands and is not among them is gone. */

import pLimit from "p-limit";
import type { Part } from "../core/ask/parts.js";
import { BridgeError, isBridgeError, toBridgeError } from "../core/errors.js";
import { formatPath } from "../core/shape/naming.js";
import type { Shape } from "../core/shape/shape.js";
import type { Sweep } from "../core/stream/compile-stream.js";
import { startOfCursor } from "../core/track/cursor.js";
import type { Committed, StreamLoad } from "../warehouse/warehouse.js";
import type { ApiInside } from "./api.js";
import type { StreamAsk } from "./ask/stream-ask.js";
import type { TablesOptions } from "./open-tables.js";
import { concernsAllParts } from "./outcome.js";

/** Whether the API gives what lies right at the begin of a reach is not known. */
const BORDER_MS = 1000;

/** Whether a sweep is due: the rows that stand were written in place, and the last one is long enough ago. */
export async function sweepIsDue(
  { everyMs }: Sweep,
  { fresh }: StreamLoad,
  { session, bridge, write, into, startedAtMs }: TablesOptions,
  stream: string,
): Promise<boolean> {
  // rows that the API does not know may be somebody else's there
  if (into !== undefined || fresh || write.buildsBeside || write.deletes === undefined) return false;
  const last = await session.ledger.lastSweep(bridge, stream);
  return last === undefined || startedAtMs - last >= everyMs;
}

/** What a sweep has changed. */
export interface Swept extends Committed {
  /** keys that came */
  readonly keys: number;
  /** why some parts were not swept */
  readonly error: BridgeError | undefined;
}

/**
 * Asks for all keys, then takes away what is gone. Where keys do not come whole, nothing is taken away: of the stream,
 * or of the part, where the sweep goes by parts.
 * @throws BridgeError SWEEP_TOO_MUCH, INCOMPLETE, and what asking throws
 */
export async function sweepStream(
  ask: StreamAsk,
  { share, reachMs, stream, part: field }: Sweep,
  tables: { readonly load: StreamLoad; readonly shape: Shape },
  api: ApiInside,
): Promise<Swept> {
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
  const readPart = async (part: Part) => {
    for await (const page of ask.pagesOf(part, { since, mayRepeat: true }))
      await inTurn(() => take(page.came));
  };
  try {
    const parts = await ask.parts();
    const { whole, failures } = await readParts(parts, readPart, api, field !== undefined);
    const newer =
      reachMs === undefined || cursor?.field === undefined
        ? undefined
        : { path: formatPath(cursor.field), thanMs: ask.nowMs - reachMs + BORDER_MS };
    const values = whole.flatMap((part) => Object.values(part.values).map(String));
    const only = field && { path: formatPath(field), values };
    const entry = { atMs: api.clock.now(), share, newer, only, isPartial: failures.length > 0 };
    const committed = await tables.load.sweep(entry);
    return {
      ...committed,
      keys,
      error: failures.length === 0 ? undefined : unsweptParts(failures, parts.length),
    };
  } catch (thrown) {
    throw unswept(thrown);
  }
}

interface PartFailure {
  readonly part: string;
  readonly error: BridgeError;
}

/** Reads the keys of all parts, some at a time; which came whole, and which did not, where the others may go on. */
async function readParts(
  parts: readonly Part[],
  read: (part: Part) => Promise<void>,
  { connector }: ApiInside,
  mayGoOn: boolean,
): Promise<{ readonly whole: readonly Part[]; readonly failures: readonly PartFailure[] }> {
  const atOnce = pLimit(connector.api.rate_limit.concurrency);
  const whole: Part[] = [];
  const failures: PartFailure[] = [];
  const one = async (part: Part) => {
    try {
      await read(part);
      whole.push(part);
    } catch (thrown) {
      const error = toBridgeError(thrown);
      if (!mayGoOn || concernsAllParts(error)) throw error;
      failures.push({ part: part.key, error });
    }
  };
  await Promise.all(parts.map((part) => atOnce(() => one(part))));
  if (whole.length === 0 && failures.length > 0) throw failures[0]!.error;
  return { whole, failures };
}

function unsweptParts([first, ...others]: readonly PartFailure[], parts: number): BridgeError {
  const { part, error } = first!;
  const more = others.length === 0 ? "" : ` (and ${others.length} more)`;
  const message = `The sweep left ${others.length + 1} of ${parts} parts alone, whose keys did not come whole: ${part}${more}. ${error.message}`;
  return new BridgeError(error.code, message, { where: error.where, hint: error.hint, cause: error });
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
