/** Records in the bytes of their page, and what is made of them. */

import { parseExactJson, stringifyExact } from "../shape/exact-json.js";
import type { Scanned, Shape } from "../shape/shape.js";
import type { Shaped } from "../shape/shaped.js";
import type { FieldPath, Sketch } from "./sketch.js";

/** Fields that a record has beside its own, and over them; undefined: none. */
export type RecordNews = Readonly<Record<string, unknown>> | undefined;

/** Who found records, and makes rows of them. */
export interface Finder {
  /** fields of each record whose values are wanted */
  readonly wanted: readonly FieldPath[];
  /** whether a record only tells that one is gone */
  isRemoval(sketch: Readonly<Sketch>): boolean;
  /** the next pages are left to the plain reader */
  rest(): void;
  /** the same rows as the plain reader gives; those of records that are unusual come last */
  shape(records: ByteRecords, shape: Shape): Iterable<ShapedSome>;
}

/** Records in the bytes of their page. */
export interface ByteRecords {
  readonly finder: Finder;
  readonly bytes: Uint8Array;
  readonly starts: readonly number[];
  readonly ends: readonly number[];
  /** each record with the fields that were wanted, as JSON.parse gives them; others of their objects may be there */
  readonly sketches: readonly Readonly<Sketch>[];
  /** what rules give to each of them */
  readonly news?: readonly RecordNews[] | undefined;
  /** their rows, where they are there already */
  readonly scan?: PageScan | undefined;
}

/** All records of a page in the columns of their tables. */
export interface PageScan extends Scanned {
  readonly shape: Shape;
  /** the state of the shape that they were scanned by */
  readonly version: number;
  /** what each record was given beside its own fields */
  readonly news: RecordNews;
  /** places in the page of records that are not as the tables have them: they have no rows here */
  readonly odd: readonly number[];
  /** sketches of those that rules leave out, which have no rows here either; undefined: no rule was asked */
  readonly leftOut?: ReadonlySet<unknown> | undefined;
}

/** Rows of some of a page's records. */
export interface ShapedSome extends Shaped {
  /** their places in the page, in order */
  readonly which: readonly number[];
}

const encoder = new TextEncoder();
/** for what is known to be UTF-8 */
const decoder = new TextDecoder("utf-8", { ignoreBOM: true });

/** Some of a page's records, by their places. */
export function someOf(source: ByteRecords, kept: readonly number[]): ByteRecords {
  const { starts, ends, sketches, news } = source;
  const pick = <T>(from: readonly T[]) => kept.map((i) => from[i]!);
  return {
    ...source,
    starts: pick(starts),
    ends: pick(ends),
    sketches: pick(sketches),
    news: news && pick(news),
    scan: undefined,
  };
}

/** A record as an object, as the plain reader has it. */
export function wholeRecord(source: ByteRecords, i: number, news: RecordNews = source.news?.[i]): unknown {
  const text = decoder.decode(source.bytes.subarray(source.starts[i]!, source.ends[i]!));
  const record = parseExactJson(text);
  return news === undefined ? record : { ...(record as object), ...news };
}

/** What a record is given, as JSON that is scanned behind its own. */
export function newsBytes(news: RecordNews): Uint8Array | undefined {
  return news === undefined || Object.keys(news).length === 0
    ? undefined
    : encoder.encode(stringifyExact(news));
}
