/** The gate of one account: requests wait here until the pace lets them go, each stream in its own lane. */

import type { Clock } from "../core/clock.js";
import { BridgeError } from "../core/errors.js";
import type { ReportedLimits } from "../core/pace/limit-headers.js";
import { Pace, type PaceLimits, type PaceTicket } from "../core/pace/pace.js";

export interface GateOptions extends PaceLimits {
  /** narrower limits by group; without `atOnce` of its own a group has the account's */
  readonly groups?: Readonly<Record<string, Partial<PaceLimits>>> | undefined;
  /** the longest wait for a limit, in ms; what takes longer is refused with the time it can go on */
  readonly patienceMs?: number | undefined;
  /** nobody is there to refuse anything: only the requests at once are counted */
  readonly unlimited?: boolean | undefined;
}

/** How a request counts: streams take turns by lane, a group has limits of its own. */
export interface Charge {
  readonly lane?: string | undefined;
  readonly group?: string | undefined;
  readonly cost?: number | undefined;
}

export interface Entered {
  readonly tickets: readonly (readonly [Pace, PaceTicket])[];
}

/** What requests cost in the account's limits, by group; "" is for those of no group. */
export type SpentByGroup = ReadonlyMap<string, number>;

/** Told when a request has to wait noticeably: for how long, and whether the API asked for it. */
export type OnWait = (ms: number, reason: "pace" | "api_asked") => void;

interface Waiting {
  readonly charge: Charge;
  readonly onWait: OnWait;
  readonly admit: (entered: Entered) => void;
  readonly refuse: (reason: unknown) => void;
  reported: boolean;
}

const DEFAULT_PATIENCE_MS = 900_000;
/** Short pauses are the pace itself; telling of each would only flicker. */
const NOTICEABLE_MS = 250;

export class PaceGate {
  private readonly pace: Pace;
  private readonly groups = new Map<string, Pace>();
  private readonly patienceMs: number;
  private readonly unlimited: boolean;
  /** waiting requests by lane; the lanes take turns */
  private readonly lanes = new Map<string, Waiting[]>();
  private turning = false;
  private wake: (() => void) | undefined;
  private askedUntilMs = 0;
  private spent = new Map<string, number>();
  private readonly openedAtMs: number;
  private readonly noted = new Set<string>();

  constructor(
    options: GateOptions,
    private readonly clock: Clock,
  ) {
    const { groups = {}, patienceMs = DEFAULT_PATIENCE_MS, unlimited = false } = options;
    this.unlimited = unlimited;
    this.pace = new Pace(options);
    this.patienceMs = patienceMs;
    this.openedAtMs = clock.now();
    for (const [name, limits] of Object.entries(groups))
      this.groups.set(name, new Pace({ ...limits, atOnce: limits.atOnce ?? options.atOnce }));
  }

  /** Requests that the API said are left; undefined when it says nothing. */
  get left(): number | undefined {
    return this.pace.left;
  }

  /** What earlier processes spent counts in limits of an hour and longer; each moment once. */
  noteEarlier(atMs: number, group: string, cost: number): void {
    const key = `${atMs} ${group}`;
    if (atMs >= this.openedAtMs || this.noted.has(key)) return;
    this.noted.add(key);
    for (const pace of this.pacesOf({ group })) pace.noteEarlier(atMs, cost);
  }

  /** What was spent since the last call. */
  takeSpent(): SpentByGroup {
    const { spent } = this;
    this.spent = new Map();
    return spent;
  }

  /**
   * Waits in its lane, first come first served; lanes take turns. Rejects when the signal is aborted.
   * @throws BridgeError LIMIT_REACHED
   */
  enter(charge: Charge, signal: AbortSignal | undefined, onWait: OnWait): Promise<Entered> {
    return new Promise((resolve, reject) => {
      if (signal?.aborted === true) return reject(signal.reason);
      const lane = charge.lane ?? "";
      const stop = () => {
        const line = this.lanes.get(lane);
        const at = line?.indexOf(waiting) ?? -1;
        if (at >= 0) line!.splice(at, 1);
        reject(signal?.reason);
        this.wake?.();
      };
      const done = () => signal?.removeEventListener("abort", stop);
      const waiting: Waiting = {
        charge,
        onWait,
        admit: (entered) => {
          done();
          resolve(entered);
        },
        refuse: (reason) => {
          done();
          reject(reason);
        },
        reported: false,
      };
      signal?.addEventListener("abort", stop, { once: true });
      const line = this.lanes.get(lane);
      if (line === undefined) this.lanes.set(lane, [waiting]);
      else line.push(waiting);
      this.wake?.();
      if (!this.turning) void this.turn();
    });
  }

  /** The request goes out now, later than it was let go: a token was fetched for it first. */
  departed(entered: Entered): void {
    for (const [pace, ticket] of entered.tickets) pace.departed(ticket, this.clock.now());
  }

  /** The response is there, or none will come; `reported` is what it says of the limits. */
  leave(entered: Entered, reported: ReportedLimits | undefined): void {
    const now = this.clock.now();
    for (const [i, [pace, ticket]] of entered.tickets.entries())
      pace.received(ticket, now, i === 0 ? reported : reported && {});
    this.wake?.();
  }

  /** The API answered 429: the narrowest that it concerns waits, the group or else the account. */
  refused(entered: Entered, reported: ReportedLimits): void {
    if (this.unlimited) {
      this.leave(entered, undefined);
      return;
    }
    const now = this.clock.now();
    for (const [i, [pace, ticket]] of entered.tickets.entries()) {
      if (i === 0) pace.refused(ticket, now, reported);
      else pace.received(ticket, now, {});
    }
    this.askedUntilMs = Math.max(this.askedUntilMs, now + (reported.retryAfterMs ?? 0));
    this.wake?.();
  }

  /** Lets waiting requests go, one lane after the other, until none waits. */
  private async turn(): Promise<void> {
    this.turning = true;
    while (this.lanes.size > 0) {
      const wait = this.admitNext();
      if (wait > 0) await this.pause(wait);
    }
    this.turning = false;
  }

  /** Admits the first request that may go, and puts its lane last; 0 when something has changed, else ms to wait. */
  private admitNext(): number {
    const now = this.clock.now();
    let least = Number.POSITIVE_INFINITY;
    for (const [lane, line] of [...this.lanes]) {
      const waiting = line[0];
      if (waiting === undefined) {
        this.lanes.delete(lane);
        continue;
      }
      const paces = this.pacesOf(waiting.charge);
      const wait = Math.max(...paces.map((pace) => pace.waitMs(now, waiting.charge.cost)));
      if (wait <= 0) {
        line.shift();
        this.lanes.delete(lane);
        if (line.length > 0) this.lanes.set(lane, line);
        const { group = "", cost = 1 } = waiting.charge;
        this.spent.set(group, (this.spent.get(group) ?? 0) + cost);
        const tickets = paces.map((pace) => [pace, pace.take(now, waiting.charge.cost)] as const);
        waiting.admit({ tickets });
        return 0;
      }
      if (Number.isFinite(wait) && wait > this.patienceMs) {
        line.shift();
        waiting.refuse(limitSpent(now + wait));
        return 0;
      }
      if (Number.isFinite(wait) && wait >= NOTICEABLE_MS && !waiting.reported) {
        waiting.reported = true;
        waiting.onWait(wait, now < this.askedUntilMs ? "api_asked" : "pace");
      }
      least = Math.min(least, wait);
    }
    return this.lanes.size === 0 ? 0 : least;
  }

  /** The group's pace first: what a response tells of limits concerns the narrowest. */
  private pacesOf({ group }: Charge): Pace[] {
    const narrower = group === undefined ? undefined : this.groups.get(group);
    return narrower === undefined ? [this.pace] : [narrower, this.pace];
  }

  /** Sleeps, or until something has changed: a request came back, another one came, one was given up. */
  private async pause(wait: number): Promise<void> {
    const woken = new AbortController();
    const change = new Promise<void>((resolve) => {
      this.wake = resolve;
    });
    const sleep = Number.isFinite(wait)
      ? this.clock.sleep(Math.ceil(wait), woken.signal).catch(() => {})
      : change;
    await Promise.race([change, sleep]);
    this.wake = undefined;
    woken.abort();
  }
}

/** When the limit of a day or an hour is used up. */
export function limitSpent(atMs: number): BridgeError {
  const at = new Date(Math.ceil(atMs / 1000) * 1000).toISOString().replace(".000Z", "Z");
  const message = `The API's limit is used up; it permits more requests from ${at} on.`;
  return new BridgeError("LIMIT_REACHED", message, {
    hint: `Run again from ${at} on: it goes on from the last checkpoint.`,
  });
}
