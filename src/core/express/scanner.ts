/**
 * Scans records out of the bytes of a page into the columns of their tables. The JSON is checked on the way: where it
 * is none, or no record as the tables have them, the record is not taken.
 */

import type { Scannable, Scanned } from "../shape/shape.js";
import type { ColumnShape } from "../shape/table-shape.js";
import { LifeScan } from "./life-scan.js";
import {
  batchOf,
  type Entry,
  type Node,
  noteWanted,
  scanPlan,
  type TableScan,
  type Token,
} from "./scan-plan.js";
import { type FieldPath, type Sketch, valueAt } from "./sketch.js";
import { behindColon, blanks, isName, skipValue } from "./skip.js";

export class Scanner {
  private bytes: Uint8Array = new Uint8Array();
  private view: DataView = new DataView(new ArrayBuffer(0));
  /** numbers the objects, from 1 on */
  private objects = 0;
  private record = 0;
  private sketch: Sketch = {};
  /** places of the items at hand, outermost first */
  private readonly at: number[] = [];
  /** where the value of the key that was found last begins, or -1 */
  private valueFrom = 0;

  private constructor(
    private readonly tables: readonly TableScan[],
    private readonly key: readonly ColumnShape[],
    /** names records that have no key */
    private readonly nextRowId: (() => string) | undefined,
    private readonly life: LifeScan,
  ) {}

  /**
   * undefined where the shape is of a kind that is not scanned. `records`: about how many there will be. `wanted`:
   * fields that are to be in their sketches.
   */
  static of(of: Scannable, records: number, wanted: readonly FieldPath[] = []): Scanner | undefined {
    const scans = scanPlan(of, records);
    const { key } = of;
    const root = scans?.[0];
    if (root === undefined || key.some((column) => !root.builders.has(column))) return undefined;
    noteWanted(root.root, wanted);
    return new Scanner(scans!, key, of.nextRowId, new LifeScan(of.life, root));
  }

  /** Begins with a page, empty again. */
  begin(bytes: Uint8Array): void {
    for (const table of this.tables) table.clear();
    this.bytes = bytes;
    this.view = new DataView(bytes.buffer, bytes.byteOffset, bytes.length);
  }

  /**
   * Takes the record that begins at a place: the place behind it; -1 where it is not taken, and has left no rows.
   * `news`: an object with fields that it has beside its own.
   */
  take(start: number, sketch: Sketch, news?: Uint8Array): number {
    const { tables } = this;
    const root = tables[0]!;
    for (const table of tables) table.before = table.rows;
    this.record = root.rows;
    this.sketch = sketch;
    const row = root.addRow(this.record);
    const object = ++this.objects;
    const end = this.members(root.root, start, root, row, object);
    const isTaken = end >= 0 && (news === undefined || this.takesNews(news, row, object));
    if (isTaken && this.nextRowId !== undefined)
      root.builders.get(this.key[0]!)!.putText(row, this.nextRowId());
    const hasKey = isTaken && this.key.every((column) => root.builders.get(column)!.has(row));
    const { life } = this;
    if (hasKey && (life.isNone || life.put(row, { bytes: this.bytes, from: start, to: end, sketch, news })))
      return end;
    this.dropLast();
    this.at.length = 0;
    return -1;
  }

  /** Takes the rows of the last record away. */
  dropLast(): void {
    for (const table of this.tables) table.dropRows();
  }

  /** A field that the record has as well is for the plain reader. */
  private takesNews(news: Uint8Array, row: number, object: number): boolean {
    const { bytes, view, sketch } = this;
    const root = this.tables[0]!;
    this.bytes = news;
    this.view = new DataView(news.buffer, news.byteOffset, news.length);
    this.sketch = {};
    const end = this.members(root.root, 0, root, row, object);
    this.bytes = bytes;
    this.view = view;
    this.sketch = sketch;
    return end === news.length;
  }

  /** What was scanned of the page. */
  takeRows(): Scanned {
    const root = this.tables[0]!;
    const { identity } = this.life;
    const batches = this.tables.flatMap((table) => batchOf(table, root, root.rows, identity) ?? []);
    const filled = this.tables.map(({ shape: table, rows, builders }) => {
      const last = new Map([...builders].map(([column, builder]) => [column, builder.lastRow(rows)]));
      return { table, rows, last };
    });
    return { batches, filled };
  }

  /** An object that begins at a place, in a row; the place behind it, or -1. */
  private object(node: Node, from: number, table: TableScan, row: number): number {
    return this.members(node, from, table, row, ++this.objects);
  }

  private members(node: Node, from: number, table: TableScan, row: number, object: number): number {
    const { bytes } = this;
    let next = 0;
    let at = blanks(bytes, from + 1);
    if (bytes[at] === 125) return at + 1;
    for (;;) {
      const entry = this.entry(node, at, next);
      if (entry === undefined || entry.lastObject === object) return -1;
      entry.lastObject = object;
      next = entry.index + 1;
      const value = this.valueFrom;
      if (value < 0) return -1;
      const end =
        entry.wanted === "within"
          ? this.sketched(entry, value, table, row)
          : this.field(entry, value, table, row);
      if (end < 0) return -1;
      if (entry.wanted === "whole") this.sketch[entry.key] = valueAt(bytes, value, end);
      at = blanks(bytes, end);
      if (bytes[at] === 125) return at + 1;
      if (bytes[at] !== 44) return -1;
      at = blanks(bytes, at + 1);
    }
  }

  /** The entry of the key at a place: mostly the one behind the last. */
  private entry({ entries }: Node, at: number, next: number): Entry | undefined {
    const likely = entries[next];
    if (likely?.token !== undefined && this.isToken(likely.token, at)) {
      this.valueFrom = blanks(this.bytes, at + likely.token.length);
      return likely;
    }
    if (this.bytes[at] !== 34) return undefined;
    for (const entry of entries)
      if (isName(this.bytes, at + 1, entry.name)) {
        this.valueFrom = behindColon(this.bytes, at + entry.name.length + 2);
        return entry;
      }
    return undefined;
  }

  private isToken({ words, length }: Token, at: number): boolean {
    const { view } = this;
    if (at + length > view.byteLength) return false;
    let w = 0;
    for (let i = 0; i < length - 4; i += 4) if (view.getInt32(at + i, true) !== words[w++]) return false;
    return view.getInt32(at + length - 4, true) === words[w];
  }

  /** A field of which some fields are to be in the sketch: they stand in one of its own there. */
  private sketched(entry: Entry, at: number, table: TableScan, row: number): number {
    const { sketch } = this;
    const inner: Sketch = {};
    sketch[entry.key] = inner;
    this.sketch = inner;
    const end = this.field(entry, at, table, row);
    this.sketch = sketch;
    return end;
  }

  private field(entry: Entry, at: number, table: TableScan, row: number): number {
    const { bytes } = this;
    const first = bytes[at];
    if (first === 110 || entry.isSkipped) return skipValue(bytes, at);
    if (!entry.isDeclared) {
      if (first === 123) return entry.object === undefined ? -1 : this.object(entry.object, at, table, row);
      if (first === 91) return this.list(entry, at, row);
    }
    return entry.put === undefined ? -1 : entry.put(entry.column!, row, bytes, at);
  }

  private list(entry: Entry, from: number, row: number): number {
    const { bytes } = this;
    const at = blanks(bytes, from + 1);
    if (bytes[at] === 93) {
      // an empty list is a value only where its column is json
      if (entry.isJson && !entry.hasTable) entry.column!.putText(row, "[]");
      return at + 1;
    }
    if (bytes[at] === 123) return entry.items === undefined ? -1 : this.items(entry.items, at);
    if (!entry.isJson || holdsObject(bytes, from)) return -1;
    return entry.put!(entry.column!, row, bytes, from);
  }

  private items(table: TableScan, from: number): number {
    const { bytes } = this;
    const level = this.at.length;
    this.at.push(0);
    let at = from;
    for (let place = 0; ; place++) {
      if (bytes[at] !== 123) break;
      this.at[level] = place;
      const row = table.addRow(this.record);
      for (let p = 0; p <= level; p++) table.places[p]!.putInteger(row, this.at[p]!);
      at = this.object(table.root, at, table, row);
      if (at < 0) break;
      at = blanks(bytes, at);
      if (bytes[at] === 93) {
        this.at.pop();
        return at + 1;
      }
      if (bytes[at] !== 44) break;
      at = blanks(bytes, at + 1);
    }
    this.at.length = level;
    return -1;
  }
}

/** Whether a list holds an object at any depth: such lists become tables. */
function holdsObject(bytes: Uint8Array, from: number): boolean {
  const end = skipValue(bytes, from);
  for (let at = from; at < end; at++) if (bytes[at] === 123) return true;
  return false;
}
