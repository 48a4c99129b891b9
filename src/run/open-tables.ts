/** Opens a stream's way into its tables: the load, the shape that fits what stands, and the cursors that count. */

import type { DeleteMode } from "../core/define/project-schema.js";
import type { WriteMethod } from "../core/define/write-method.js";
import { BridgeError } from "../core/errors.js";
import { ColumnMatch } from "../core/into/match-columns.js";
import { type IntoTable, mismatch, noTable, tableFaults } from "../core/into/table-faults.js";
import { nameOfTable } from "../core/into/user-table.js";
import type { TypeKind } from "../core/shape/column-type.js";
import type { DriftPolicy } from "../core/shape/drift-policy.js";
import { formatPath, snakeCase } from "../core/shape/naming.js";
import type { Digest } from "../core/shape/record-state.js";
import type { Shape } from "../core/shape/shape.js";
import type { KnownColumn } from "../core/shape/shaped.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import { otherWriting, recordLife } from "../core/stream/record-life.js";
import { shapeOf } from "../core/stream/shape-of.js";
import { cursorsOf, type SavedCursor } from "../core/track/cursor.js";
import type { StartCursors } from "../http/har.js";
import type { LoadOptions, StreamLoad, WarehouseSession } from "../warehouse/warehouse.js";

export interface TablesOptions {
  readonly session: WarehouseSession;
  readonly run: number;
  readonly bridge: string;
  readonly schema: string;
  readonly write: WriteMethod;
  readonly deletes: DeleteMode;
  /** the table that stands already, which rows go into; default: the stream's own */
  readonly into?: IntoTable | undefined;
  readonly drift?: DriftPolicy | undefined;
  readonly rootTables: ReadonlySet<string>;
  readonly startedAtMs: number;
  /** what makes digests of records; default: JavaScript */
  readonly digest?: Digest | undefined;
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

/** @throws BridgeError TABLE_NOT_OURS, TABLE_MISMATCH, WRITE_CHANGED */
export async function openTables(stream: CompiledStream, options: TablesOptions): Promise<OpenedTables> {
  return options.into === undefined
    ? openOwn(stream, options)
    : openUserTable(stream, { ...options, into: options.into });
}

async function openOwn(stream: CompiledStream, options: TablesOptions): Promise<OpenedTables> {
  const { session, bridge, schema, write, deletes, startedAtMs, rootTables, run } = options;
  const { name } = stream;
  const { ledger, names } = session;
  const rootTable = snakeCase(name);
  const known = await ledger.columns(schema, bridge, name);
  const load = await session.openLoad({
    ...loadOf(options, name, schema, rootTable, columnOfCursor(stream, rootTable, known)),
    known,
  });
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
  const loadName = options.notOver === undefined ? String(run) : `${run} ${options.notOver}`;
  const life = recordLife(stream, { write, deletes, loadedAtMs: startedAtMs, digest: options.digest }, known);
  const place = {
    names,
    takenTables,
    known,
    life,
    load: appends ? loadName : undefined,
    drift: options.drift,
  };
  const shape = shapeOf(appends ? { ...stream, isRemoval: undefined } : stream, place);
  return { load, shape, ...(await openCursors(options, stream, load, undefined)) };
}

/** The same for a table that stands already. */
async function openUserTable(
  stream: CompiledStream,
  options: TablesOptions & { readonly into: IntoTable },
): Promise<OpenedTables> {
  const { session, bridge, into } = options;
  const { match, schema } = await userTableOf(stream, options);
  const { name } = stream;
  const of = { schema, bridge, stream: name };
  const filled = (await session.ledger.filledColumns?.(of, into.table)) ?? [];
  const load = await session.openLoad({
    ...loadOf(options, name, schema, into.table),
    into: { match, removes: into.removes, filled },
  });
  const shape = shapeOf(stream, { names: session.names, known: filled, into: match });
  return { load, shape, ...(await openCursors(options, stream, load, nameOfTable(match.table))) };
}

/** For a stream that is to go into a table that stands, in a warehouse that has files alone. */
export const hasNoTables = (stream: string) =>
  new BridgeError(
    "CONFIG_INVALID",
    `Stream ${stream} goes into no table that stands: the warehouse has none.`,
    {
      where: { stream },
      hint: "into: goes with PostgreSQL, MariaDB, MySQL and DuckDB; take it out, and the stream gets files of its own.",
    },
  );

/**
 * The table that stands already, which a stream goes into, and which of its columns take which fields.
 * @throws BridgeError TABLE_MISMATCH where it is not there, or does not fit
 */
export async function userTableOf(
  stream: CompiledStream,
  {
    session,
    into,
    write,
    ...options
  }: Pick<TablesOptions, "session" | "schema" | "write"> & { readonly into: IntoTable },
): Promise<{ readonly match: ColumnMatch; readonly schema: string }> {
  const schema = into.schema ?? options.schema;
  const place = { schema, name: into.table };
  if (session.userTable === undefined) throw hasNoTables(stream.name);
  const table = await session.userTable(schema, into.table);
  if (table === undefined) throw mismatch(stream.name, place, [noTable(schema, into.table)]);
  const match = new ColumnMatch(table, into.columns);
  const faults = tableFaults(stream, match, write, into.removes);
  if (faults.length > 0) throw mismatch(stream.name, place, faults);
  return { match, schema };
}

const loadOf = (
  { run, bridge, write, deletes, startedAtMs, notOver }: TablesOptions,
  stream: string,
  schema: string,
  rootTable: string,
  column?: string,
): LoadOptions => ({
  run,
  bridge,
  stream,
  schema,
  rootTable,
  write,
  deletes,
  loadedAtMs: startedAtMs,
  notOver: notOver === undefined ? undefined : { run: notOver, column },
});

/** Kinds of columns that a warehouse orders as the API does; texts may have an order of its own. */
const ORDERED_ALIKE = new Set<TypeKind>([
  "int64",
  "float64",
  "decimal",
  "date",
  "timestamp",
  "local_timestamp",
]);

/** The column that tells which of two states of a record is the later one. */
function columnOfCursor(
  { cursor }: CompiledStream,
  table: string,
  known: readonly KnownColumn[],
): string | undefined {
  if (cursor?.field === undefined) return undefined;
  const path = formatPath(cursor.field);
  const column = known.find((each) => each.table === table && each.path === path);
  return column !== undefined && ORDERED_ALIKE.has(column.type.kind) ? column.name : undefined;
}

function writeChanged(table: string, other: string, where: object): BridgeError {
  return new BridgeError("WRITE_CHANGED", `The table ${table} stands, and was written ${other}.`, { where });
}

async function openCursors(
  { session, bridge, schema, write, cursors: given }: TablesOptions,
  { name }: CompiledStream,
  load: StreamLoad,
  into: string | undefined,
): Promise<Pick<OpenedTables, "cursors" | "notice">> {
  if (!write.keepsCursor) return { cursors: new Map(), notice: undefined };
  if (given !== undefined) return { cursors: new Map(Object.entries(given)), notice: undefined };
  const saved = await session.ledger.cursors(bridge, name);
  const own = cursorsOf(saved, into);
  const gone = into !== undefined ? [] : load.fresh ? [snakeCase(name)] : load.missing;
  const cursors = gone.length === 0 ? own : new Map<string, SavedCursor>();
  const elsewhere = [...saved.values()].filter((cursor) => cursor.into !== into);
  if (elsewhere.some(hasMoved)) {
    const where = elsewhere[0]!.into ?? "the stream's own table";
    const whole = cursors.size === 0 ? "the stream is" : "those parts are";
    const notice = `So far its records went into ${where}: for ${into ?? "its own table"}, ${whole} loaded from the beginning.`;
    return { cursors, notice };
  }
  if (gone.length === 0 || ![...own.values()].some(hasMoved)) return { cursors, notice: undefined };
  const tables = `The table${gone.length > 1 ? "s" : ""} ${gone.map((table) => `${schema}.${table}`).join(", ")}`;
  const notice = `${tables} ${gone.length > 1 ? "are" : "is"} gone: the stream is loaded from its beginning.`;
  return { cursors, notice };
}

/** Whether anything was loaded: a stream that was empty so far has a cursor without a value, and no table to miss. */
function hasMoved({ value, resume, covered, doneAtMs }: SavedCursor): boolean {
  return (value ?? resume ?? covered?.[0] ?? doneAtMs) !== undefined;
}
