/**
 * A limit that the API tells nothing of, learned from its refusals (429) alone. Pure state.
 *
 *   first refusal      waited out; it may be a stray one, so the old speed is tried again
 *   the next one       something repeats. It may be requests at once: all that were refused came beside more than any
 *                      that got in. It may be so many in a usual window: as many got in within it both times.
 *                      Else it is a rate: that at which requests have got in from one refusal to the next
 *   a while without    a rate is raised, until it is refused; then what lies between is halved
 *   found              kept, and tried anew now and then
 *   not used up        forgotten: what is slower than its limit has none
 *
 * Requests are spread evenly over time, so that it does not matter how the API counts. Nothing is assumed for a longer
 * span than was seen, and one refusal alone never lowers anything.
 */

import type { Sent } from "./sliding-window.js";

/** Windows that limits usually have, in ms. */
const WINDOWS_MS = [1000, 10_000, 60_000, 600_000, 3_600_000];
const FIRST_HOLD_MS = 250;
/** Waits double up to here, then grow by a fifth. */
const STEEP_HOLD_MS = 8000;
const LONGEST_HOLD_MS = 300_000;
/** A rate is tried for at least so long before it counts as good. */
const FIRST_STEP_MS = 2000;
/** Rates are raised by so much at most, and by less at first where a limit was known. */
const MOST_RAISE = 0.5;
const FIRST_RAISE = 0.05;
/** What lies between a good rate and a refused one is not looked at more closely than this. */
const CLOSE_ENOUGH = 1.03;
const FIRST_PROBE_MS = 15_000;
const LAST_PROBE_MS = 600_000;
/** A second refusal within so many requests shows that the first was no stray one. */
const SOON = 150;
/** The same, where no more than so many at once get in, and fewer were under way. */
const VERY_SOON = 20;
/** As many refusals, each after less than this got in, show something as well. */
const MOST_APART = 3;
const LONG_CALM = 2000;
/** So many got in for each refusal of the last time before anything is tried that may be refused again. */
const CALM = 250;
const MOST_CARE = 5;
/**
 * The same for a rate that was never refused: few got in from one refusal to the next where most of a window was
 * full.
 */
const UNREFUSED_CALM = 20;
/** So many are looked back on, to see how many got in within a window. */
const MOST_SENT = 2000;
/** A rate that has not been used up for so long limits nothing. */
const UNUSED_MS = 10_000;
/** What is late by less is made up for. */
const CAUGHT_UP_MS = 10;
/** A rate that is not quite the limit keeps clear of it, however unevenly requests travel. */
const CLEAR = 0.985;
const TRY_MORE_MS = 30_000;

/** Requests that got in from one wait to the next. */
interface Burst {
  readonly startMs: number;
  count: number;
}

/** So many that got in within a time that limits are usually over, and when the first of the last ones went. */
interface UsualWindow {
  readonly count: number;
  readonly ms: number;
  readonly fullFromMs: number;
}

/** A refusal that shows something repeats: beside how many, and how long after the one before it. */
interface Refusal {
  readonly among: number;
  readonly sinceMs: number;
  readonly untilMs: number;
}

export class LearnedLimit {
  /** requests at once that the API takes, where that is what it counts */
  private taken = Number.POSITIVE_INFINITY;
  /** per ms; undefined: no limit is known */
  private rate: number | undefined;
  private good = 0;
  private tooMuch = Number.POSITIVE_INFINITY;
  private nextMs = 0;
  /** how long a time the limit is likely to be over: a rate is tried for so long */
  private spanMs = 0;
  private raise = MOST_RAISE;
  private probeGapMs = FIRST_PROBE_MS;
  /** when the rate was last changed, what got in since, and when it was last seen to be used up */
  private changedMs = 0;
  private gotInOfStep = 0;
  private usedMs = 0;
  /** what got in since the last refusal, and how much that was before it */
  private gotIn = 0;
  private gotInBefore = Number.POSITIVE_INFINITY;
  /** when a refusal came last, and before that; what was sent between the two and turned out to have got in */
  private refusedMs = Number.NEGATIVE_INFINITY;
  private refusedBeforeMs = Number.NEGATIVE_INFINITY;
  private late = 0;
  /** refusals without anything getting in between; when the first and the last of those requests were sent */
  private inARow = 0;
  /** how many that were the last time, and at most */
  private lastInARow = 0;
  private costly = 1;
  private refusedFromMs = 0;
  private refusedToMs = 0;
  private episodes = 0;
  private apart = 0;
  /** a rate was refused since it was found: beyond it, care is taken */
  private careful = false;
  private undecided: Refusal | undefined;
  private burst: Burst | undefined;
  private burstBefore: Burst | undefined;
  /** how long the last wait was from the beginning of a burst: longer than the one, as long as the other at most */
  private window = { longerMs: 0, mostMs: 0 };
  /** when those were sent that got in while no limit was known: the last of them */
  private readonly sentMs: number[] = [];
  /** the most under way beside which one got in, and the fewest beside which one was refused */
  private mostTaken = 0;
  private fewestRefused = Number.POSITIVE_INFINITY;

  /** Requests at once, at most. After a wait a single one goes, to see whether it was long enough. */
  get mostAtOnce(): number {
    return this.inARow > 0 ? 1 : this.taken;
  }

  /** When a request may go; 0 or a moment that is past: now. */
  freeAtMs(nowMs: number): number {
    // by the end of the wait, all that was under way beside the refusal has come back
    if (this.undecided !== undefined && nowMs >= this.undecided.untilMs) this.conclude(this.undecided, nowMs);
    return this.rate === undefined ? 0 : this.nextMs;
  }

  take({ sentMs, cost }: Sent): void {
    if (this.rate === undefined) return;
    this.nextMs = Math.max(this.nextMs, sentMs - CAUGHT_UP_MS) + cost / this.rate;
  }

  /** A response that was no refusal. */
  answered(sent: Sent, nowMs: number): void {
    const { cost, among, sentMs } = sent;
    this.mostTaken = Math.max(this.mostTaken, among);
    if (this.rate === undefined && this.sentMs.push(sentMs) > MOST_SENT) this.sentMs.shift();
    if (sentMs <= this.refusedMs) {
      if (sentMs <= this.refusedBeforeMs) return;
      this.late += cost;
      if (this.burst === undefined || this.burst.startMs <= this.refusedBeforeMs)
        this.beginBurst(sentMs, this.refusedBeforeMs);
      this.burst!.count += cost;
      return;
    }
    if (this.inARow > 0 || this.burst === undefined) this.beginBurst(sentMs, this.refusedToMs);
    this.burst!.count += cost;
    if (this.inARow > 0) this.lastInARow = this.inARow;
    this.costly = Math.max(this.costly, this.inARow);
    this.inARow = 0;
    this.gotIn += cost;
    if (this.rate !== undefined) this.judgeStep(cost, nowMs);
    else if (Number.isFinite(this.taken)) this.tryMoreAtOnce(nowMs);
  }

  /** A refusal: ms that nothing is sent for. `namedMs`: the time that the API names itself. */
  refused({ sentMs, among }: Sent, nowMs: number, namedMs: number | undefined): number {
    this.refusedToMs = sentMs;
    // beside as few as are known to get in, it is no matter of how many there are at once
    if (among > this.taken || !Number.isFinite(this.taken))
      this.fewestRefused = Math.min(this.fewestRefused, among);
    // several were under way together: they tell of one and the same event
    if (sentMs <= this.refusedMs) return namedMs ?? 0;
    // after a wait, some may have got in beside those that were refused
    const lateIn = this.inARow > 1 ? this.late : 0;
    const someGotIn = this.inARow === 0 || lateIn > 0;
    const sinceMs = nowMs - this.refusedFromMs;
    this.refusedBeforeMs = this.refusedMs;
    this.refusedMs = nowMs;
    this.late = 0;
    const persisted = this.lastInARow > 1;
    let repeats = false;
    if (someGotIn) {
      this.inARow = 1;
      const soon = among <= this.taken && Number.isFinite(this.taken) ? VERY_SOON : SOON;
      if (this.gotIn > LONG_CALM) this.apart = 0;
      const isNear = this.rate === undefined || sinceMs < Math.max(FIRST_STEP_MS, 1.5 * this.spanMs);
      repeats = persisted || (isNear && this.gotIn + lateIn < soon) || ++this.apart >= MOST_APART;
      this.episodes = this.rate === undefined && !repeats ? 1 : this.episodes + 1;
      this.refusedFromMs = nowMs;
      this.gotInBefore = this.episodes === 1 ? Number.POSITIVE_INFINITY : this.gotIn + lateIn;
      this.gotIn = 0;
    } else if (++this.inARow === 2 && this.rate !== undefined) this.lower(this.rate);
    if (someGotIn && this.episodes > 1) {
      if (this.rate === undefined)
        this.undecided = { among, sinceMs, untilMs: nowMs + this.backOffMs(namedMs) };
      else if (repeats) this.lower(this.rate);
    }
    const holdMs = this.backOffMs(namedMs);
    this.restart(Math.max(nowMs + holdMs, this.nextMs));
    return holdMs;
  }

  private beginBurst(sentMs: number, refusedToMs: number): void {
    const { burst } = this;
    if (burst !== undefined)
      this.window = { longerMs: refusedToMs - burst.startMs, mostMs: sentMs - burst.startMs };
    this.burstBefore = burst;
    this.burst = { startMs: sentMs, count: 0 };
  }

  /** What the second refusal shows, when all that was under way beside it has come back. */
  private conclude({ among, sinceMs }: Refusal, nowMs: number): void {
    this.undecided = undefined;
    this.lastInARow = 0;
    if (this.fewestRefused > 1 && this.fewestRefused > this.mostTaken && among > 1) {
      this.taken = this.fewestRefused - 1;
      return;
    }
    this.taken = Number.POSITIVE_INFINITY;
    const window = this.usualWindow() ?? this.slidingWindow();
    this.sentMs.length = 0;
    if (window !== undefined) {
      this.spanMs = window.ms;
      this.good = (window.count / window.ms) * CLEAR;
      this.tooMuch = this.good * CLOSE_ENOUGH;
      this.careful = true;
    } else {
      this.spanMs = sinceMs;
      this.raise = MOST_RAISE;
      this.good = (this.gotInBefore + this.late) / Math.max(sinceMs, 1);
      this.tooMuch = Number.POSITIVE_INFINITY;
      this.careful = false;
    }
    this.rate = this.good;
    // the window is full until its first ones fall out of it
    if (window !== undefined) this.nextMs = Math.max(this.nextMs, window.fullFromMs + window.ms);
    this.restart(Math.max(nowMs, this.nextMs));
  }

  /** The same number got in twice, and a window that limits usually have fits the time between. */
  private usualWindow(): UsualWindow | undefined {
    const { burst, burstBefore, window } = this;
    if (burst === undefined || burstBefore === undefined) return undefined;
    const count = Math.min(burst.count, burstBefore.count);
    if (count < 1 || Math.max(burst.count, burstBefore.count) > count * 1.1 + 1) return undefined;
    const ms = WINDOWS_MS.find((each) => each > window.longerMs && each <= window.mostMs * 1.02);
    return ms === undefined ? undefined : { count, ms, fullFromMs: burst.startMs };
  }

  /** A window that slides: before both refusals, the same number had got in within it, however few came between. */
  private slidingWindow(): UsualWindow | undefined {
    const [first] = this.sentMs;
    if (first === undefined || this.sentMs.length === MOST_SENT) return undefined;
    const within = (endMs: number, ms: number) =>
      this.sentMs.filter((each) => each <= endMs && each > endMs - ms);
    for (const ms of WINDOWS_MS.filter((each) => each <= this.refusedMs - first).reverse()) {
      const before = within(this.refusedBeforeMs, ms).length;
      const now = within(this.refusedMs, ms);
      const count = Math.min(before, now.length);
      if (count > 1 && Math.max(before, now.length) <= count * 1.02 + 1)
        return { count, ms, fullFromMs: now[0]! };
    }
    return undefined;
  }

  private lower(rate: number): void {
    this.apart = 0;
    this.lastInARow = 0;
    this.careful = true;
    this.tooMuch = rate;
    if (rate > this.good) this.probeGapMs = Math.min(LAST_PROBE_MS, this.probeGapMs * 2);
    else this.good = rate * 0.9;
    this.rate = this.good;
  }

  /** Raises a rate that was used and not refused; forgets one that was not used. */
  private judgeStep(cost: number, nowMs: number): void {
    const rate = this.rate!;
    this.gotInOfStep += cost;
    const stepMs = nowMs - this.changedMs;
    const { spanMs } = this;
    if (stepMs < Math.max(FIRST_STEP_MS, spanMs)) return;
    if (this.gotInOfStep < 0.8 * rate * stepMs) {
      if (nowMs - this.usedMs > Math.max(UNUSED_MS, spanMs)) this.forget();
      return;
    }
    this.usedMs = nowMs;
    this.good = rate;
    if (this.gotIn < (this.careful ? CALM * Math.min(this.costly, MOST_CARE) : UNREFUSED_CALM)) return;
    if (this.tooMuch === Number.POSITIVE_INFINITY) {
      this.rate = rate * (1 + this.raise);
      this.raise = Math.min(MOST_RAISE, this.raise * 2);
    } else if (this.tooMuch > rate * (CLOSE_ENOUGH + 0.001)) this.rate = (rate + this.tooMuch) / 2;
    else if (stepMs < this.probeGapMs) return;
    else {
      // the limit may have changed
      this.tooMuch = Number.POSITIVE_INFINITY;
      this.rate = rate * (1 + FIRST_RAISE);
      this.raise = FIRST_RAISE * 2;
    }
    this.restart(nowMs);
  }

  private tryMoreAtOnce(nowMs: number): void {
    if (nowMs - this.changedMs < Math.min(LAST_PROBE_MS, TRY_MORE_MS * this.episodes)) return;
    this.taken++;
    this.fewestRefused = Number.POSITIVE_INFINITY;
    this.restart(nowMs);
  }

  private restart(atMs: number): void {
    this.changedMs = atMs;
    this.usedMs = atMs;
    this.gotInOfStep = 0;
  }

  private forget(): void {
    this.rate = undefined;
    this.episodes = 0;
    this.probeGapMs = FIRST_PROBE_MS;
    this.costly = 1;
    this.apart = 0;
  }

  /** The time that the API names; longer, where that was not long enough. */
  private backOffMs(namedMs: number | undefined): number {
    if (namedMs !== undefined && this.inARow === 1) return namedMs;
    let ownMs = FIRST_HOLD_MS;
    for (let n = 1; n < this.inARow && ownMs < LONGEST_HOLD_MS; n++) ownMs *= ownMs < STEEP_HOLD_MS ? 2 : 1.2;
    return Math.max(namedMs ?? 0, Math.min(LONGEST_HOLD_MS, ownMs));
  }
}
