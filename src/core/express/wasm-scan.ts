/**
 * The scan's inner part: WebAssembly, made of the sources in `wasm/`. There is one for all streams: what a stream's
 * tables are like is put into its memory with each page. All places are addresses in that memory.
 */

import { parseExactJson, stringifyExact } from "../shape/exact-json.js";
import { WASM } from "./wasm-bytes.js";

/** What the sources in `wasm/` export; `wasm/index.ts` leads to what each does. */
export interface WasmCalls {
  readonly memory: { readonly buffer: ArrayBuffer };
  allocate(length: number): number;
  heapEnd(): number;
  releaseFrom(place: number): void;
  newList(count: number): number;
  setItem(list: number, index: number, item: number): void;
  newTable(columns: number, places: number): number;
  setRoot(table: number, node: number): void;
  rowsOf(table: number): number;
  recordOf(table: number): number;
  newColumn(table: number, kind: number, width: number, seen: number, isDeclared: boolean): number;
  setDecimal(column: number, limit: number, scale: number): void;
  dataOf(column: number): number;
  endsOf(column: number): number;
  endOf(column: number): number;
  validityOf(column: number): number;
  closeColumn(column: number): number;
  lastRow(column: number): number;
  newNode(count: number): number;
  setEntry(node: number, index: number, length: number, slot: number): number;
  tokenOf(entry: number): number;
  describe(entry: number, isSkipped: boolean, isDeclared: boolean, hasTable: boolean, isJson: boolean): void;
  leadTo(entry: number, column: number, object: number, items: number): void;
  pageRoom(length: number): number;
  newPlace(fields: number): number;
  setItems(place: number, items: number): void;
  newField(place: number, nameLength: number, beforeLength: number, inner: number): number;
  nameOf(field: number): number;
  textBefore(field: number): number;
  setRank(field: number, rank: number): void;
  usePlan(tables: number, keys: number, required: number, slots: number, states: number): void;
  beginPage(page: number, length: number): number;
  takeRecords(start: number, most: number, news: number, newsEnd: number): number;
  textsAt(): number;
  dropRecord(): void;
  dropTaken(): void;
  settle(): void;
  putAs(kind: number, column: number, row: number, at: number): number;
  putBytes(column: number, row: number, from: number, length: number): void;
  putFloat64(column: number, row: number, value: number): void;
}

/** What is used of WebAssembly (W3C, JavaScript interface). */
interface Wasm {
  readonly Module: new (bytes: Uint8Array) => WasmModule;
  readonly Instance: new (module: WasmModule, imports: object) => { readonly exports: unknown };
}

type WasmModule = object;

/** What the scan asks of whoever has a page in its memory. */
export interface ScanOwner {
  /** Puts a value that is not of the usual form into a row of a column: the place behind it, or 0. */
  putOutside(column: number, row: number, at: number): number;
  /** A key that comes for the first time at a place, for states of records: its field, or 0 for the plain reader. */
  newcomer(place: number, from: number, to: number): number;
  /** The place of the items of a list. */
  itemsOf(place: number): number;
}

const encoder = new TextEncoder();
const decoder = new TextDecoder("utf-8", { ignoreBOM: true });

/** A memory that has grown beyond this is not kept for the next page. */
const MOST_KEPT = 64 * 1024 * 1024;

/** The scan with its memory. */
export class WasmScan {
  readonly calls: WasmCalls;
  /** where plans begin */
  readonly base: number;
  /** who has a page and its rows in the memory now */
  owner: ScanOwner | undefined;
  private view: Uint8Array<ArrayBuffer>;
  private wordView: Uint32Array<ArrayBuffer>;

  constructor({ Instance }: Wasm, module: WasmModule) {
    const asked: ScanOwner = {
      putOutside: (column, row, at) => this.owner?.putOutside(column, row, at) ?? 0,
      newcomer: (place, from, to) => this.owner?.newcomer(place, from, to) ?? 0,
      itemsOf: (place) => this.owner?.itemsOf(place) ?? 0,
    };
    const texts = { rewritten: (from: number, to: number) => this.rewritten(from, to) };
    const { exports } = new Instance(module, { values: asked, state: asked, "state-text": texts });
    this.calls = exports as WasmCalls;
    this.base = this.calls.allocate(0);
    this.view = new Uint8Array(this.calls.memory.buffer);
    this.wordView = new Uint32Array(this.calls.memory.buffer);
  }

  /** Its memory; a view that does not outlast the next call. */
  get bytes(): Uint8Array<ArrayBuffer> {
    const { buffer } = this.calls.memory;
    if (this.view.buffer !== buffer) this.view = new Uint8Array(buffer);
    return this.view;
  }

  /** The same in words of 32 bits. */
  get words(): Uint32Array<ArrayBuffer> {
    const { buffer } = this.calls.memory;
    if (this.wordView.buffer !== buffer) this.wordView = new Uint32Array(buffer);
    return this.wordView;
  }

  /** A copy of some of it. */
  slice(from: number, length: number): ArrayBuffer {
    return this.bytes.buffer.slice(from, from + length);
  }

  /** Writes bytes behind what is there, and zeros behind them: where they stand. */
  write(bytes: Uint8Array): number {
    const place = this.calls.pageRoom(bytes.length);
    this.bytes.set(bytes, place);
    return place;
  }

  /** A value as JavaScript writes it, its length in 32 bits before it: where that stands. */
  private rewritten(from: number, to: number): number {
    const value = parseExactJson(decoder.decode(this.bytes.subarray(from, to)));
    const text = encoder.encode(stringifyExact(value));
    const place = this.calls.pageRoom(4 + text.length);
    new DataView(this.bytes.buffer).setUint32(place, text.length, true);
    this.bytes.set(text, place + 4);
    return place;
  }
}

let module: WasmModule | undefined;
let shared: WasmScan | undefined;
let isRefused = false;

/** undefined where there is no WebAssembly: where it is unknown, or a page's content policy forbids it. */
export function sharedWasm(): WasmScan | undefined {
  if (shared !== undefined || isRefused) return shared;
  try {
    const { WebAssembly: api } = globalThis as unknown as { readonly WebAssembly: Wasm };
    module ??= new api.Module(Uint8Array.from(atob(WASM), (char) => char.charCodeAt(0)));
    shared = new WasmScan(api, module);
  } catch {
    isRefused = true;
  }
  return shared;
}

/** Lets one go whose memory has become too large to be kept. */
export function giveBack(used: WasmScan): void {
  if (used === shared && used.calls.memory.buffer.byteLength > MOST_KEPT) shared = undefined;
}
