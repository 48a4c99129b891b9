/**
 * Scans records out of the bytes of a page into the columns of their tables. The JSON is checked on the way: where it
 * is none, or no record as the tables have them, the record is not taken (0).
 */

import { addRow, dropRows, has, openTable, putBytes, putLong, settleTable } from "./columns";
import { behindColon, blanks, skipValue, startsWith } from "./json";
import { allocate, BEHIND } from "./memory";
import { Column, Entry, itemAt, Kind, lengthOf, Node, placeAt, Table, tableAt } from "./plan";
import { areAsked, openStates, writeState } from "./state";
import { cutTo, end as endOfTexts } from "./state-text";
import { copyText } from "./text";
import { isUtf8 } from "./utf8";
import { putAs } from "./values";

/** Items stand in items of items, so deep at most. */
const MOST_LEVELS = 64;
/** So many records are taken at once, at most. */
const MOST_NOTES = 256;
/** Bytes of what is noted of a record beside its sketch. */
const OF_RECORD = 16;
const places = memory.data(MOST_LEVELS * 4);
let tables: usize = 0;
let tableCount: u32 = 0;
let root: Table = changetype<Table>(0);
/**
 * What is noted of records: where each begins and ends, and where the text of its state does, then where the values of
 * its sketch do; 0: it has none.
 */
let notes: usize = 0;
let noteLength: u32 = 0;
/** of the record at hand; 0: nothing is noted */
let slots: usize = 0;
/** columns that have a value in each record */
let keys: usize = 0;
let keyCount: u32 = 0;
/** entries of fields without which a record is not whole */
let required: usize = 0;
let requiredCount: u32 = 0;
let isWhole: bool = false;
let level: u32 = 0;
/** numbers the objects of all pages */
let objects: u32 = 0;
let record: u32 = 0;

/** Room for a page: where its bytes are to be written. */
export function pageRoom(length: usize): usize {
  const page = allocate(length + BEHIND);
  memory.fill(page + length, 0, BEHIND);
  return page;
}

/**
 * What records are scanned into: the list of tables, the stream's own first, of the columns of its key, and of the
 * entries that each record must have; `states`: what is known of records for the digests of their states, or 0.
 */
export function usePlan(
  allTables: usize,
  allKeys: usize,
  allRequired: usize,
  slotCount: u32,
  states: usize,
): void {
  tables = allTables;
  tableCount = lengthOf(allTables);
  root = tableAt(allTables, 0);
  keys = allKeys;
  keyCount = lengthOf(allKeys);
  required = allRequired;
  requiredCount = lengthOf(allRequired);
  noteLength = OF_RECORD + slotCount * 8;
  openStates(states);
}

/** Begins with a page, tables empty. Without UTF-8 no record of it is taken. Gives where records are noted. */
export function beginPage(page: usize, length: usize): usize {
  isWhole = isUtf8(page, length);
  notes = allocate(MOST_NOTES * noteLength);
  for (let i: u32 = 0; i < tableCount; i++) openTable(tableAt(tables, i));
  return notes;
}

export function settle(): void {
  for (let i: u32 = 0; i < tableCount; i++) settleTable(tableAt(tables, i));
}

/**
 * Takes records, the first of which begins at a place, and others that follow it in a list: how many, up to `most`.
 * `news`: an object with further fields of each.
 */
export function takeRecords(start: usize, most: u32, news: usize, newsEnd: usize): u32 {
  let at = start;
  let count: u32 = 0;
  const limit = isWhole ? min<u32>(most, MOST_NOTES) : 0;
  cutTo(0);
  for (let i: u32 = 0; i < tableCount; i++) tableAt(tables, i).first = tableAt(tables, i).rows;
  while (count < limit) {
    const note = notes + count * noteLength;
    memory.fill(note, 0, noteLength);
    slots = note + OF_RECORD;
    store<u32>(note, endOfTexts, 8);
    const end = takeRecord(at, news, newsEnd);
    if (end === 0) break;
    store<u32>(note, at);
    store<u32>(note, end, 4);
    store<u32>(note, endOfTexts, 12);
    count++;
    at = blanks(end);
    if (load<u8>(at) !== 44) break;
    at = blanks(at + 1);
    if (load<u8>(at) !== 123) break;
  }
  return count;
}

/** Takes a record: the place behind it, or 0. */
function takeRecord(start: usize, news: usize, newsEnd: usize): usize {
  for (let i: u32 = 0; i < tableCount; i++) {
    const table = tableAt(tables, i);
    table.before = table.rows;
  }
  record = root.rows;
  level = 0;
  const row = addRow(root, record);
  const object = ++objects;
  const end = members(root.root, start, root, row, object);
  const isTaken =
    end !== 0 &&
    hasRequired(object) &&
    (news === 0 || takesNews(news, newsEnd, row, object)) &&
    hasKey(row) &&
    (!areAsked() || writeState(start, end, news, newsEnd));
  if (isTaken) return end;
  dropRecord();
  return 0;
}

/** A field that the record has as well is not taken. */
function takesNews(news: usize, newsEnd: usize, row: u32, object: u32): bool {
  slots = 0;
  return members(root.root, news, root, row, object) === newsEnd;
}

function hasKey(row: u32): bool {
  for (let i: u32 = 0; i < keyCount; i++) if (!has(changetype<Column>(itemAt(keys, i)), row)) return false;
  return true;
}

/** Whether an object has all fields that are required, if only as null. */
function hasRequired(object: u32): bool {
  for (let i: u32 = 0; i < requiredCount; i++)
    if (changetype<Entry>(itemAt(required, i)).lastObject !== object) return false;
  return true;
}

/** Takes the rows of all records away that were taken at once. */
export function dropTaken(): void {
  for (let i: u32 = 0; i < tableCount; i++) tableAt(tables, i).before = tableAt(tables, i).first;
  dropRecord();
}

/** Takes the rows of the last record away. */
export function dropRecord(): void {
  for (let i: u32 = 0; i < tableCount; i++) dropRows(tableAt(tables, i));
}

function members(node: Node, from: usize, table: Table, row: u32, object: u32): usize {
  const first = node.entries;
  const behind = first + node.count * offsetof<Entry>();
  let next = first;
  let at = blanks(from + 1);
  if (load<u8>(at) === 125) return at + 1;
  while (true) {
    let entry = changetype<Entry>(next);
    let value: usize = 0;
    // mostly it is the one behind the last
    if (next < behind && isToken(entry, at)) value = blanks(at + entry.length);
    else {
      const found = searched(first, behind, next, at);
      if (found === 0) return 0;
      entry = changetype<Entry>(found);
      value = behindColon(at + entry.length - 1);
      if (value === 0) return 0;
    }
    if (entry.lastObject === object) return 0;
    entry.lastObject = object;
    next = changetype<usize>(entry) + offsetof<Entry>();
    const byte = load<u8>(value);
    at =
      byte === 34 && entry.kind === Kind.TEXT
        ? copyText(entry.column!, row, value + 1)
        : field(entry, value, table, row);
    if (at === 0) return 0;
    if (entry.slot >= 0) note(entry.slot, value, at);
    const mark = load<u8>(at);
    if (mark <= 32) at = blanks(at);
    if (load<u8>(at) === 125) return at + 1;
    if (load<u8>(at) !== 44) return 0;
    at = blanks(at + 1);
  }
}

function note(slot: u32, from: usize, to: usize): void {
  if (slots === 0) return;
  store<u32>(slots + (slot << 3), from);
  store<u32>(slots + (slot << 3), to, 4);
}

function isToken(entry: Entry, at: usize): bool {
  const token = entry.token;
  const different = v128.and(v128.xor(v128.load(at), v128.load(token, 16)), v128.load(token));
  if (v128.any_true(different)) return false;
  return entry.length <= 16 || startsWith(at, token + 16, entry.length);
}

/** The entry of the key at a place, wherever it is; 0: there is none. */
function searched(first: usize, behind: usize, next: usize, at: usize): usize {
  // where a field is missing, the key is mostly of the one behind it
  for (let entry = next; entry < behind; entry += offsetof<Entry>())
    if (isNamed(changetype<Entry>(entry), at)) return entry;
  for (let entry = first; entry < next; entry += offsetof<Entry>())
    if (isNamed(changetype<Entry>(entry), at)) return entry;
  return 0;
}

function isNamed(entry: Entry, at: usize): bool {
  return startsWith(at, entry.token + 16, entry.length - 1);
}

function field(entry: Entry, at: usize, table: Table, row: u32): usize {
  const first = load<u8>(at);
  if (first === 110 || entry.isSkipped) return skipValue(at, 0);
  if (!entry.isDeclared) {
    if (first === 123) {
      const object = entry.object;
      return object === null ? 0 : members(object, at, table, row, ++objects);
    }
    if (first === 91) return list(entry, at, row);
  }
  const column = entry.column;
  return column === null ? 0 : putAs(entry.kind, column, row, at);
}

function list(entry: Entry, from: usize, row: u32): usize {
  const items = entry.items;
  const column = entry.column;
  const at = blanks(from + 1);
  const first = load<u8>(at);
  if (first === 93) {
    // an empty list is a value only where its column is json
    if (entry.isJson && !entry.hasTable) putEmptyList(column!, row);
    return at + 1;
  }
  if (first === 123) return items === null ? 0 : itemsOf(items, at);
  if (!entry.isJson || holdsObject(from)) return 0;
  return putAs(entry.kind, column!, row, from);
}

const EMPTY_LIST = memory.data<u8>([91, 93]);

function putEmptyList(column: Column, row: u32): void {
  putBytes(column, row, EMPTY_LIST, 2);
}

function itemsOf(table: Table, from: usize): usize {
  const own = level;
  if (own === MOST_LEVELS) return 0;
  level = own + 1;
  let at = from;
  let place: u32 = 0;
  while (true) {
    if (load<u8>(at) !== 123) return 0;
    store<u32>(places + (own << 2), place++);
    const row = addRow(table, record);
    for (let p: u32 = 0; p <= own; p++) putLong(placeAt(table, p), row, load<u32>(places + (p << 2)));
    at = members(table.root, at, table, row, ++objects);
    if (at === 0) return 0;
    at = blanks(at);
    const byte = load<u8>(at);
    if (byte === 93) {
      level = own;
      return at + 1;
    }
    if (byte !== 44) return 0;
    at = blanks(at + 1);
  }
}

/** Whether a list holds an object at any depth: such lists become tables. */
function holdsObject(from: usize): bool {
  const end = skipValue(from, 0);
  for (let at = from; at < end; at++) if (load<u8>(at) === 123) return true;
  return false;
}
