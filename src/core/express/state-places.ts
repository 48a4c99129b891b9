/**
 * What the scan knows of the places in a stream's records, so that it can write down what is stored of each: the text
 * that `RecordState` makes its digest of. It begins with nothing, and learns keys as they come.
 */

import { nextPlace, type StepsIn } from "../shape/record-state.js";
import { LIST_STEP } from "../shape/steps.js";
import type { WasmScan } from "./wasm-scan.js";

interface Place {
  readonly parts: readonly string[];
  /** in the order in which they came first */
  readonly fields: Field[];
  items: Place | undefined;
  /** where keys are data, all of them lead to one place */
  entries: Place | undefined;
  /** its address; 0: it is not in the memory */
  at: number;
}

interface Field {
  readonly key: string;
  /** undefined: it is not stored */
  readonly place: Place | undefined;
  /** its address */
  at: number;
}

/** Objects with more keys than this are for the plain reader. */
const MOST_FIELDS = 1000;
/** So are further keys, wherever they stand: what is known is laid out with each page that brings new ones. */
const MOST_KNOWN = 5000;

const encoder = new TextEncoder();
const decoder = new TextDecoder("utf-8", { ignoreBOM: true });

export class StatePlaces {
  private readonly root: Place = placeAt([]);
  /** those in the memory, by address */
  private readonly known = new Map<number, Place>();
  private knownFields = 0;
  /** whether keys came since it was laid out */
  hasGrown = false;

  constructor(private readonly stepsIn: StepsIn) {}

  /** Puts all that is known where the memory is free: the address of the record's own place. */
  layOut(wasm: WasmScan): number {
    this.hasGrown = false;
    for (const place of this.known.values()) place.at = 0;
    this.known.clear();
    return this.put(wasm, this.root);
  }

  /** A key that comes for the first time at a place: the address of its field, or 0 where there are too many. */
  newcomer(wasm: WasmScan, at: number, from: number, to: number): number {
    const place = this.known.get(at)!;
    if (place.fields.length >= MOST_FIELDS || this.knownFields >= MOST_KNOWN) return 0;
    this.knownFields++;
    const key = decoder.decode(wasm.bytes.subarray(from, to));
    const steps = this.stepsIn(place.parts, key);
    const field: Field = { key, place: steps && nextPlace(place, steps, placeAt), at: 0 };
    place.fields.push(field);
    this.hasGrown = true;
    this.putField(wasm, place, field);
    rank(wasm, place);
    return field.at;
  }

  /** The address of the place of a list's items. */
  itemsOf(wasm: WasmScan, at: number): number {
    const place = this.known.get(at)!;
    place.items ??= placeAt([...place.parts, LIST_STEP]);
    this.hasGrown = true;
    return this.put(wasm, place.items);
  }

  private put(wasm: WasmScan, place: Place): number {
    if (place.at > 0) return place.at;
    place.at = wasm.calls.newPlace(place.fields.length);
    this.known.set(place.at, place);
    for (const field of place.fields) this.putField(wasm, place, field);
    rank(wasm, place);
    if (place.items !== undefined) wasm.calls.setItems(place.at, this.put(wasm, place.items));
    return place.at;
  }

  private putField(wasm: WasmScan, { at }: Place, field: Field): void {
    const { calls } = wasm;
    const name = encoder.encode(`${field.key}"`);
    // a mark before each key: as in the plain reader's text
    const before = encoder.encode(`,${JSON.stringify(`.${field.key}`)}:`);
    const inner = field.place === undefined ? 0 : this.put(wasm, field.place);
    field.at = calls.newField(at, name.length, before.length, inner);
    wasm.bytes.set(name, calls.nameOf(field.at));
    wasm.bytes.set(before, calls.textBefore(field.at));
  }
}

/** Tells the order of a place's keys. */
function rank({ calls }: WasmScan, { fields }: Place): void {
  const inOrder = [...fields].sort((a, b) => (a.key < b.key ? -1 : 1));
  for (const [index, field] of inOrder.entries()) calls.setRank(field.at, index);
}

const placeAt = (parts: readonly string[]): Place => ({
  parts,
  fields: [],
  items: undefined,
  entries: undefined,
  at: 0,
});
