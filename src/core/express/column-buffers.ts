/** The buffers of one column in the scan's memory: what a batch is made of. */

import { type ColumnBatch, fixedWidth } from "../shape/batch.js";
import { type ColumnType, SEEN } from "../shape/column-type.js";
import { parseExactJson, stringifyExact } from "../shape/exact-json.js";
import type { ColumnShape } from "../shape/table-shape.js";
import { storedValue } from "../shape/walk.js";
import { plainText, valueAt } from "./sketch.js";
import { skipValue } from "./skip.js";
import type { WasmScan } from "./wasm-scan.js";

/** How the scan puts values of a type: `Kind` in `wasm/plan.ts`. */
const KINDS: Readonly<Record<ColumnType["kind"], number | undefined>> = {
  boolean: 1,
  int64: 2,
  float64: 3,
  decimal: 4,
  text: 5,
  json: 6,
  date: 7,
  timestamp: 8,
  local_timestamp: 9,
  uuid: 10,
  bytes: undefined,
};
/** It asks us. */
const OUTSIDE = 11;

/** More digits make no longer float64 in its shortest form. */
const LONGEST_FLOAT = 25;

const decoder = new TextDecoder("utf-8", { ignoreBOM: true });
const encoder = new TextEncoder();

/** Bytes of a unit of UTF-16 in UTF-8, at most. */
const MOST_BYTES = 3;

/** Longer texts are encoded faster by what the platform has. */
const SHORT = 100;

/** Writes a short text of ASCII; false where it is another. */
function putAscii(text: string, into: Uint8Array): boolean {
  if (text.length > SHORT) return false;
  for (let i = 0; i < text.length; i++) {
    const unit = text.charCodeAt(i);
    if (unit > 127) return false;
    into[i] = unit;
  }
  return true;
}

export class ColumnBuffers {
  readonly type: ColumnType;
  /** its address */
  readonly at: number;
  /** values are not put as they come */
  private readonly isRuled: boolean;
  /** what rules have made of a value is being put */
  private isMade = false;

  constructor(
    wasm: WasmScan,
    table: number,
    readonly column: ColumnShape,
    type: ColumnType,
  ) {
    const { calls } = wasm;
    const { rule, seen } = column;
    const { conceal, read, digits } = rule;
    this.type = type;
    // decimals take texts as they are
    this.isRuled =
      conceal !== undefined || read !== undefined || (digits === true && type.kind !== "decimal");
    const isDeclared = rule.type !== undefined;
    const kind = this.isRuled ? OUTSIDE : (KINDS[type.kind] ?? OUTSIDE);
    this.at = calls.newColumn(table, kind, fixedWidth(type), isDeclared ? -1 : seen.mask, isDeclared);
    // what float64 holds exactly is below any wider limit
    if (type.kind === "decimal")
      calls.setDecimal(this.at, Math.min(10 ** type.precision, Number.MAX_SAFE_INTEGER), type.scale);
  }

  /** Whether it takes values at all. */
  get isTaking(): boolean {
    return KINDS[this.type.kind] !== undefined;
  }

  /** Puts the value at a place which the scan cannot judge: the place behind it; 0 where it is for the plain reader. */
  putOutside(wasm: WasmScan, row: number, at: number): number {
    const end = skipValue(wasm.bytes, at);
    if (end < 0) return 0;
    const isPut =
      this.isRuled && !this.isMade ? this.putRuled(wasm, row, at, end) : this.putUnusual(wasm, row, at, end);
    return isPut ? end : 0;
  }

  private putRuled(wasm: WasmScan, row: number, at: number, end: number): boolean {
    const { type, column } = this;
    const value = storedValue(column.rule, valueAt(wasm.bytes, at, end));
    if (value === undefined || value === null) return true;
    if (type.kind === "text" && typeof value === "string") {
      this.putText(wasm, row, value);
      return true;
    }
    return this.putJson(wasm, row, stringifyExact(value));
  }

  private putUnusual(wasm: WasmScan, row: number, at: number, end: number): boolean {
    if (this.type.kind === "float64") return this.putLongFloat(wasm, row, at, end);
    this.putText(wasm, row, stringifyExact(parseExactJson(decoder.decode(wasm.bytes.subarray(at, end)))));
    return true;
  }

  /** Fractions of more digits, as a float64 is written in full: none of their digits is lost. */
  private putLongFloat(wasm: WasmScan, row: number, at: number, end: number): boolean {
    const { rule, seen } = this.column;
    const takesFloats = rule.type !== undefined || (seen.mask & SEEN.float) !== 0;
    if (end - at > LONGEST_FLOAT || !takesFloats) return false;
    const text = plainText(wasm.bytes, at, end);
    const value = Number(text);
    if (Number.isInteger(value) || String(value) !== text) return false;
    wasm.calls.putFloat64(this.at, row, value);
    return true;
  }

  /** Puts a value that is written as JSON; false where it is not of the column's type. */
  putJson(wasm: WasmScan, row: number, json: string): boolean {
    const written = encoder.encode(json);
    const place = wasm.write(written);
    const kind = KINDS[this.type.kind] ?? OUTSIDE;
    this.isMade = true;
    const end = wasm.calls.putAs(kind, this.at, row, place);
    this.isMade = false;
    return end === place + written.length;
  }

  putText(wasm: WasmScan, row: number, text: string): void {
    const { calls } = wasm;
    const place = calls.allocate(text.length * MOST_BYTES);
    const room = wasm.bytes.subarray(place, place + text.length * MOST_BYTES);
    const length = putAscii(text, room) ? text.length : encoder.encodeInto(text, room).written;
    calls.putBytes(this.at, row, place, length);
  }

  /** The batch of all rows; undefined validity where each of them has a value. */
  batch(wasm: WasmScan, rows: number): ColumnBatch {
    const { column, type, at } = this;
    const { calls } = wasm;
    const isFull = calls.closeColumn(at) !== 0;
    const validity = isFull
      ? undefined
      : new Uint8Array(wasm.slice(calls.validityOf(at), Math.ceil(rows / 64) * 8));
    const common = { name: column.name, type, validity, texts: undefined };
    const width = fixedWidth(type);
    if (width > 0) return { ...common, data: wasm.slice(calls.dataOf(at), rows * width) };
    const bytes = new Uint8Array(wasm.slice(calls.dataOf(at), calls.endOf(at)));
    const ends = new Uint32Array(wasm.slice(calls.endsOf(at), rows * 4));
    return { ...common, data: undefined, utf8: { bytes, ends } };
  }

  /** Behind the last row that has a value. */
  lastRow({ calls }: WasmScan): number {
    return calls.lastRow(this.at);
  }
}
