/** Buffers of columns, filled row by row. */

import { allocate, allocateZeros } from "./memory";
import { Column, columnAt, Table } from "./plan";

/** Empty buffers with as much room as the last page needed. */
export function openTable(table: Table): void {
  table.rows = 0;
  table.recordOf = allocate(table.room * 4);
  for (let i: u32 = 0; i < table.columnCount; i++) {
    const column = columnAt(table, i);
    column.validity = allocateZeros(table.room >> 3);
    if (column.width > 0) column.data = allocateZeros(table.room * column.width);
    else {
      column.data = allocate(column.room);
      column.ends = allocate(table.room * 4);
      column.end = 0;
    }
  }
}

/** Notes how much room the next page will need. */
export function settleTable(table: Table): void {
  table.room = (table.rows + (table.rows >> 3) + 64) & ~63;
  for (let i: u32 = 0; i < table.columnCount; i++) {
    const column = columnAt(table, i);
    if (column.width === 0) column.room = column.end + (column.end >> 3) + 256;
  }
}

export function addRow(table: Table, record: u32): u32 {
  const row = table.rows;
  if (row >= table.room) growTable(table);
  table.rows = row + 1;
  store<u32>(table.recordOf + row * 4, record);
  return row;
}

function growTable(table: Table): void {
  const room = table.room;
  table.recordOf = moved(table.recordOf, room * 4, room * 8);
  for (let i: u32 = 0; i < table.columnCount; i++) {
    const column = columnAt(table, i);
    column.validity = moved(column.validity, room >> 3, room >> 2);
    if (column.width > 0) column.data = moved(column.data, room * column.width, room * 2 * column.width);
    else column.ends = moved(column.ends, room * 4, room * 8);
  }
  table.room = room * 2;
}

/** Some bytes in a larger place, zeros behind them. */
function moved(from: usize, length: usize, room: usize): usize {
  const to = allocate(room);
  memory.copy(to, from, length);
  memory.fill(to + length, 0, room - length);
  return to;
}

/** Makes room for so many more bytes of text. */
export function reserve(column: Column, length: u32): void {
  const needed = column.end + length;
  if (needed <= column.room) return;
  const room = max(column.room * 2, needed);
  const data = allocate(room);
  memory.copy(data, column.data, min(column.room, column.end));
  column.data = data;
  column.room = room;
}

/** The bit of a row in its byte of the validity. */
function bit(row: u32): u8 {
  return <u8>((<u32>1) << (row & 7));
}

export function mark(column: Column, row: u32): void {
  const at = column.validity + (row >> 3);
  store<u8>(at, load<u8>(at) | bit(row));
}

export function has(column: Column, row: u32): bool {
  return (load<u8>(column.validity + (row >> 3)) & bit(row)) !== 0;
}

/** An integer, as one of 64 or 128 bits. */
export function putLong(column: Column, row: u32, value: i64): void {
  mark(column, row);
  const at = column.data + row * column.width;
  store<i64>(at, value);
  if (column.width === 16) store<i64>(at, value >> 63, 8);
}

/** The text that stands behind the last one ends there. */
export function endText(column: Column, row: u32, end: u32): void {
  store<u32>(column.data + column.end, end - column.end - 4);
  column.end = end;
  store<u32>(column.ends + row * 4, end);
  mark(column, row);
}

export function putBytes(column: Column, row: u32, from: usize, length: u32): void {
  reserve(column, length + 4);
  memory.copy(column.data + column.end + 4, from, length);
  endText(column, row, column.end + 4 + length);
}

/** Takes the rows of the record at hand away. */
export function dropRows(table: Table): void {
  const before = table.before;
  const rows = table.rows;
  for (let i: u32 = 0; i < table.columnCount; i++) dropValues(columnAt(table, i), before, rows);
  table.rows = before;
}

function dropValues(column: Column, from: u32, to: u32): void {
  for (let row = from; row < to; row++) {
    const at = column.validity + (row >> 3);
    store<u8>(at, load<u8>(at) & ~bit(row));
  }
  if (column.width > 0) memory.fill(column.data + from * column.width, 0, (to - from) * column.width);
  else column.end = endBefore(column, from);
}

function endBefore(column: Column, row: u32): u32 {
  for (let at = row; at > 0; at--) if (has(column, at - 1)) return load<u32>(column.ends + (at - 1) * 4);
  return 0;
}

/** Rows without a text end where the one before them does. Whether each row has a value. */
export function closeColumn(column: Column): bool {
  const rows = column.table.rows;
  if (column.width === 0) {
    let end: u32 = 0;
    for (let row: u32 = 0; row < rows; row++) {
      const at = column.ends + row * 4;
      if (has(column, row)) end = load<u32>(at);
      else store<u32>(at, end);
    }
  }
  return isFull(column, rows);
}

function isFull(column: Column, rows: u32): bool {
  const whole = rows >> 3;
  for (let i: u32 = 0; i < whole; i++) if (load<u8>(column.validity + i) !== 255) return false;
  const rest = (1 << (rows & 7)) - 1;
  return rest === 0 || load<u8>(column.validity + whole) === rest;
}

/** Behind the last row that has a value. */
export function lastRow(column: Column): u32 {
  let row = column.table.rows;
  while (row > 0 && !has(column, row - 1)) row--;
  return row;
}
