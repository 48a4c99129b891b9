/** Opens a stream's way into its tables: the load, the shape that fits what stands, and the cursors that count. */

import type { DeleteMode } from "../core/define/project-schema.js";
import type { WriteMethod } from "../core/define/write-method.js";
import { BridgeError } from "../core/errors.js";
import type { DriftPolicy } from "../core/shape/drift-policy.js";
import { snakeCase } from "../core/shape/naming.js";
import type { Shape } from "../core/shape/shape.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import { otherWriting, recordLife } from "../core/stream/record-life.js";
import { shapeOf } from "../core/stream/shape-of.js";
import type { SavedCursor } from "../core/track/cursor.js";
import type { StartCursors } from "../http/har.js";
import type { StreamLoad, WarehouseSession } from "../warehouse/warehouse.js";

export interface TablesOptions {
  readonly session: WarehouseSession;
  readonly run: number;
  readonly bridge: string;
  readonly schema: string;
  readonly write: WriteMethod;
  readonly deletes: DeleteMode;
  readonly drift?: DriftPolicy | undefined;
  readonly rootTables: ReadonlySet<string>;
  readonly startedAtMs: number;
  /** rows that a later run than this one wrote are not to be replaced */
  readonly notOver?: number | undefined;
  /** these cursors instead of the ledger's */
  readonly cursors: StartCursors[string] | undefined;
}

export interface OpenedTables {
  readonly load: StreamLoad;
  readonly shape: Shape;
  readonly cursors: Map<string, SavedCursor>;
  /** what to tell of the tables */
  readonly notice: string | undefined;
}

/** @throws BridgeError TABLE_NOT_OURS, WRITE_CHANGED */
export async function openTables(stream: CompiledStream, options: TablesOptions): Promise<OpenedTables> {
  const { session, bridge, schema, write, deletes, run, startedAtMs, rootTables } = options;
  const { name } = stream;
  const { ledger, names } = session;
  const rootTable = snakeCase(name);
  const known = await ledger.columns(schema, bridge, name);
  const of = {
    run,
    bridge,
    stream: name,
    schema,
    rootTable,
    loadedAtMs: startedAtMs,
    notOver: options.notOver,
  };
  const load = await session.openLoad({ ...of, write, deletes, known });
  const other = load.fresh ? undefined : otherWriting(known, stream, write);
  if (other !== undefined) {
    await load.close();
    throw writeChanged(`${schema}.${rootTable}`, other, { bridge, stream: name });
  }
  const others = await ledger.otherTables(schema, bridge, name);
  const takenTables = new Set([...rootTables, ...others]);
  takenTables.delete(rootTable);
  // rows without a key are told apart over all loads, and what tells of a record's end is a row as others
  const appends = write.deletes === undefined;
  const life = recordLife(stream, { write, deletes, loadedAtMs: startedAtMs }, known);
  const place = {
    names,
    takenTables,
    known,
    life,
    load: appends ? String(run) : undefined,
    drift: options.drift,
  };
  const shape = shapeOf(appends ? { ...stream, isRemoval: undefined } : stream, place);
  return { load, shape, ...(await openCursors(options, stream, load)) };
}

function writeChanged(table: string, other: string, where: object): BridgeError {
  return new BridgeError("WRITE_CHANGED", `The table ${table} stands, and was written ${other}.`, { where });
}

async function openCursors(
  { session, bridge, schema, write, cursors: given }: TablesOptions,
  { name }: CompiledStream,
  load: StreamLoad,
): Promise<Pick<OpenedTables, "cursors" | "notice">> {
  if (!write.keepsCursor) return { cursors: new Map(), notice: undefined };
  if (given !== undefined) return { cursors: new Map(Object.entries(given)), notice: undefined };
  const cursors = await session.ledger.cursors(bridge, name);
  const gone = load.fresh ? [snakeCase(name)] : load.missing;
  if (gone.length === 0 || cursors.size === 0) return { cursors, notice: undefined };
  // a stream that was empty so far has a cursor without a value, and no table to miss
  const hasMoved = [...cursors.values()].some(
    ({ value, resume, covered, doneAtMs }) => value ?? resume ?? covered?.[0] ?? doneAtMs,
  );
  const tables = `The table${gone.length > 1 ? "s" : ""} ${gone.map((table) => `${schema}.${table}`).join(", ")}`;
  const notice = `${tables} ${gone.length > 1 ? "are" : "is"} gone: the stream is loaded from its beginning.`;
  return { cursors: new Map(), notice: hasMoved ? notice : undefined };
}
