/**
 * Scans records out of the bytes of a page into the columns of their tables. The JSON is checked on the way: where it
 * is none, or no record as the tables have them, the record is not taken.
 */

import type { Scannable, Scanned } from "../shape/shape.js";
import type { ColumnBuffers } from "./column-buffers.js";
import { LifeScan } from "./life-scan.js";
import { batchOf, type ScanPlan, type Slot, scanPlan } from "./scan-plan.js";
import { type FieldPath, ShortTexts, type Sketch, valueAt } from "./sketch.js";
import type { StatePlaces } from "./state-places.js";
import { giveBack, type ScanOwner, sharedWasm, type WasmScan } from "./wasm-scan.js";

/** Records of a page: where each begins and ends, and the values that asking needs of it. */
export interface FoundRecords {
  readonly starts: number[];
  readonly ends: number[];
  readonly sketches: Sketch[];
}

export function forgetLast({ starts, ends, sketches }: FoundRecords): void {
  for (const list of [starts, ends, sketches]) list.pop();
}

/** Words of what is noted of a record beside its sketch: where it is, and the text of its state. */
const NOTE_WORDS = 4;

/** The texts of fewer are decoded one by one. */
const FEW_RECORDS = 8;

export class Scanner implements ScanOwner {
  private readonly states: StatePlaces | undefined;
  /** those that values may come to by way of ours, by address */
  private readonly columns: ReadonlyMap<number, ColumnBuffers>;
  private bytes: Uint8Array = new Uint8Array();
  /** from a place in the page to its address */
  private shift = 0;
  /** the address of what is noted of records */
  private notes = 0;
  /** fields that records are given: as bytes, and where they stand in the memory */
  private news: Uint8Array | undefined;
  private newsAt = 0;
  private readonly texts = new ShortTexts();
  /** the plan as it stands in the scan's memory, and behind it what is known of states */
  private image: Uint8Array;
  private readonly planLength: number;
  private statesAt = 0;

  private constructor(
    private wasm: WasmScan,
    private readonly plan: ScanPlan,
    /** names records that have no key */
    private readonly rowId: { readonly next: () => string; readonly into: ColumnBuffers } | undefined,
    private readonly life: LifeScan,
  ) {
    const { calls, base } = wasm;
    this.states = life.places;
    this.planLength = calls.heapEnd() - base;
    this.image = this.withStates();
    this.columns = new Map(
      plan.tables.flatMap(({ columns }) => [...columns.values()].map((column) => [column.at, column])),
    );
  }

  /**
   * undefined where the shape is of a kind that is not scanned, and where there is no WebAssembly. `wanted`: fields
   * that are to be in sketches; `required`: fields without which a record is not taken.
   */
  static of(
    of: Scannable,
    wanted: readonly FieldPath[] = [],
    required: readonly string[] = [],
  ): Scanner | undefined {
    const wasm = sharedWasm();
    if (wasm === undefined) return undefined;
    const { calls, base } = wasm;
    wasm.owner = undefined;
    calls.releaseFrom(base);
    const plan = scanPlan(wasm, of, wanted, required);
    if (plan === undefined) return undefined;
    const rowId = of.nextRowId && { next: of.nextRowId, into: plan.tables[0]!.columns.get(of.key[0]!)! };
    return new Scanner(wasm, plan, rowId, new LifeScan(of.life, plan.tables[0]!));
  }

  /** Lays out what is known of states behind the plan: an image of both. */
  private withStates(): Uint8Array {
    const { wasm, states } = this;
    const { calls, base } = wasm;
    calls.releaseFrom(base + this.planLength);
    this.statesAt = states?.layOut(wasm) ?? 0;
    return new Uint8Array(wasm.slice(base, calls.heapEnd() - base));
  }

  putOutside(column: number, row: number, at: number): number {
    return this.columns.get(column)!.putOutside(this.wasm, row, at);
  }

  newcomer(place: number, from: number, to: number): number {
    return this.states?.newcomer(this.wasm, place, from, to) ?? 0;
  }

  itemsOf(place: number): number {
    return this.states?.itemsOf(this.wasm, place) ?? 0;
  }

  /** Begins with a page, or with some of it, empty again. Nothing else may be scanned until its rows are taken. */
  begin(bytes: Uint8Array, from = 0, to = bytes.length): void {
    // another one where the last has become too large; plans are at home in each
    this.wasm = sharedWasm() ?? this.wasm;
    const { wasm, plan, image, states } = this;
    const { calls, base } = wasm;
    wasm.owner = this;
    calls.releaseFrom(base);
    calls.allocate(image.length);
    wasm.bytes.set(image, base);
    if (states?.hasGrown === true) this.image = this.withStates();
    const page = wasm.write(bytes.subarray(from, to));
    calls.usePlan(plan.list, plan.keyList, plan.requiredList, plan.slotCount, this.statesAt);
    this.notes = calls.beginPage(page, to - from);
    this.bytes = bytes;
    this.shift = page - from;
    this.news = undefined;
  }

  /**
   * Takes records, the first of which begins at a place, and others that follow it in a list, up to `most`: where they
   * are and their sketches go onto `found`. Gives how many; of the next one, if there is any, no rows are left.
   * `news`: an object with fields that each has beside its own.
   */
  take(start: number, found: FoundRecords, most: number, news?: Uint8Array): number {
    const { wasm, plan, rowId, shift, notes } = this;
    this.checkOwner();
    const { calls } = wasm;
    const row = calls.rowsOf(plan.tables[0]!.at);
    if (news !== this.news) {
      this.news = news;
      this.newsAt = news === undefined ? 0 : wasm.write(news);
    }
    const count = calls.takeRecords(start + shift, most, this.newsAt, this.newsAt + (news?.length ?? 0));
    const words = wasm.words;
    const length = NOTE_WORDS + plan.slotCount * 2;
    const texts = count < FEW_RECORDS ? undefined : this.texts;
    for (let i = 0, at = notes >> 2; i < count; i++, at += length) {
      found.starts.push(words[at]! - shift);
      found.ends.push(words[at + 1]! - shift);
      const sketch: Sketch = {};
      this.fill(sketch, plan.slots, words, at + NOTE_WORDS, texts);
      found.sketches.push(sketch);
    }
    texts?.settle();
    const timed = this.life.isTimed
      ? this.putTimes(row, found.sketches.slice(found.sketches.length - count))
      : count;
    if (timed < count) {
      // the plain reader is to read the next one: it comes behind those that can be told
      calls.dropTaken();
      for (let i = 0; i < count; i++) forgetLast(found);
      return timed === 0 ? 0 : this.take(start, found, timed, news);
    }
    if (rowId !== undefined) for (let i = 0; i < count; i++) rowId.into.putText(wasm, row + i, rowId.next());
    if (this.states !== undefined) this.putStates(row, count);
    return count;
  }

  /** Rows of another page must never be taken for those of this one. */
  private checkOwner(): void {
    if (this.wasm.owner !== this)
      throw new Error("another page was begun before the rows of this one were taken");
  }

  /** The digests of records of which the texts are written, the first of them in a row. */
  private putStates(row: number, count: number): void {
    const { wasm, life, plan, notes } = this;
    const texts = wasm.calls.textsAt();
    for (let i = 0, at = notes >> 2; i < count; i++, at += NOTE_WORDS + plan.slotCount * 2) {
      const { words } = wasm;
      life.putState(wasm, row + i, texts + words[at + 2]!, texts + words[at + 3]!);
    }
  }

  /** Since when records hold, the first of them in a row: of how many that can be told here. */
  private putTimes(row: number, sketches: readonly Sketch[]): number {
    const { wasm, life, news } = this;
    const other = sketches.findIndex((sketch, i) => !life.putTime(wasm, row + i, sketch, news));
    return other < 0 ? sketches.length : other;
  }

  private fill(
    sketch: Sketch,
    slots: readonly Slot[],
    words: Uint32Array,
    at: number,
    texts: ShortTexts | undefined,
  ): void {
    const { bytes, shift } = this;
    for (const { key, index, within } of slots) {
      const place = words[at + index * 2]!;
      if (place === 0) continue;
      if (within === undefined) {
        const from = place - shift;
        const end = words[at + index * 2 + 1]! - shift;
        if (texts?.take(sketch, key, bytes, from, end) !== true) sketch[key] = valueAt(bytes, from, end);
      } else {
        const inner: Sketch = {};
        sketch[key] = inner;
        this.fill(inner, within, words, at, texts);
      }
    }
  }

  /** Takes the rows of the last record away. */
  dropLast(): void {
    this.wasm.calls.dropRecord();
  }

  /** What was scanned of the page. */
  takeRows(): Scanned {
    const { wasm, plan, image, life, planLength } = this;
    this.checkOwner();
    const { calls, base } = wasm;
    const root = plan.tables[0]!;
    const batches = plan.tables.flatMap((table) => batchOf(wasm, table, root, life.identity) ?? []);
    const filled = plan.tables.map(({ shape: table, at, columns }) => {
      const last = new Map([...columns].map(([column, own]) => [column, own.lastRow(wasm)]));
      return { table, rows: calls.rowsOf(at), last };
    });
    // how much room the next page will need
    calls.settle();
    image.set(wasm.bytes.subarray(base, base + planLength));
    giveBack(wasm);
    return { batches, filled };
  }
}
