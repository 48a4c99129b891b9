/**
 * The keys of one pass, as digests of 64 bits: so many that a key which comes twice is known, in bounded memory.
 *
 * Up to two million keys each is known. Beyond that only a share of them is kept, chosen by their digest: one half,
 * then one quarter, and so on. A key that is kept is known wherever it comes again.
 */

/** Slots of the largest table: 32 MB of digests and 4 MB of reading numbers. Half of them are used at most. */
const MOST_SLOTS = 2 ** 22;
const FIRST_SLOTS = 64;

/** `new`: not seen before; `earlier`: only in an earlier reading; `again`: in this reading, before. */
export type Seen = "new" | "earlier" | "again" | "not kept";

export class KeyDigests {
  /** one of 2^level keys is kept */
  level = 0;
  private slots = FIRST_SLOTS;
  private high = new Uint32Array(FIRST_SLOTS);
  private low = new Uint32Array(FIRST_SLOTS);
  private readings = new Uint8Array(FIRST_SLOTS);
  private used = 0;

  constructor(private readonly mostSlots = MOST_SLOTS) {}

  /** keys that are kept */
  get size(): number {
    return this.used;
  }

  /** Notes a key as seen in a reading, numbered from 1 to 255. */
  add(key: string, reading: number): Seen {
    const [high, low] = digestOf(key);
    return this.put(high, low, reading);
  }

  /** Whether a key was seen; false for one that was not kept. */
  has(key: string): boolean {
    const [high, low] = digestOf(key);
    return this.low[this.slotOf(high, low)] !== 0;
  }

  private put(high: number, low: number, reading: number): Seen {
    if (!this.isKept(high)) return "not kept";
    const slot = this.slotOf(high, low);
    if (this.low[slot] !== 0) {
      const seen = this.readings[slot] === reading ? "again" : "earlier";
      this.readings[slot] = reading;
      return seen;
    }
    this.fill(slot, high, low, reading);
    if (this.used * 2 > this.slots) this.grow();
    return "new";
  }

  private isKept(high: number): boolean {
    return this.level === 0 || high >>> (32 - this.level) === 0;
  }

  /** The key's own slot, or the empty one where it belongs. A kept digest is never 0: its last bit is set. */
  private slotOf(high: number, low: number): number {
    const mask = this.slots - 1;
    let slot = (low >>> 1) & mask;
    while (this.low[slot] !== 0 && (this.low[slot] !== low || this.high[slot] !== high))
      slot = (slot + 1) & mask;
    return slot;
  }

  private fill(slot: number, high: number, low: number, reading: number): void {
    this.high[slot] = high;
    this.low[slot] = low;
    this.readings[slot] = reading;
    this.used++;
  }

  private grow(): void {
    const { high, low, readings } = this;
    if (this.slots < this.mostSlots) this.slots *= 2;
    else this.level++;
    this.high = new Uint32Array(this.slots);
    this.low = new Uint32Array(this.slots);
    this.readings = new Uint8Array(this.slots);
    this.used = 0;
    for (let i = 0; i < low.length; i++) {
      if (low[i] === 0 || !this.isKept(high[i]!)) continue;
      this.fill(this.slotOf(high[i]!, low[i]!), high[i]!, low[i]!, readings[i]!);
    }
  }
}

/** 64 bits of a text, in two halves; the last bit is set, so that no digest is 0. */
function digestOf(key: string): readonly [high: number, low: number] {
  let high = 0xdeadbeef;
  let low = 0x41c6ce57;
  for (let i = 0; i < key.length; i++) {
    const unit = key.charCodeAt(i);
    high = Math.imul(high ^ unit, 2654435761);
    low = Math.imul(low ^ unit, 1597334677);
  }
  // the final mix of a 64-bit hash in two halves
  high = Math.imul(high ^ (high >>> 16), 2246822507) ^ Math.imul(low ^ (low >>> 13), 3266489909);
  low = Math.imul(low ^ (low >>> 16), 2246822507) ^ Math.imul(high ^ (high >>> 13), 3266489909);
  return [high >>> 0, (low | 1) >>> 0];
}
