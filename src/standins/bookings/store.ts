/** The state of the bookings service: the untouched bookings by index, and the changes since. */

import { pickAt, randomAt } from "../random.js";
import { type Booking, baseChangeSeconds, booking, firstIndexAfter } from "./data.js";

/** A place in the listing by change time: among the untouched bookings, or among the changes. */
export interface Position {
  readonly list: "base" | "changes";
  readonly at: number;
}

interface Change {
  readonly index: number;
  readonly version: number;
  readonly seconds: number;
}

export class BookingStore {
  /** all changes in order of time; one that a later change of the same booking replaced stays as a gap */
  private readonly changes: (Change | undefined)[] = [];
  private readonly changeOf = new Map<number, number>();
  private count: number;
  private ticks = 0;
  private readonly baseCount: number;

  constructor(
    count: number,
    private readonly seed: number,
  ) {
    this.count = count;
    this.baseCount = count;
  }

  get size(): number {
    return this.count;
  }

  /** The first place after an instant; the beginning without one. */
  startAfter(seconds: number | undefined): Position {
    if (seconds === undefined) return { list: "base", at: 0 };
    const index = firstIndexAfter(seconds);
    if (index < this.baseCount) return { list: "base", at: index };
    const at = this.changes.findIndex((change) => change !== undefined && change.seconds > seconds);
    return { list: "changes", at: at === -1 ? this.changes.length : at };
  }

  /** Up to `limit` bookings from a place on, and the place behind them; none when the listing ends. */
  read(from: Position, limit: number): { bookings: Booking[]; next: Position | undefined } {
    const bookings: Booking[] = [];
    let { list, at } = from;
    while (list === "base" && bookings.length < limit && at < this.baseCount) {
      if (!this.changeOf.has(at)) bookings.push(booking(at, 0, baseChangeSeconds(at), this.seed));
      at++;
    }
    if (list === "base" && at >= this.baseCount) [list, at] = ["changes", 0];
    while (list === "changes" && bookings.length < limit && at < this.changes.length) {
      const change = this.changes[at++];
      if (change !== undefined)
        bookings.push(booking(change.index, change.version, change.seconds, this.seed));
    }
    const ended = list === "changes" && at >= this.changes.length;
    return { bookings, next: ended ? undefined : { list, at } };
  }

  /** Time goes on by an hour: some bookings change, some are added. */
  tick(changed: number, added: number): { changed: number; added: number } {
    this.ticks++;
    const seconds = baseChangeSeconds(this.baseCount) + this.ticks * 3600;
    const touched = new Set<number>();
    for (let n = 0; touched.size < Math.min(changed, this.count) && n < changed * 20; n++) {
      touched.add(Math.floor(randomAt(this.seed + this.ticks, n) * this.count));
    }
    let moved = 0;
    for (const index of touched) this.change(index, seconds + Math.floor(moved++ / 4));
    for (let n = 0; n < added; n++) this.change(this.count++, seconds + Math.floor((moved + n) / 4));
    return { changed: touched.size, added };
  }

  /** A tick's worth of what a real day brings: about one booking in fifty changes. */
  usualTick(): { changed: number; added: number } {
    return this.tick(Math.ceil(this.count / 50), pickAt([9, 12, 15], this.seed, this.ticks));
  }

  private change(index: number, seconds: number): void {
    const before = this.changeOf.get(index);
    const old = before === undefined ? undefined : this.changes[before];
    if (before !== undefined) this.changes[before] = undefined;
    this.changeOf.set(index, this.changes.length);
    this.changes.push({ index, version: (old?.version ?? 0) + 1, seconds });
  }
}
