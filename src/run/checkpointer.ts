/**
 * When what has been read is committed: rows and cursor together, so that neither is there without the other.
 *
 *   due?  by rows, by their bytes or by time ──▶ checkpoint ──▶ (commit goes on behind, reading goes on)
 *   due again before that commit is in ──▶ wait for it: a later cursor must not pass rows that never came in
 *   pages long in coming ──▶ an armed timer makes the checkpoint all the same
 *
 * One commit is under way at most. What fails in it is thrown by the next one, or by `settle`.
 */

import type { Clock } from "../core/clock.js";
import type { SavedCursor } from "../core/track/cursor.js";
import type { CheckpointEntry, Committed, StreamLoad } from "../warehouse/warehouse.js";

export interface CheckpointRule {
  readonly rows: number;
  /** infinite: by rows alone */
  readonly everyMs: number;
}

export interface CheckpointPorts {
  readonly clock: Clock;
  readonly rule: CheckpointRule;
  readonly load: Pick<
    StreamLoad,
    "waitingRows" | "isFull" | "isHeavy" | "firstRows" | "mayWait" | "checkpoint" | "finish"
  >;
  /** Runs work while no page is being taken: between two pages rows and cursor belong together. */
  inTurn<T>(work: () => Promise<T>): Promise<T>;
  /** The cursors that have moved since the last checkpoint; what requests have cost since then. */
  take(finished: boolean): Pick<CheckpointEntry, "cursors" | "spent">;
  onCommitted(entry: CheckpointEntry, committed: Committed): void;
}

export class Checkpointer {
  private number = 0;
  private lastMs: number;
  private committing: Promise<void> = Promise.resolve();
  private timer: AbortController | undefined;

  constructor(private readonly ports: CheckpointPorts) {
    this.lastMs = ports.clock.now();
  }

  /** checkpoints begun so far */
  get count(): number {
    return this.number;
  }

  get isDue(): boolean {
    const { clock, rule, load } = this.ports;
    if (load.isFull === true) return true;
    if (load.mayWait === true) return false;
    if (load.isHeavy === true) return true;
    const rows = Math.min(rule.rows, load.firstRows ?? Number.POSITIVE_INFINITY);
    return load.waitingRows >= rows || clock.now() - this.lastMs >= rule.everyMs;
  }

  /** While pages are long in coming, a checkpoint that falls due is made all the same. */
  arm(): void {
    const { clock, rule, load, inTurn } = this.ports;
    if (
      this.timer !== undefined ||
      load.waitingRows === 0 ||
      load.mayWait === true ||
      !Number.isFinite(rule.everyMs)
    )
      return;
    const timer = new AbortController();
    this.timer = timer;
    const waitMs = Math.max(0, this.lastMs + rule.everyMs - clock.now());
    const late = clock.sleep(waitMs, timer.signal).then(() =>
      inTurn(async () => {
        if (timer.signal.aborted) return;
        this.timer = undefined;
        if (load.waitingRows > 0) await this.checkpoint();
      }),
    );
    // a commit that fails is thrown by the next one
    late.catch(() => {});
  }

  /** Begins a commit once the one before is in. @throws BridgeError what the one before failed with */
  checkpoint(): Promise<void> {
    return this.begin((entry) => this.ports.load.checkpoint(entry), false);
  }

  /** The last commit of a stream that was read to its end, waited for. @throws BridgeError */
  async finish(): Promise<void> {
    await this.begin((entry) => this.ports.load.finish(entry), true);
    await this.settle();
  }

  /** Waits for the commit that is under way. @throws BridgeError what it failed with */
  settle(): Promise<void> {
    return this.committing;
  }

  /** Nothing is begun any more; what is under way is waited for. */
  async close(): Promise<void> {
    this.timer?.abort();
    await this.committing.catch(() => {});
  }

  private async begin(
    start: (entry: CheckpointEntry) => Promise<Committed>,
    finished: boolean,
  ): Promise<void> {
    const { clock, take, onCommitted } = this.ports;
    this.timer?.abort();
    this.timer = undefined;
    await this.committing;
    const entry = { number: ++this.number, atMs: clock.now(), ...take(finished) };
    this.committing = start(entry).then((committed) => onCommitted(entry, committed));
    this.committing.catch(() => {});
    this.lastMs = clock.now();
  }
}

/** No cursor: what is built beside the old table is worth nothing before it is swapped in. */
export const NO_CURSORS: ReadonlyMap<string, SavedCursor> = new Map();
