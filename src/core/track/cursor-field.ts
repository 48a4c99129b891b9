/**
 * The field of a stream that its cursor is taken from, over one run: what kind of values it holds is decided once, by
 * the ledger or by the first records, and what is of another kind is counted, not compared.
 */

import { getByPath } from "../shape/path-get.js";
import { type CursorRule, type CursorSpan, comparableSince, EMPTY_SPAN } from "./cursor.js";
import {
  type CursorKind,
  type CursorValue,
  compareCursors,
  cursorValue,
  type EpochUnit,
  epochUnit,
  valueOfKind,
} from "./cursor-value.js";

export class CursorField {
  private unit: EpochUnit | undefined;
  private looked = false;

  constructor(
    readonly rule: CursorRule & { readonly field: readonly string[] },
    private readonly nowMs: number,
    /** the kind that is known from earlier runs */
    public kind: CursorKind | undefined = undefined,
  ) {}

  /** A record's value, where it is of the stream's kind. */
  value(record: unknown): CursorValue | undefined {
    return this.kind && valueOfKind(getByPath(record, this.rule.field), this.kind);
  }

  /** What one page's records say of the cursor, in reading order. */
  span(records: readonly unknown[]): CursorSpan {
    const kind = this.decide(records);
    if (kind === undefined) return { ...EMPTY_SPAN, records: records.length, missing: records.length };
    return spanOf(records, this.rule.field, kind);
  }

  /** The records that are not older than `since`; those without a usable value are kept. */
  notBefore(records: readonly unknown[], since: string): readonly unknown[] {
    const kind = this.decide(records);
    if (kind === undefined) return records;
    const from = comparableSince(since, this.rule, kind, this.unit);
    return records.filter((record) => {
      const value = valueOfKind(getByPath(record, this.rule.field), kind);
      return value === undefined || compareCursors(value, from) >= 0;
    });
  }

  /** Whether a list that comes newest first has reached what is known. One that broke its order is read to its end. */
  reachedKnown(since: string | undefined, { last, descending }: CursorSpan): boolean {
    if (this.rule.order !== "descending" || since === undefined || last === undefined) return false;
    return descending && compareCursors(last, this.comparable(since, last.kind)) < 0;
  }

  /** @throws BridgeError CURSOR_UNFIT */
  comparable(since: string, kind: CursorKind): CursorValue {
    return comparableSince(since, this.rule, kind, this.unit);
  }

  /** The kind of most values, the first time that there are any. */
  private decide(records: readonly unknown[]): CursorKind | undefined {
    if (this.looked) return this.kind;
    const counts = new Map<CursorKind, number>();
    for (const record of records) {
      const value = cursorValue(getByPath(record, this.rule.field));
      if (value === undefined) continue;
      counts.set(value.kind, (counts.get(value.kind) ?? 0) + 1);
      if (value.kind === "number") this.unit ??= epochUnit(value.near, this.nowMs);
    }
    this.looked = counts.size > 0;
    this.kind ??= [...counts].sort((a, b) => b[1] - a[1])[0]?.[0];
    return this.kind;
  }
}

/** The span of one page's records, over values of one kind. */
export function spanOf(records: readonly unknown[], field: readonly string[], kind: CursorKind): CursorSpan {
  let first: CursorValue | undefined;
  let last: CursorValue | undefined;
  let max: CursorValue | undefined;
  let below: CursorValue | undefined;
  let ascending = true;
  let descending = true;
  let missing = 0;
  let strange = 0;
  let stranger: string | undefined;
  for (const record of records) {
    const raw = getByPath(record, field);
    const value = valueOfKind(raw, kind);
    if (value === undefined) {
      missing++;
      if (raw === undefined || raw === null || raw === "") continue;
      strange++;
      stranger ??= typeof raw === "object" ? "an object or list" : String(raw).slice(0, 60);
      continue;
    }
    first ??= value;
    const step = last === undefined ? 0 : compareCursors(value, last);
    if (step < 0) ascending = false;
    if (step > 0) descending = false;
    last = value;
    const order = max === undefined ? 1 : compareCursors(value, max);
    if (order > 0) {
      below = max;
      max = value;
    } else if (order < 0) below = below !== undefined && compareCursors(below, value) >= 0 ? below : value;
  }
  const seen = { records: records.length, missing, strange, stranger };
  return { ...seen, first, last, max, below, ascending, descending };
}
