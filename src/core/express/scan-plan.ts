/** A shape as the scan follows it: what each key leads to, with the buffers of its column. */

import { type ColumnBatch, fixedWidth, type TableBatch } from "../shape/batch.js";
import type { Scannable } from "../shape/shape.js";
import type { ColumnRule, ColumnShape, FieldNode, ObjectNode, TableShape } from "../shape/table-shape.js";
import { ColumnBuffers } from "./column-buffers.js";
import type { FieldPath } from "./sketch.js";
import type { WasmScan } from "./wasm-scan.js";

/** A field that is to be in the sketch of its record, or some of the fields in it. */
export interface Slot {
  readonly key: string;
  /** where the scan notes its place */
  readonly index: number;
  readonly within: readonly Slot[] | undefined;
}

/** A table while it is filled. */
export interface TableScan {
  readonly shape: TableShape;
  /** its address */
  readonly at: number;
  readonly columns: ReadonlyMap<ColumnShape, ColumnBuffers>;
  readonly places: readonly ColumnBuffers[];
}

/** A stream's tables in the scan's memory. */
export interface ScanPlan {
  /** the stream's own first */
  readonly tables: readonly TableScan[];
  /** addresses of the list of them, of that of the columns of the key, and of that of the fields that are required */
  readonly list: number;
  readonly keyList: number;
  readonly requiredList: number;
  readonly slots: readonly Slot[];
  readonly slotCount: number;
}

const encoder = new TextEncoder();

/**
 * Makes a plan where the scan's memory is free. undefined where a table is of a kind that is not scanned, and where a
 * required field is not known to it. `wanted`: fields of records whose values asking needs.
 */
export function scanPlan(
  wasm: WasmScan,
  scannable: Scannable,
  wanted: readonly FieldPath[],
  required: readonly string[],
): ScanPlan | undefined {
  const { tables, isTelling, key, nextRowId } = scannable;
  if (tables.length === 0 || !tables.every(isScanned)) return undefined;
  const scans = new Map(tables.map((shape) => [shape, tableScan(wasm, shape, scannable)]));
  const maker = new PlanMaker(wasm, scans, isTelling);
  const list = listOf(
    wasm,
    [...scans.values()].map(({ at }) => at),
  );
  const slots: Slot[] = [];
  for (const [index, scan] of [...scans.values()].entries()) {
    const { shape, at } = scan;
    wasm.calls.setRoot(at, maker.node(shape.root, scan, index === 0 ? wanted : [], slots));
  }
  const root = scans.get(tables[0]!)!;
  const { order } = tables[0]!.root;
  const needed = required.map((name) => maker.entries.get(order.find(({ key }) => key === name)!));
  if (!needed.every((entry) => entry !== undefined)) return undefined;
  if (key.some((column) => !root.columns.has(column))) return undefined;
  // what we name ourselves has its key behind the scan
  const keys = nextRowId === undefined ? key : [];
  const keyList = listOf(
    wasm,
    keys.map((column) => root.columns.get(column)!.at),
  );
  const requiredList = listOf(wasm, needed);
  return { tables: [...scans.values()], list, keyList, requiredList, slots, slotCount: maker.slotCount };
}

/** A list of addresses. */
function listOf({ calls }: WasmScan, addresses: readonly number[]): number {
  const list = calls.newList(addresses.length);
  for (const [index, address] of addresses.entries()) calls.setItem(list, index, address);
  return list;
}

function isScanned({ columns }: TableShape): boolean {
  return columns.every(({ role, rule }) => SCANNED.has(role) && rule.into === undefined);
}

function tableScan(wasm: WasmScan, shape: TableShape, { life }: Scannable): TableScan {
  const { calls } = wasm;
  const filled = shape.columns.filter(
    (column) =>
      column.type !== undefined &&
      (OF_RECORD.has(column.role) || column === life.state || column === life.identity),
  );
  const all = [...filled, ...shape.places];
  const list = calls.newList(all.length);
  const placeList = calls.newList(shape.places.length);
  const at = calls.newTable(list, placeList);
  const buffers = all.map((column) => new ColumnBuffers(wasm, at, column, column.type!));
  for (const [i, column] of buffers.entries()) calls.setItem(list, i, column.at);
  const places = buffers.slice(filled.length);
  for (const [level, place] of places.entries()) calls.setItem(placeList, level, place.at);
  return { shape, at, columns: new Map(filled.map((column, i) => [column, buffers[i]!])), places };
}

/** Roles of columns that hold values of the record, or name it. */
const OF_RECORD: ReadonlySet<string> = new Set(["data", "row_id"]);

/** Roles of columns of tables that are scanned. */
const SCANNED: ReadonlySet<string> = new Set([
  ...OF_RECORD,
  ...["link", "position", "state", "valid_from", "valid_to", "deleted"],
]);

/** When a record was gone, or another state of it came, stands in no row that comes. */
const LATER: ReadonlySet<string> = new Set(["valid_to", "deleted"]);

/** Makes what keys lead to, object by object. */
class PlanMaker {
  slotCount = 0;
  /** the address of each field */
  readonly entries = new Map<FieldNode, number>();

  constructor(
    private readonly wasm: WasmScan,
    private readonly scans: ReadonlyMap<TableShape, TableScan>,
    private readonly isTelling: Scannable["isTelling"],
  ) {}

  /** The address of an object's fields. `slots` takes those that are wanted. */
  node({ order }: ObjectNode, scan: TableScan, wanted: readonly FieldPath[], slots: Slot[]): number {
    // a key that has to be escaped is for the plain reader
    const fields = order.filter(
      ({ key }) => JSON.stringify(key).length === key.length + 2 && this.isTelling?.(key) !== true,
    );
    const node = this.wasm.calls.newNode(fields.length);
    for (const [index, field] of fields.entries()) {
      const paths = wanted.filter(([key]) => key === field.key);
      this.entry(node, index, field, scan, paths, slots);
    }
    return node;
  }

  private entry(
    node: number,
    index: number,
    field: FieldNode,
    scan: TableScan,
    wanted: readonly FieldPath[],
    slots: Slot[],
  ): void {
    const { wasm } = this;
    const { calls } = wasm;
    const { key, rule, object, children, concealedBelow } = field;
    const isPlain = isPlainRule(rule);
    // what is not to be seen within a value has to be looked for
    const isWhole = rule.as === undefined && concealedBelow.length === 0;
    const column = field.column && isWhole ? scan.columns.get(field.column) : undefined;
    const takesObjects =
      isPlain && rule.type === undefined && object !== undefined && object.entries === undefined;
    const items =
      isPlain && children !== undefined && hasPlainItems(children, scan)
        ? this.scans.get(children)
        : undefined;

    const slot = wanted.length === 0 ? -1 : this.slotCount++;
    const isWantedWhole = !takesObjects || wanted.some(({ length }) => length === 1);
    const within: Slot[] | undefined = slot < 0 || isWantedWhole ? undefined : [];
    if (slot >= 0) slots.push({ key, index: slot, within });
    const paths = within === undefined ? [] : wanted.map((path) => path.slice(1));
    const inner = takesObjects ? this.node(object, scan, paths, within ?? []) : 0;

    const token = encoder.encode(`"${key}":`);
    const entry = calls.setEntry(node, index, token.length, slot);
    this.entries.set(field, entry);
    wasm.bytes.set(token, calls.tokenOf(entry));
    const isJson = column?.type.kind === "json";
    calls.describe(entry, rule.skip === true, rule.type !== undefined, children !== undefined, isJson);
    calls.leadTo(entry, column?.isTaking === true ? column.at : 0, inner, items?.at ?? 0);
  }
}

/** Whether values go into their columns as they come. */
function isPlainRule({ as, conceal, read, digits, hash }: ColumnRule): boolean {
  return (
    as === undefined && conceal === undefined && read === undefined && digits !== true && hash === undefined
  );
}

/** Whether a list holds objects whose fields are columns of a table of its own. */
function hasPlainItems(child: TableShape, { shape }: TableScan): boolean {
  const { item, root } = child;
  return (
    child !== shape &&
    item !== undefined &&
    isPlainRule(item.rule) &&
    item.rule.type === undefined &&
    item.rule.skip !== true &&
    root.entries === undefined
  );
}

/** What the scan has of a table, as the plain reader would give it. */
export function batchOf(
  wasm: WasmScan,
  scan: TableScan,
  root: TableScan,
  identity: ColumnShape | undefined,
): TableBatch | undefined {
  const { shape, at } = scan;
  const { calls } = wasm;
  const rows = calls.rowsOf(at);
  const records = calls.rowsOf(root.at);
  if (rows === 0) return undefined;
  const recordOf = new Int32Array(wasm.slice(calls.recordOf(at), rows * 4));
  const columns: ColumnBatch[] = [];
  for (const column of shape.columns) {
    const { type, role, source } = column;
    if (type === undefined || LATER.has(role)) continue;
    const own = scan.columns.get(column);
    if (own !== undefined) columns.push(own.batch(wasm, rows));
    else if (role === "position") columns.push(scan.places[shape.places.indexOf(column)]!.batch(wasm, rows));
    else {
      const key = root.columns.get(source ?? identity!)!.batch(wasm, records);
      columns.push(repeated(column, key, recordOf, rows));
    }
  }
  return { table: shape.name, rows, recordOf, columns };
}

/**
 * The record's key, or what tells its states apart, in each row of it. A record has one row in the stream's own table,
 * and the number of that row.
 */
function repeated({ name }: ColumnShape, key: ColumnBatch, recordOf: Int32Array, rows: number): ColumnBatch {
  const { type, utf8 } = key;
  if (utf8 !== undefined) {
    const begin = (record: number) => (record === 0 ? 0 : utf8.ends[record - 1]!);
    const ends = new Uint32Array(rows);
    let end = 0;
    for (let row = 0; row < rows; row++) {
      const record = recordOf[row]!;
      end += utf8.ends[record]! - begin(record);
      ends[row] = end;
    }
    const bytes = new Uint8Array(end);
    for (let row = 0; row < rows; row++) {
      const record = recordOf[row]!;
      bytes.set(utf8.bytes.subarray(begin(record), utf8.ends[record]!), row === 0 ? 0 : ends[row - 1]!);
    }
    return { name, type, validity: undefined, data: undefined, texts: undefined, utf8: { bytes, ends } };
  }
  const width = fixedWidth(type);
  const data = new ArrayBuffer(rows * width);
  if (width === 8) {
    // an int64 may be the pattern of a NaN: halves are copied, not floats
    const [from, to] = [new Int32Array(key.data!), new Int32Array(data)];
    for (let row = 0; row < rows; row++) {
      const record = recordOf[row]!;
      to[row * 2] = from[record * 2]!;
      to[row * 2 + 1] = from[record * 2 + 1]!;
    }
  } else {
    const [from, to] = [new Uint8Array(key.data!), new Uint8Array(data)];
    for (let row = 0; row < rows; row++) {
      const at = recordOf[row]! * width;
      to.set(from.subarray(at, at + width), row * width);
    }
  }
  return { name, type, validity: undefined, data, texts: undefined };
}
