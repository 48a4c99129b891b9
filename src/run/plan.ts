/** `planBridge`: what a run would ask and write, before anything is sent. */

import { WHOLE_STREAM } from "../core/ask/parts.js";
import type { WriteMode } from "../core/define/project-schema.js";
import { WRITE_METHODS } from "../core/define/write-method.js";
import { isBridgeError } from "../core/errors.js";
import type { IntoTable } from "../core/into/table-faults.js";
import { nameOfTable, type UserTable } from "../core/into/user-table.js";
import { snakeCase } from "../core/shape/naming.js";
import type { KnownColumn } from "../core/shape/shaped.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import { type Described, describeStream } from "../core/stream/describe-stream.js";
import { otherWriting } from "../core/stream/record-life.js";
import { cursorsOf, type SavedCursor } from "../core/track/cursor.js";
import { describeCursors, PartProgress } from "../core/track/part-progress.js";
import type { WarehouseSession } from "../warehouse/warehouse.js";
import { type Api, insideOf } from "./api.js";
import type { Bridge } from "./bridge.js";
import { asBridged } from "./bridge-stream.js";
import { hasNoTables } from "./open-tables.js";
import { planInto } from "./plan-into.js";

/** What a run would ask for a stream, in words. */
export interface StreamPlan extends Described {
  readonly stream: string;
  readonly table: string;
  readonly write: WriteMode;
}

/**
 * The plan of a bridge's streams. Nothing is sent to the API; the warehouse is only read, where there is one.
 * @throws BridgeError CONFIG_INVALID where the API's limits of a request are not kept, or the warehouse has no tables
 * that stand
 */
export async function planBridge(bridge: Bridge, of: Api): Promise<StreamPlan[]> {
  const api = insideOf(of);
  const saved = await readStanding(bridge);
  const plans = [...bridge.streams].map(async ([name, choices]) => {
    const { write, into } = choices;
    if (into !== undefined && bridge.warehouse.hasFiles === true) throw hasNoTables(name);
    const { cursors: standing = NONE, known = [], userTable } = saved.get(name) ?? {};
    const stream = asBridged(await api.stream(name), choices, api);
    const table =
      into === undefined ? `${bridge.schema}.${snakeCase(name)}` : nameOfTable(placeOf(bridge, into));
    const own = cursorsOf(standing, into && table);
    const cursors = WRITE_METHODS[write].keepsCursor ? own : NONE;
    const { lines, warnings } = describeStream(stream, whereItStands(stream, cursors, api.clock.now()));
    const notes =
      into === undefined
        ? { lines: [], warnings: writingWarnings(stream, known, write, table) }
        : planInto(stream, { ...into, ...placeOf(bridge, into) }, userTable, write);
    const all = { lines: [...notes.lines, ...lines], warnings: [...warnings, ...notes.warnings] };
    return { stream: name, table, write, ...all };
  });
  return Promise.all(plans);
}

/** Where the next run begins. */
function whereItStands(
  { cursor, definition }: CompiledStream,
  cursors: ReadonlyMap<string, SavedCursor>,
  nowMs: number,
): Parameters<typeof describeStream>[1] {
  const rule = { cursor, field: undefined, windows: definition.windows };
  const whole = new PartProgress(WHOLE_STREAM, rule, cursors.get(""), nowMs);
  const hasParts = definition.each !== undefined;
  const stands = (each: readonly SavedCursor[]) => describeCursors(each, rule.windows, nowMs);
  // which parts there are is not known before they are asked for
  const begun = [...cursors.values()].filter((each) => stands([each]) !== undefined);
  return {
    since: hasParts || rule.windows !== undefined ? stands(begun) : whole.start.since,
    windows: !hasParts && rule.windows !== undefined ? whole.windows().length : undefined,
    parts: hasParts ? begun.length : undefined,
  };
}

/** Where a table that stands already is. */
const placeOf = ({ schema }: Bridge, into: IntoTable) => ({
  schema: into.schema ?? schema,
  name: into.table,
});

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

/** What is known of each stream: by the ledger, and of the table that it goes into by the warehouse. */
interface Standing {
  readonly cursors: ReadonlyMap<string, SavedCursor>;
  readonly known: readonly KnownColumn[];
  readonly userTable: UserTable | undefined;
}

async function readStanding(bridge: Bridge): Promise<Map<string, Standing>> {
  const hasUserTables = [...bridge.streams.values()].some(({ into }) => into !== undefined);
  try {
    return await standingIn(bridge, await bridge.warehouse.open({ readOnly: true }), true);
  } catch (error) {
    // before the first run there is none
    if (!isBridgeError(error, "WAREHOUSE_EMPTY")) throw error;
    if (!hasUserTables) return new Map();
  }
  // but tables that are not ours may be there
  const open = bridge.warehouse.open({ readOnly: true, withoutLedger: true });
  const session = await open.catch((error: unknown) => {
    if (!isBridgeError(error, "WAREHOUSE_EMPTY")) throw error;
  });
  return session === undefined ? new Map() : standingIn(bridge, session, false);
}

async function standingIn(
  bridge: Bridge,
  session: WarehouseSession,
  hasLedger: boolean,
): Promise<Map<string, Standing>> {
  const standing = new Map<string, Standing>();
  const { ledger } = session;
  try {
    for (const [stream, { into }] of bridge.streams) {
      const place = into && placeOf(bridge, into);
      standing.set(stream, {
        cursors: hasLedger ? await ledger.cursors(bridge.name, stream) : NONE,
        known: hasLedger ? await ledger.columns(bridge.schema, bridge.name, stream) : [],
        userTable: place && (await session.userTable?.(place.schema, place.name)),
      });
    }
  } finally {
    await session.close();
  }
  return standing;
}
