/**
 * Rows of a page out of its bytes, without an object for each record:
 *
 *   bytes ─▶ outline   where each record is, its key and its cursor's value; the rest of the body
 *              └─▶ scanner   each record straight into the columns of its tables
 *                    └─▶ what is not as the tables have it: the plain reader, for these records alone
 *
 * The plain reader is the judge: rows, types, names and what goes to quarantine are the same.
 */

import { parseExactJson } from "../shape/exact-json.js";
import type { Shape } from "../shape/shape.js";
import type { Shaped } from "../shape/shaped.js";
import type { ByteRecords } from "./outline.js";
import { Scanner } from "./scanner.js";

/** Rows of some of a page's records. */
export interface ShapedSome extends Shaped {
  /** their places in the page */
  readonly which: readonly number[];
}

const decoder = new TextDecoder("utf-8", { ignoreBOM: true });

/** So many records are shaped at a time. */
const SLICE = 5000;
/** Where most records are not as the tables have them, so many slices are read plainly before scanning is tried again. */
const REST = 8;
const resting = new WeakMap<Shape, number>();

/**
 * The same rows as the plain reader gives. What is unusual in a slice comes last: its records have different keys, so
 * that their order does not matter.
 */
export function* shapeBytes(source: ByteRecords, shape: Shape): Generator<ShapedSome> {
  const { length } = source.starts;
  for (let from = 0; from < length; from += SLICE) {
    const all = Array.from({ length: Math.min(SLICE, length - from) }, (_, i) => from + i);
    const scanner = mayScan(shape) ? scannerOf(shape, all.length) : undefined;
    const odd = scanner?.scan(source, all) ?? all;
    if (scanner !== undefined) {
      resting.set(shape, odd.length * 2 > all.length ? REST : 0);
      const isOdd = new Set(odd);
      const which = odd.length === 0 ? all : all.filter((i) => !isOdd.has(i));
      if (which.length > 0) yield { ...shape.scanned(scanner.batches(), scanner.filled()), which };
    }
    if (odd.length > 0) yield { ...shape.shapeRecords(recordsAt(source, odd)), which: odd };
  }
}

function mayScan(shape: Shape): boolean {
  const left = resting.get(shape) ?? 0;
  if (left > 0) resting.set(shape, left - 1);
  return left === 0;
}

function scannerOf(shape: Shape, records: number): Scanner | undefined {
  const { tables, key } = shape.scannable;
  return Scanner.of(tables, key, records);
}

/** Records as objects, as the plain reader has them. */
function recordsAt({ bytes, starts, ends }: ByteRecords, which: readonly number[]): unknown[] {
  return which.map((i) => parseExactJson(decoder.decode(bytes.subarray(starts[i]!, ends[i]!))));
}
