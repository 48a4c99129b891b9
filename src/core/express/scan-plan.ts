/** A shape as the scanner follows it: what each key leads to, with the buffers of its column. */

import type { ColumnBatch, TableBatch } from "../shape/batch.js";
import { fixedWidth } from "../shape/batch.js";
import type { Scannable } from "../shape/shape.js";
import type { ColumnRule, ColumnShape, FieldNode, ObjectNode, TableShape } from "../shape/table-shape.js";
import { ColumnBuilder } from "./column-builder.js";
import type { FieldPath } from "./sketch.js";
import { type PutValue, putterOf } from "./values.js";

/** A key of an object, and where its values go; what has no place is for the plain reader. */
export interface Entry {
  readonly name: Uint8Array;
  readonly index: number;
  /** its values are left out */
  readonly isSkipped: boolean;
  readonly column: ColumnBuilder | undefined;
  readonly put: PutValue | undefined;
  readonly isJson: boolean;
  /** it has the type of its column, objects and lists as well */
  readonly isDeclared: boolean;
  readonly hasTable: boolean;
  readonly object: Node | undefined;
  readonly items: TableScan | undefined;
  readonly key: string;
  readonly token: Token | undefined;
  /** asking needs its value, or some of the fields in it */
  wanted: "whole" | "within" | undefined;
  /** the object that had it last: a key that comes twice is for the plain reader */
  lastObject: number;
}

export interface Node {
  readonly entries: Entry[];
}

/** A table while it is filled. */
export class TableScan {
  rows = 0;
  /** rows before the record at hand */
  before = 0;
  /** which record each row is of */
  recordOf = new Int32Array(64);
  readonly root: Node = { entries: [] };
  readonly builders = new Map<ColumnShape, ColumnBuilder>();
  readonly places: ColumnBuilder[] = [];

  constructor(readonly shape: TableShape) {}

  /** Takes the rows of the record at hand away. */
  dropRows(): void {
    for (const builder of [...this.builders.values(), ...this.places]) builder.drop(this.before, this.rows);
    this.rows = this.before;
  }

  clear(): void {
    for (const builder of [...this.builders.values(), ...this.places]) builder.clear();
    this.rows = 0;
  }

  addRow(record: number): number {
    const row = this.rows++;
    if (row >= this.recordOf.length) {
      const larger = new Int32Array(row * 2);
      larger.set(this.recordOf);
      this.recordOf = larger;
    }
    this.recordOf[row] = record;
    return row;
  }
}

const encoder = new TextEncoder();

/** A key as it mostly stands there: in quotes, a colon behind; in words of 4 bytes, the last over the one before. */
export interface Token {
  readonly words: Int32Array;
  readonly length: number;
}

/** undefined: it is shorter than a word. */
function tokenOf(key: string): Token | undefined {
  const { buffer, length } = encoder.encode(`"${key}":`);
  if (length < 4) return undefined;
  const view = new DataView(buffer);
  const words = new Int32Array(Math.ceil(length / 4));
  for (let i = 0; i < words.length; i++) words[i] = view.getInt32(Math.min(i * 4, length - 4), true);
  return { words, length };
}

/** Makes the scans of all tables, the stream's own first; undefined where a table is of a kind that is not scanned. */
export function scanPlan(
  { tables, isTelling, life }: Scannable,
  records: number,
): readonly TableScan[] | undefined {
  const scans = new Map(tables.map((shape) => [shape, new TableScan(shape)]));
  for (const scan of scans.values()) {
    const { shape } = scan;
    if (shape.columns.some(({ role, rule }) => !SCANNED.has(role) || rule.into !== undefined))
      return undefined;
    for (const column of shape.columns)
      if (
        column.type !== undefined &&
        (OF_RECORD.has(column.role) || column === life.state || column === life.identity)
      )
        scan.builders.set(column, new ColumnBuilder(column, column.type, records));
    for (const place of shape.places) scan.places.push(new ColumnBuilder(place, place.type!, records));
  }
  const plan = { scans, isTelling };
  for (const scan of scans.values()) fillNode(scan.root, scan.shape.root, scan, plan);
  return [...scans.values()];
}

/** Notes which fields of a record have values that asking needs; what is wanted whole has all that is in it. */
export function noteWanted({ entries }: Node, wanted: readonly FieldPath[]): void {
  for (const entry of entries) {
    const paths = wanted.filter(([key]) => key === entry.key);
    if (paths.length === 0) continue;
    const { object } = entry;
    entry.wanted = object === undefined || paths.some(({ length }) => length === 1) ? "whole" : "within";
    const inner = paths.map((path) => path.slice(1));
    if (entry.wanted === "within") noteWanted(object!, inner);
  }
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

interface Plan {
  readonly scans: ReadonlyMap<TableShape, TableScan>;
  readonly isTelling: Scannable["isTelling"];
}

function fillNode(node: Node, { order }: ObjectNode, scan: TableScan, plan: Plan): void {
  for (const field of order) {
    const { length } = JSON.stringify(field.key);
    // a key that has to be escaped is for the plain reader
    if (length === field.key.length + 2 && plan.isTelling?.(field.key) !== true)
      node.entries.push(entryOf(field, node.entries.length, scan, plan));
  }
}

function entryOf(field: FieldNode, index: number, scan: TableScan, plan: Plan): Entry {
  const { rule, object, children, concealedBelow } = field;
  const isPlain = isPlainRule(rule);
  // what is not to be seen within a value has to be looked for
  const isWhole = rule.as === undefined && concealedBelow.length === 0;
  const builder = field.column && isWhole ? scan.builders.get(field.column) : undefined;
  const takesObjects =
    isPlain && rule.type === undefined && object !== undefined && object.entries === undefined;
  const inner: Node | undefined = takesObjects ? { entries: [] } : undefined;
  if (inner !== undefined) fillNode(inner, object!, scan, plan);
  const items =
    isPlain && children !== undefined && hasPlainItems(children, scan) ? plan.scans.get(children) : undefined;
  return {
    name: encoder.encode(field.key),
    index,
    isSkipped: rule.skip === true,
    column: builder,
    put: builder && putterOf(builder),
    isJson: builder?.type.kind === "json",
    isDeclared: rule.type !== undefined,
    hasTable: children !== undefined,
    object: inner,
    items,
    key: field.key,
    token: tokenOf(field.key),
    wanted: undefined,
    lastObject: 0,
  };
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
  scan: TableScan,
  root: TableScan,
  records: number,
  identity: ColumnShape | undefined,
): TableBatch | undefined {
  const { shape, rows, recordOf } = scan;
  const columns: ColumnBatch[] = [];
  for (const column of shape.columns) {
    const { type, role, source } = column;
    if (type === undefined || rows === 0 || LATER.has(role)) continue;
    const own = scan.builders.get(column);
    if (own !== undefined) columns.push(own.batch(rows));
    else if (role === "position") columns.push(scan.places[shape.places.indexOf(column)]!.batch(rows));
    else
      columns.push(repeated(column, root.builders.get(source ?? identity!)!.batch(records), recordOf, rows));
  }
  if (rows === 0) return undefined;
  return { table: shape.name, rows, recordOf: recordOf.slice(0, rows), columns };
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
