/** One limit: so much in any stretch of time. */

/** A request that counts in the limits. */
export interface Sent {
  sentMs: number;
  readonly cost: number;
  /** requests under way when it was sent, this one counted */
  readonly among: number;
  /** the latest moment the request can have arrived at the API, as far as is known */
  arrivedMs: number;
  open: boolean;
}

/** Requests that may still be under way when later ones are answered already, at most. */
const MOST_AT_ONCE = 64;

export class SlidingWindow {
  private sent: Sent[] = [];
  /** costs of all requests up to each one, so that a sum over some is one subtraction */
  private totals: number[] = [];
  private head = 0;
  private dropped = 0;

  constructor(
    public limit: number,
    readonly windowMs: number,
  ) {}

  add(sent: Sent): void {
    this.totals.push(this.total + sent.cost);
    this.sent.push(sent);
  }

  /** When a request of this cost may go; 0 or a moment that is past: now. */
  freeAtMs(cost: number, nowMs: number): number {
    this.trim(nowMs);
    // what is dearer than the whole limit goes when nothing else counts
    const mayStay = Math.max(0, this.limit - cost);
    const mustGo = this.total - mayStay;
    if (mustGo <= this.dropped) return 0;
    const last = this.firstWithTotal(mustGo);
    let arrivedMs = 0;
    for (let i = Math.max(this.head, last - MOST_AT_ONCE); i <= last; i++)
      arrivedMs = Math.max(arrivedMs, this.sent[i]!.arrivedMs);
    return arrivedMs + this.windowMs;
  }

  /** What counts at a moment. */
  countAt(atMs: number): number {
    let count = 0;
    for (let i = this.sent.length - 1; i >= this.head; i--) {
      const { arrivedMs, cost } = this.sent[i]!;
      if (arrivedMs + this.windowMs > atMs) count += cost;
    }
    return count;
  }

  private get total(): number {
    return this.totals[this.totals.length - 1] ?? this.dropped;
  }

  private firstWithTotal(total: number): number {
    let [low, high] = [this.head, this.sent.length - 1];
    while (low < high) {
      const middle = (low + high) >> 1;
      if (this.totals[middle]! >= total) high = middle;
      else low = middle + 1;
    }
    return low;
  }

  private trim(nowMs: number): void {
    while (this.head < this.sent.length) {
      const { arrivedMs, open } = this.sent[this.head]!;
      if (open || arrivedMs + this.windowMs > nowMs) break;
      this.dropped = this.totals[this.head]!;
      this.head++;
    }
    if (this.head < 1024 || this.head < this.sent.length / 2) return;
    this.sent = this.sent.slice(this.head);
    this.totals = this.totals.slice(this.head);
    this.head = 0;
  }
}
