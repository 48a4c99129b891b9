/** One pass over a stream's parts: which are to be asked for, several at a time, each failing alone. */

import pLimit from "p-limit";
import type { Part } from "../core/ask/parts.js";
import { BridgeError, isBridgeError, toBridgeError } from "../core/errors.js";
import { type ApiClock, POSITION_LIFE_MS, type SavedCursor } from "../core/track/cursor.js";
import { describeCursors, PartProgress, type ProgressRule } from "../core/track/part-progress.js";
import type { Window } from "../core/track/windows.js";
import { concernsAllParts } from "./outcome.js";

export interface PartTask {
  readonly progress: PartProgress;
  readonly windows: readonly (Window | undefined)[];
}

/** As many parts that fail with none that succeeds show that all will. */
const HOPELESS_PARTS = 5;

export class PartPass {
  readonly tasks: readonly PartTask[];
  /** parts that an earlier run, which did not come to its end, has done a short while ago */
  readonly skipped: number;
  /** windows to ask for in all parts; undefined for a stream without windows */
  readonly windows: number | undefined;
  readonly failures: { readonly part: string; readonly error: BridgeError }[] = [];
  private done = 0;
  private left: number;
  /** a pass over parts that have no cursor: it began then, and goes on where it broke off */
  private readonly openSinceMs: number | undefined;
  private readonly cursors: Map<string, SavedCursor>;

  constructor(
    parts: readonly Part[],
    private readonly rule: ProgressRule,
    cursors: ReadonlyMap<string, SavedCursor>,
    private readonly nowMs: number,
    keeps: boolean,
  ) {
    this.cursors = new Map(
      parts.flatMap(({ key }) => (cursors.has(key) ? [[key, cursors.get(key)!] as const] : [])),
    );
    const inPasses = keeps && rule.cursor === undefined && rule.windows === undefined && parts.length > 1;
    const began = inPasses ? cursors.get("")?.openSinceMs : undefined;
    const goesOn = began !== undefined && nowMs - began < POSITION_LIFE_MS;
    this.openSinceMs = inPasses ? (goesOn ? began : nowMs) : undefined;
    const open = goesOn ? parts.filter(({ key }) => (cursors.get(key)?.doneAtMs ?? 0) < began) : parts;
    this.skipped = parts.length - open.length;
    this.tasks = open.map((part) => {
      const progress = new PartProgress(part, rule, cursors.get(part.key), nowMs);
      return { progress, windows: progress.windows() };
    });
    this.left = this.tasks.reduce((sum, { windows }) => sum + windows.length, 0);
    this.windows = rule.windows === undefined ? undefined : this.left;
  }

  get size(): number {
    return this.tasks.length;
  }

  /** Where the only part begins; undefined where there are several. */
  get since(): string | undefined {
    return this.tasks.length === 1 ? this.tasks[0]!.progress.start.since : undefined;
  }

  /** Whether some part goes on in the middle of an earlier pass. */
  get goesOn(): boolean {
    return this.skipped > 0 || this.tasks.some(({ progress }) => progress.start.position !== undefined);
  }

  /** Whether all that the API has is asked for: nothing is left out that an earlier run has brought. */
  get isWhole(): boolean {
    const begins = this.tasks.every(({ progress: { start } }) => start.since === undefined);
    return begins && !this.goesOn && this.rule.windows === undefined;
  }

  get hasChanged(): boolean {
    return this.tasks.some(({ progress }) => progress.changed);
  }

  /** Whether nothing is left but what is at work now. */
  get isLast(): boolean {
    return this.left <= 1;
  }

  /**
   * Reads all tasks, some at a time. A part that fails does not stop the others: it is told of at the end.
   * @throws BridgeError of the first part that failed, or at once where the failure concerns all
   */
  async run(
    atOnce: number,
    read: (task: PartTask, window: Window | undefined) => Promise<void>,
    onFatal: () => void,
  ): Promise<void> {
    const limit = pLimit(atOnce);
    const failed = new Set<PartTask>();
    let fatal: unknown;
    const one = async (task: PartTask, window: Window | undefined) => {
      if (fatal !== undefined || failed.has(task)) return;
      try {
        await read(task, window);
        this.done++;
      } catch (error) {
        if (this.concernsAll(error)) fatal ??= error;
        else if (!failed.has(task)) {
          failed.add(task);
          this.failures.push({ part: task.progress.part.key, error: toBridgeError(error) });
        }
        if (this.done === 0 && this.failures.length >= HOPELESS_PARTS) fatal ??= this.failed();
        if (fatal !== undefined) onFatal();
      } finally {
        this.left--;
      }
    };
    await Promise.all(
      this.tasks.flatMap((task) => task.windows.map((window) => limit(() => one(task, window)))),
    );
    if (fatal !== undefined) throw fatal;
    if (this.failures.length > 0) throw this.failed();
  }

  /** The cursors that have moved since the last checkpoint. */
  takeCursors(apiClock: ApiClock, finished: boolean): Map<string, SavedCursor> {
    const moved = new Map<string, SavedCursor>();
    for (const { progress } of this.tasks) {
      if (!progress.changed) continue;
      progress.changed = false;
      moved.set(progress.part.key, progress.cursorAt(apiClock));
    }
    for (const [part, cursor] of moved) this.cursors.set(part, cursor);
    if (this.openSinceMs !== undefined) moved.set("", finished ? {} : { openSinceMs: this.openSinceMs });
    return moved;
  }

  /** Where the stream stands. */
  describeCursor(): string | undefined {
    const cursors = this.tasks.map(({ progress }) => this.cursors.get(progress.part.key));
    return describeCursors(cursors, this.rule.windows, this.nowMs);
  }

  private concernsAll(error: unknown): boolean {
    return this.tasks.length === 1 || !isBridgeError(error) || concernsAllParts(error);
  }

  private failed(): BridgeError {
    // what failed tells more than what may be missing
    const { error, part } =
      this.failures.find(({ error: { kind } }) => kind !== "incomplete") ?? this.failures[0]!;
    const others = this.failures.length - 1;
    const more = others === 0 ? "" : ` (and ${others} more)`;
    const how = error.kind === "incomplete" ? "may not be whole" : "failed";
    const message = `${this.failures.length} of ${this.tasks.length} parts ${how}: ${part}${more}. ${error.message}`;
    return new BridgeError(error.code, message, {
      where: { ...error.where, part },
      hint: `${error.hint} The other parts are in; the next run asks for this one from where it stood.`,
      cause: error,
    });
  }
}
