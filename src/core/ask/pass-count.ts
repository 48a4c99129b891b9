/**
 * Counts what one pass over a list has given, to know whether it can be whole. Pure state.
 *
 * A list that keeps its order gives each key once, and as many as its total says. Where records come in or go while
 * pages are read, some come twice at the seam of two pages: that is explained. A key that comes twice anywhere else
 * shows a list without a stable order, and for each record that came twice another may not have come at all.
 */

import { BridgeError, type Where } from "../errors.js";
import { isPlainObject, stringifyExact } from "../shape/exact-json.js";
import { KeyDigests } from "./key-digests.js";

const DOUBT_HINT =
  "Write under pages how the API gives the next page; until then the cursor stays, and the same is asked for again.";

export interface Counted {
  readonly records: readonly unknown[];
  /** what tells each record from others; empty where the stream has no key */
  readonly ids: readonly string[];
  /** ids of the pages just before this one, in their order */
  readonly before: readonly (readonly string[])[];
  /** records that come again are asked for: pages overlap */
  readonly overlaps: boolean;
  /** pages were asked for further back, because records had moved: what comes again may lie further back */
  readonly wentBack?: boolean | undefined;
  /** a record may come again further on because it has changed meanwhile: whether this one did */
  readonly mayComeAgain?: ((record: unknown) => boolean) | undefined;
  /** the rest of the same answer as the records before */
  readonly sameResponse?: boolean | undefined;
}

export class PassCount {
  private readonly keys = new KeyDigests();
  private reading = 1;
  private received = 0;
  private again = 0;
  private unexplained = 0;
  private sharing = 0;
  private example: string | undefined;
  private promised: number | undefined;
  private mostPromised = 0;
  private union = 0;
  private doubt: string | undefined;

  /** `key`: the names of the key's fields, for messages; empty where there is none. */
  constructor(private readonly key: readonly string[]) {}

  /** Begins another reading of the same list. What has come already counts as well. */
  readAgain(): void {
    this.reading++;
    this.received = 0;
    this.again = 0;
    this.unexplained = 0;
    this.promised = undefined;
    this.doubt = undefined;
  }

  /** Whether reading again can help: only what has a key can be put together from two readings. */
  get isKeyed(): boolean {
    return this.key.length > 0;
  }

  /** Notes how many records there are in all, as the first page says. */
  promise(total: number | undefined): void {
    if (total === undefined) return;
    this.promised ??= total;
    this.mostPromised = Math.max(this.mostPromised, total);
  }

  /** The total has turned out to count something else. */
  forgetPromise(): void {
    this.promised = undefined;
    this.mostPromised = 0;
  }

  /** Whether something speaks of more pages: reading the same again would not show them. */
  get isDoubtful(): boolean {
    return this.doubt !== undefined;
  }

  /** Notes why there may be more than was read. */
  mayBeMore(why: string): void {
    this.doubt ??= why;
  }

  /**
   * Notes a page's records, or a piece of them.
   * @throws BridgeError KEY_NOT_UNIQUE where two different records of one response have the same key
   */
  take(page: Counted, where: Where): void {
    const { records, ids } = page;
    this.received += records.length;
    if (!this.isKeyed) return;
    const twice: number[] = [];
    for (let i = 0; i < ids.length; i++) {
      const seen = this.keys.add(ids[i]!, this.reading);
      if (seen === "again") twice.push(i);
      else if (seen === "new") this.union++;
    }
    if (twice.length === 0) return;
    this.again += twice.length;
    this.judge(page, twice, where);
  }

  private judge(page: Counted, twice: readonly number[], where: Where): void {
    const { records, ids, sameResponse = false } = page;
    const firstAt = new Map<string, number>();
    for (const [i, id] of ids.entries()) if (!firstAt.has(id)) firstAt.set(id, i);
    const fromBefore: number[] = [];
    for (const at of twice) {
      const first = firstAt.get(ids[at]!)!;
      if (first === at) fromBefore.push(at);
      else if (stringifyExact(records[first]) !== stringifyExact(records[at]))
        throw keyNotUnique(this.key, records, ids[at]!, where);
    }
    if (fromBefore.length === 0) return;
    if (sameResponse) this.sharing += fromBefore.length;
    else if (!isExplained(page, fromBefore)) {
      this.unexplained += fromBefore.length;
      this.example ??= ids[fromBefore[0]!];
    }
  }

  /** Why the pass cannot be taken for whole; undefined where nothing speaks against it. */
  shortfall(): BridgeError | undefined {
    const { doubt, promised, received } = this;
    if (this.sharing > 0)
      return new BridgeError(
        "KEY_NOT_UNIQUE",
        `${this.sharing} records of one response share the key ${this.key.join(", ")} with another.`,
      );
    if (doubt !== undefined) return incomplete(doubt, DOUBT_HINT);
    const share = 2 ** this.keys.level;
    const different = received - this.again * share;
    // with as many different keys as were promised, nothing is missing, in whatever order they came
    if (promised !== undefined && this.isKeyed && this.union * share >= this.mostPromised) return undefined;
    if (promised !== undefined && different < promised) {
      const came = this.isKeyed ? `${different} different records came` : `${received} records came`;
      const readings = this.reading === 1 ? "" : ` and ${this.union * share} in ${this.reading} readings`;
      return incomplete(
        `${came}${readings}, where the API promises ${promised}.`,
        "Ask in another way: by token, after a key, in windows of time, or in larger pages; if the total counts something else, remove pages.total.",
      );
    }
    if (this.unexplained === 0) return undefined;
    return incomplete(
      `${this.again * share} of ${received} records came twice (key ${this.example}): the list has no stable order, and for each of them another may not have come.`,
      "Ask the API to sort by a field that no two records share (a parameter in query), by token, after a key, or in windows of time.",
    );
  }
}

function incomplete(why: string, hint?: string): BridgeError {
  return new BridgeError("INCOMPLETE", why, { hint });
}

/**
 * Whether records come again because the list has moved: they are the first ones of the page, in the order in which
 * the pages before ended. Where pages overlap, others may have come in between them.
 */
function isExplained(page: Counted, twice: readonly number[]): boolean {
  const { ids, before, overlaps, wentBack = false, records, mayComeAgain } = page;
  const changed = mayComeAgain !== undefined && twice.every((at) => mayComeAgain(records[at]));
  if (changed) return true;
  if (!overlaps && twice.some((at, i) => at !== i)) return false;
  const again = twice.map((at) => ids[at]!);
  const known = new Set<string>();
  for (const page of before) {
    const places = new Map(page.map((id, i) => [id, i]));
    const shared = again.flatMap((id) => places.get(id) ?? []);
    if (shared.some((place, i) => i > 0 && place <= shared[i - 1]!)) return false;
    for (const id of page) known.add(id);
  }
  return wentBack || again.every((id) => known.has(id));
}

function keyNotUnique(
  key: readonly string[],
  records: readonly unknown[],
  id: string,
  where: Where,
): BridgeError {
  const more = fieldThatTells(records, key);
  const hint =
    more === undefined
      ? undefined
      : `On this page, key: [${[...key, more].join(", ")}] tells all records from each other.`;
  const message = `Two different records of one response have the same ${key.join(", ")} ${id}: the key does not tell records from each other.`;
  return new BridgeError("KEY_NOT_UNIQUE", message, { where, hint });
}

/** A field that, beside the key, no two records of the page share. */
function fieldThatTells(records: readonly unknown[], key: readonly string[]): string | undefined {
  const objects = records.filter(isPlainObject);
  const names = Object.keys(objects[0] ?? {}).filter((name) => !key.includes(name));
  return names.find((name) => {
    const values = objects.map((record) =>
      stringifyExact([record[name], ...key.map((each) => record[each])]),
    );
    return (
      objects.every((record) => typeof record[name] !== "object") && new Set(values).size === objects.length
    );
  });
}
