/** A stream's tables as the scan follows them. They are made once, and then carried from page to page as bytes. */

import { allocateZeros } from "./memory";

/** How a column takes values; `OUTSIDE`: its owner says. */
export namespace Kind {
  export const BOOLEAN = 1;
  export const INTEGER = 2;
  export const FLOAT = 3;
  export const DECIMAL = 4;
  export const TEXT = 5;
  export const JSON_TEXT = 6;
  export const DATE = 7;
  export const INSTANT = 8;
  export const LOCAL_TIME = 9;
  export const UUID = 10;
  export const OUTSIDE = 11;
}

@unmanaged
export class Column {
  kind: i32;
  /** bits of the kinds of values it has seen: others are not taken */
  seen: i32;
  isDeclared: bool;
  /** bytes of a value; 0: texts, each with its length before it */
  width: u32;
  /** of decimals */
  limit: f64;
  scale: i32;
  data: usize;
  /** of texts: bytes that there is room for, and those that are written */
  room: u32;
  end: u32;
  /** of texts: where the text of each row ends */
  ends: usize;
  /** a bit for each row that has a value */
  validity: usize;
  table: Table;
}

@unmanaged
export class Table {
  rows: u32;
  /** rows before the record at hand, and before those that are taken at once */
  before: u32;
  first: u32;
  /** rows that there is room for, in whole groups of 64 */
  room: u32;
  /** which record each row is of */
  recordOf: usize;
  columns: usize;
  columnCount: u32;
  /** columns of the places of items, outermost first */
  places: usize;
  root: Node;
}

/** Fields of an object. */
@unmanaged
export class Node {
  count: u32;
  entries: usize;
}

@unmanaged
export class Entry {
  /** how its column takes values; 0: not at all */
  kind: i32;
  /** a key as it mostly stands there, in quotes, a colon behind; before it which bits of its first 16 bytes count */
  token: usize;
  length: u32;
  isSkipped: bool;
  isDeclared: bool;
  hasTable: bool;
  isJson: bool;
  column: Column | null;
  object: Node | null;
  items: Table | null;
  /** where in the sketch its value is noted; -1: nowhere */
  slot: i32;
  /** the object that had it last: a key that comes twice is not taken */
  lastObject: u32;
}

/** A list of so many addresses. */
export function newList(count: u32): usize {
  const list = allocateZeros((count + 1) * sizeof<usize>());
  store<usize>(list, count);
  return list;
}

export function lengthOf(list: usize): u32 {
  return <u32>load<usize>(list);
}

export function setItem(list: usize, index: u32, item: usize): void {
  store<usize>(list + index * sizeof<usize>(), item, 4);
}

export function itemAt(list: usize, index: u32): usize {
  return load<usize>(list + index * sizeof<usize>(), 4);
}

/** `columns` and `places`: lists that its owner fills. */
export function newTable(columns: usize, places: usize): Table {
  const table = changetype<Table>(allocateZeros(offsetof<Table>()));
  table.columns = columns;
  table.columnCount = lengthOf(columns);
  table.places = places;
  table.room = 64;
  return table;
}

export function rowsOf(table: Table): u32 {
  return table.rows;
}

export function recordOf(table: Table): usize {
  return table.recordOf;
}

export function setRoot(table: Table, root: Node): void {
  table.root = root;
}

export function tableAt(tables: usize, index: u32): Table {
  return changetype<Table>(itemAt(tables, index));
}

export function columnAt(table: Table, index: u32): Column {
  return changetype<Column>(itemAt(table.columns, index));
}

export function placeAt(table: Table, level: u32): Column {
  return changetype<Column>(itemAt(table.places, level));
}

export function newColumn(table: Table, kind: i32, width: u32, seen: i32, isDeclared: bool): Column {
  const column = changetype<Column>(allocateZeros(offsetof<Column>()));
  column.kind = kind;
  column.width = width;
  column.seen = seen;
  column.isDeclared = isDeclared;
  column.room = 1024;
  column.table = table;
  return column;
}

export function dataOf(column: Column): usize {
  return column.data;
}

export function endsOf(column: Column): usize {
  return column.ends;
}

export function endOf(column: Column): u32 {
  return column.end;
}

export function validityOf(column: Column): usize {
  return column.validity;
}

export function setDecimal(column: Column, limit: f64, scale: i32): void {
  column.limit = limit;
  column.scale = scale;
}

export function newNode(count: u32): Node {
  const node = changetype<Node>(allocateZeros(offsetof<Node>()));
  node.count = count;
  node.entries = allocateZeros(count * offsetof<Entry>());
  return node;
}

export function entryAt(node: Node, index: u32): Entry {
  return changetype<Entry>(node.entries + index * offsetof<Entry>());
}

/** An entry whose token, of so many bytes, its owner writes. */
export function setEntry(node: Node, index: u32, length: u32, slot: i32): Entry {
  const entry = entryAt(node, index);
  entry.token = allocateZeros(length + 32);
  memory.fill(entry.token, 0xff, min<u32>(length, 16));
  entry.length = length;
  entry.slot = slot;
  return entry;
}

/** Where its token is to be written. */
export function tokenOf(entry: Entry): usize {
  return entry.token + 16;
}

/** What an entry leads to; 0: nothing. */
export function leadTo(entry: Entry, column: usize, object: usize, items: usize): void {
  entry.column = changetype<Column | null>(column);
  entry.kind = column === 0 ? 0 : changetype<Column>(column).kind;
  entry.object = changetype<Node | null>(object);
  entry.items = changetype<Table | null>(items);
}

export function describe(
  entry: Entry,
  isSkipped: bool,
  isDeclared: bool,
  hasTable: bool,
  isJson: bool,
): void {
  entry.isSkipped = isSkipped;
  entry.isDeclared = isDeclared;
  entry.hasTable = hasTable;
  entry.isJson = isJson;
}
