/**
 * A page's outline: where its records are in the bytes, the values that asking needs of each, and the rest of the body.
 * No record is made as an object. What is in any way unusual gives no outline: the plain reader reads it.
 *
 * Where the stream's tables are known, each record goes into their columns on the way; it is gone through once.
 */

import { stringifyExact } from "../shape/exact-json.js";
import { getByPath } from "../shape/path-get.js";
import type { Shape } from "../shape/shape.js";
import {
  type ByteRecords,
  type Finder,
  newsBytes,
  type RecordNews,
  type ShapedSome,
} from "./byte-records.js";
import { type Field, type IntoRows, Pass } from "./pass.js";
import { forgetLast, Scanner } from "./scanner.js";
import { shapeBytes } from "./shape-bytes.js";
import type { FieldPath, Sketch } from "./sketch.js";

/** Makes JSON Lines of another form of rows; undefined where the page is not of the usual kind. */
export interface LinesMaker {
  lines(body: Uint8Array): Uint8Array | undefined;
}

/** What is to be known of a page before its rows are made. */
export interface OutlinePlan {
  /** how its records are written */
  readonly form: "json" | "json_lines" | LinesMaker;
  /** the keys that lead to the list of records; none: the body is the list. Where it may be in several places, each */
  readonly lists: readonly (readonly string[])[];
  /** the body as it is to be read; undefined where that is in doubt */
  readonly rewritten?: ((body: Uint8Array) => Uint8Array | undefined) | undefined;
  /** paths of fields of each record, through objects alone */
  readonly fields: readonly FieldPath[];
  /**
   * those of them that tell it from others: where two records of a page have the same, they are to be compared; none:
   * they may be alike
   */
  readonly identity: readonly FieldPath[];
  /** fields without which a record is told in part: the plain reader reads the page then */
  readonly required: readonly string[];
  /** whether a record only tells that one is gone, by those fields */
  readonly isRemoval?: ((sketch: Readonly<Sketch>) => boolean) | undefined;
  /** rules leave records out, or give each of them fields: rows are made behind them */
  readonly hasRules: boolean;
  /** whether the rest of the body says that it is no plain page */
  readonly isUnlike?: ((body: unknown) => boolean) | undefined;
  /** what is not as the tables have it may say something of its record: the plain reader reads the page then */
  readonly isStrict: boolean;
}

/** Whether rules keep a record; undefined where they cannot judge it. */
export type Keeps = (sketch: Readonly<Sketch>) => boolean | undefined;

export interface Outline extends ByteRecords {
  /** the body with an empty list in the place of its records */
  readonly body: unknown;
}

const encoder = new TextEncoder();

/** Where most records are not as the tables have them, so many pages are read plainly before it is tried again. */
const REST = 20;

/** So many pages in vain, and the next ones are not tried. */
const MOST_FAILURES = 3;

/** The columns of a larger page are not to stand beside it: its rows are made later, piece by piece. */
const LARGE = 8 * 1024 * 1024;

/** Makes the outline of pages; made once for a stream. */
export class Outliner implements Finder {
  private resting = 0;
  /** pages that were not as they should be, one after the other */
  private failures = 0;
  /** what scanned it */
  private last: ScannerOf | undefined;
  /** where the records may be, the place of the last page first */
  private lists: readonly (readonly Uint8Array[])[];
  private readonly fields: readonly Field[];

  constructor(private readonly plan: OutlinePlan) {
    this.lists = plan.lists.map((list) => list.map((name) => encoder.encode(name)));
    const names = new Set(plan.fields.map(([name]) => name!));
    this.fields = [...names].map((name) => ({ name, bytes: encoder.encode(name) }));
  }

  get wanted(): readonly FieldPath[] {
    return this.plan.fields;
  }

  isRemoval(sketch: Readonly<Sketch>): boolean {
    return this.plan.isRemoval?.(sketch) === true;
  }

  /** Outlines were of no use: the next pages are left to the plain reader. */
  rest(): void {
    this.failures = 0;
    this.resting = REST;
  }

  shape(records: ByteRecords, shape: Shape): Iterable<ShapedSome> {
    return shapeBytes(records, shape);
  }

  /**
   * undefined: the plain reader is to read the page. `shape`: what its records are scanned into on the way, each with
   * `news`. `keeps`: rules that give a record nothing, where there are no others.
   */
  outline(body: Uint8Array, shape?: Shape, news?: RecordNews, keeps?: Keeps): Outline | undefined {
    if (this.resting > 0) {
      this.resting--;
      return undefined;
    }
    const { hasRules, isStrict } = this.plan;
    // what has to be scanned at once, and is too large for that, need not be rewritten
    if (isStrict && body.length > LARGE) return undefined;
    const bytes = this.inJson(body);
    if (bytes === undefined) return undefined;
    // also where rules give records fields, and rows are made later: no other way finds records as fast
    const isAtOnce = shape?.hasRows === true && bytes.length <= LARGE;
    const scanner = isAtOnce ? this.scannerOf(shape) : undefined;
    if (isStrict && scanner === undefined) return undefined;
    const ruled = hasRules && keeps !== undefined ? new Ruled(keeps) : undefined;
    const pass = this.passOf(bytes, scanner, news, ruled);
    if (pass === undefined) return undefined;
    const { starts, ends, sketches } = pass;
    if (!areDifferent(sketches, this.plan.identity)) return undefined;
    // a field that is new to the tables may bring no column, and so no new version of them
    if (pass.odd.length > 0) this.last = undefined;
    if (isStrict && pass.odd.length > 0) return this.fail();
    this.failures = 0;
    const rest = pass.rest();
    if (this.plan.isUnlike?.(rest) === true) return undefined;
    // the rules have not seen them yet
    const odd = pass.odd.filter(
      (i) => this.isRemoval(sketches[i]!) || ruled?.leavesOut(sketches[i]!) !== true,
    );
    const { leftOut } = ruled ?? {};
    const hasScan = scanner !== undefined && shape !== undefined && (!hasRules || leftOut !== undefined);
    const scan = hasScan
      ? { ...scanner.takeRows(), shape, version: shape.version, news, odd, leftOut }
      : undefined;
    return { finder: this, bytes, starts, ends, sketches, body: rest, scan };
  }

  /** The pass over a page that came to its end. */
  private passOf(
    bytes: Uint8Array,
    scanner: Scanner | undefined,
    news: RecordNews,
    ruled: Ruled | undefined,
  ): Pass | undefined {
    const intoRows = this.intoRows(scanner, news, ruled);
    for (const list of this.lists) {
      scanner?.begin(bytes);
      ruled?.begin();
      const pass = new Pass(bytes, list, this.fields, intoRows);
      if (!(this.plan.form === "json" ? pass.takesBody() : pass.takesLines())) continue;
      if (list !== this.lists[0]) this.lists = [list, ...this.lists.filter((each) => each !== list)];
      return pass;
    }
    return undefined;
  }

  private inJson(body: Uint8Array): Uint8Array | undefined {
    // one kind of array for all that follows: Node's Buffer is another, and code for both is twice as slow
    const bytes = new Uint8Array(body.buffer, body.byteOffset, body.length);
    const { form, rewritten } = this.plan;
    if (typeof form !== "string") return form.lines(bytes);
    return rewritten === undefined ? bytes : rewritten(bytes);
  }

  /** Mostly that of the last page: its buffers have the room that is needed. */
  private scannerOf(shape: Shape): Scanner | undefined {
    const { last } = this;
    if (last?.shape !== shape || last.version !== shape.version)
      this.last = {
        shape,
        version: shape.version,
        scanner: Scanner.of(shape.scannable, this.plan.fields, this.plan.required),
      };
    return this.last?.scanner;
  }

  private fail(): undefined {
    this.failures++;
    if (this.failures >= MOST_FAILURES) this.rest();
  }

  /** What makes rows of records. */
  private intoRows(
    scanner: Scanner | undefined,
    news: RecordNews,
    ruled: Ruled | undefined,
  ): IntoRows | undefined {
    if (scanner === undefined) return undefined;
    const bytes = newsBytes(news);
    if (this.plan.isRemoval === undefined && ruled === undefined)
      return (from, found, most) => scanner.take(from, found, most, bytes);
    return (from, found) => {
      if (scanner.take(from, found, 1, bytes) === 0) return 0;
      const sketch = found.sketches.at(-1)!;
      const isRemoval = this.isRemoval(sketch);
      if (isRemoval || ruled?.leavesOut(sketch) === true) scanner.dropLast();
      if (isRemoval) forgetLast(found);
      return isRemoval ? 0 : 1;
    };
  }
}

/** What rules say of the records of a page. */
class Ruled {
  private left = new Set<unknown>();
  private isSure = true;

  constructor(private readonly keeps: Keeps) {}

  begin(): void {
    this.left = new Set();
    this.isSure = true;
  }

  leavesOut(sketch: Readonly<Sketch>): boolean {
    const isKept = this.keeps(sketch);
    this.isSure &&= isKept !== undefined;
    if (isKept === false) this.left.add(sketch);
    return isKept === false;
  }

  /** undefined where one of them cannot be judged */
  get leftOut(): ReadonlySet<unknown> | undefined {
    return this.isSure ? this.left : undefined;
  }
}

function areDifferent(sketches: Outline["sketches"], identity: readonly FieldPath[]): boolean {
  const [path] = identity;
  if (path === undefined) return true;
  if (identity.length > 1) {
    const texts = sketches.map((sketch) => stringifyExact(identity.map((each) => getByPath(sketch, each))));
    return new Set(texts).size === sketches.length;
  }
  const values = sketches.map((sketch) => getByPath(sketch, path));
  // "1" and 1 are the same to whoever compares texts
  const kind = typeof values[0];
  if (!values.every((value) => typeof value === kind)) return false;
  // most pages come in the order of their keys; a set takes its time
  return isAscending(values) || new Set(values).size === values.length;
}

/** Whether each of them, all numbers or all texts, is more than the one before. */
function isAscending(values: readonly unknown[]): boolean {
  const [first] = values;
  if (typeof first !== "number" && typeof first !== "string") return false;
  const texts = values as readonly string[];
  return texts.every((text, i) => i === 0 || texts[i - 1]! < text);
}

/** A scanner, and the state of the shape that it was made for. */
interface ScannerOf {
  readonly shape: Shape;
  readonly version: number;
  readonly scanner: Scanner | undefined;
}
