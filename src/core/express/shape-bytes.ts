/**
 * Rows of a page out of its bytes, without an object for each record:
 *
 *   bytes ─▶ outline   where each record is, its key and its cursor's value; the rest of the body
 *              └─▶ scanner   each record straight into the columns of its tables, mostly while it is outlined;
 *                    │       the scan itself is WebAssembly, its sources are in `wasm/`
 *                    └─▶ what is not as the tables have it: the plain reader, for these records alone
 *
 * The plain reader is the judge: rows, types, names and what goes to quarantine are the same.
 */

import { parseExactJson } from "../shape/exact-json.js";
import type { Scanned, Shape } from "../shape/shape.js";
import {
  type ByteRecords,
  newsBytes,
  type RecordNews,
  type ShapedSome,
  wholeRecord,
} from "./byte-records.js";
import { type FoundRecords, Scanner } from "./scanner.js";

const decoder = new TextDecoder("utf-8", { ignoreBOM: true });

/** So many records are shaped at a time. */
const SLICE = 5000;

/**
 * The same rows as the plain reader gives. What is unusual in a slice comes last: its records have different keys, so
 * that their order does not matter.
 */
export function* shapeBytes(source: ByteRecords, shape: Shape): Generator<ShapedSome> {
  const { scan } = source;
  const { length } = source.starts;
  // what has changed since may well concern these records
  if (scan !== undefined && scan.shape === shape && scan.version === shape.version)
    yield* shapedSlice(source, shape, { from: 0, length, scanned: scan, odd: scan.odd });
  else
    for (let from = 0; from < length; from += SLICE)
      yield* shapedSlice(source, shape, scanSlice(source, shape, from, Math.min(SLICE, length - from)));
}

/** Neighbouring records in columns, but for odd ones; all of them are odd where tables cannot be scanned. */
interface SliceScan {
  readonly from: number;
  readonly length: number;
  readonly scanned: Scanned | undefined;
  readonly odd: readonly number[];
}

function scanSlice(source: ByteRecords, shape: Shape, from: number, length: number): SliceScan {
  const { bytes, starts, news, finder } = source;
  const scanner = Scanner.of(shape.scannable, finder.wanted);
  scanner?.begin(bytes, starts[from], source.ends[from + length - 1]);
  const odd: number[] = [];
  let given: RecordNews;
  let written: Uint8Array | undefined;
  for (let i = from; i < from + length; i++) {
    // mostly all are given the same
    if (news?.[i] !== given) {
      given = news?.[i];
      written = newsBytes(given);
    }
    const found: FoundRecords = { starts: [], ends: [], sketches: [] };
    if (scanner === undefined || scanner.take(starts[i]!, found, 1, written) === 0) odd.push(i);
    else if (finder.isRemoval(found.sketches[0]!)) {
      scanner.dropLast();
      odd.push(i);
    }
  }
  return { from, length, scanned: scanner?.takeRows(), odd };
}

function* shapedSlice(
  source: ByteRecords,
  shape: Shape,
  { from, length, scanned, odd }: SliceScan,
): Generator<ShapedSome> {
  if (odd.length * 2 > length) source.finder.rest();
  if (scanned !== undefined && odd.length < length) {
    const isOdd = new Set(odd);
    const which: number[] = [];
    for (let i = from; i < from + length; i++) if (!isOdd.has(i)) which.push(i);
    yield { ...shape.scanned(scanned), which };
  }
  if (odd.length > 0) yield { ...shape.shapeRecords(recordsAt(source, odd)), which: odd };
}

/** Records as objects, as the plain reader has them: neighbours are parsed together. */
function recordsAt(source: ByteRecords, which: readonly number[]): unknown[] {
  const { bytes, starts, ends, news } = source;
  const [first, last] = [which[0]!, which.at(-1)!];
  if (news !== undefined || last - first + 1 !== which.length)
    return which.map((i) => wholeRecord(source, i));
  return parseExactJson(`[${decoder.decode(bytes.subarray(starts[first], ends[last]))}]`) as unknown[];
}
