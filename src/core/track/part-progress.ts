/**
 * How far one part of a stream has come in a run, and the cursor that says so. Pure: the engine tells it of every
 * page and window when its rows are in, and asks for the cursor at each checkpoint.
 */

import type { PagePosition, Sequel } from "../ask/page-position.js";
import type { Part } from "../ask/parts.js";
import type { WindowsDefinition } from "../define/parts-schema.js";
import {
  type ApiClock,
  type CursorRule,
  type CursorSpan,
  type CursorStart,
  EMPTY_SPAN,
  freshStart,
  joinSpans,
  nextCursor,
  type SavedCursor,
  savedValue,
  startOfCursor,
} from "./cursor.js";
import type { CursorField } from "./cursor-field.js";
import { compareCursors } from "./cursor-value.js";
import { cover, cutDown, openWindows, type Window, wholeRange } from "./windows.js";

export interface ProgressRule {
  readonly cursor: CursorRule | undefined;
  /** how the cursor's values are read; undefined where it has no field */
  readonly field: CursorField | undefined;
  readonly windows: WindowsDefinition | undefined;
}

/** What a page says of the part's progress. */
export interface PageProgress {
  readonly span: CursorSpan | undefined;
  readonly next: Sequel;
  readonly delta: string | undefined;
}

export class PartProgress {
  start: CursorStart;
  /** whether there is something that the ledger does not know yet */
  changed = false;
  private span: CursorSpan = EMPTY_SPAN;
  private next: PagePosition | undefined;
  private delta: string | undefined;
  private moved = false;
  private short = false;
  /** pages that are in; one that is resumed has had some before */
  private pages = 0;
  private ended = false;
  private covered: NonNullable<SavedCursor["covered"]>;

  constructor(
    readonly part: Part,
    private readonly rule: ProgressRule,
    private saved: SavedCursor | undefined,
    private readonly nowMs: number,
  ) {
    this.covered = saved?.covered ?? [];
    this.start = this.firstStart();
    this.span = this.start.span;
  }

  private firstStart(): CursorStart {
    return this.rule.cursor === undefined
      ? freshStart(this.nowMs)
      : startOfCursor(this.rule.cursor, this.saved, this.nowMs);
  }

  /** What is to be asked for; one stretch without windows for a part that has none. */
  windows(): readonly (Window | undefined)[] {
    return this.rule.windows === undefined
      ? [undefined]
      : openWindows(this.rule.windows, this.covered, this.nowMs);
  }

  /** No page had the token or link that the changes after this pass are asked for by. */
  get lacksToken(): boolean {
    return this.rule.cursor?.kind === "delta" && this.delta === undefined;
  }

  /** The rows of a page are in. True when a list that comes newest first has reached what is known. */
  tookPage(page: PageProgress): boolean {
    this.changed = true;
    if (page.next.at !== "within") this.pages++;
    if (page.span !== undefined) this.span = joinSpans(this.span, page.span);
    this.next = page.next.at === "end" || page.next.at === "within" ? undefined : page.next;
    this.delta = page.delta ?? this.delta;
    return this.rule.field?.reachedKnown(this.start.since, this.span) === true;
  }

  /**
   * All pages of the part, or of one of its windows, are in. `apiNowMs`: now, as the API's clock shows it; `moved`:
   * records moved between the pages, so that some may have been passed over: they are asked for again next time.
   */
  tookAll(window: Window | undefined, apiNowMs: number, moved: boolean): void {
    this.changed = true;
    if (window === undefined) {
      this.ended = true;
      this.moved = moved;
      return;
    }
    // what lies ahead of the API's own clock is not there yet
    const { windows: rule } = this.rule;
    const toMs = rule === undefined ? apiNowMs : cutDown(rule, apiNowMs);
    const seen = { fromMs: window.fromMs, toMs: Math.min(window.toMs, toMs) };
    if (!moved) this.covered = cover(this.covered, seen);
  }

  /** Records may be missing: the cursor stays where it was before this run, and all is asked for again. */
  mayMiss(): void {
    this.changed = true;
    this.short = true;
  }

  /** The position or token that the part began with means nothing any more: it begins anew, by its value alone. */
  beginAnew(): void {
    const { value, kind } = this.saved ?? {};
    this.saved = this.rule.cursor?.kind === "delta" ? undefined : { value, kind };
    this.start = this.firstStart();
    this.span = this.start.span;
    this.next = undefined;
    this.pages = 0;
  }

  /** The cursor to commit now. */
  cursorAt(apiClock: ApiClock): SavedCursor {
    const { rule, saved, start, span, next, delta } = this;
    if (rule.windows !== undefined) return { covered: this.covered };
    if (rule.cursor === undefined) return this.ended ? { doneAtMs: this.nowMs } : {};
    if (this.short || (this.ended && this.moved)) return { value: saved?.value, kind: saved?.kind };
    if (!this.ended && next === undefined) return saved ?? {};
    const isOnePage = this.pages <= 1 && start.position === undefined;
    const state = { span, isOnePage, next: this.ended ? undefined : next, delta };
    return nextCursor(rule.cursor, saved, start, state, apiClock);
  }
}

/**
 * Where a stream stands, in a few words: the part that is furthest behind, or how many parts have got anywhere.
 * `cursors` are those of all its parts, undefined where a part has none.
 */
export function describeCursors(
  cursors: readonly (SavedCursor | undefined)[],
  windows: WindowsDefinition | undefined,
  nowMs: number,
): string | undefined {
  const known = cursors.flatMap((cursor) => {
    const text = describeCursor(cursor ?? {}, windows, nowMs);
    return text === undefined ? [] : savedValue(text, windows === undefined ? cursor?.kind : undefined);
  });
  if (known.length === 0) return undefined;
  if (known.length < cursors.length) return `${known.length} of ${cursors.length} parts`;
  return known.reduce((a, b) => (compareCursors(a, b) <= 0 ? a : b)).raw;
}

/** Windows are done up to a moment only where all from the beginning are. */
function describeCursor(
  { value, covered = [] }: SavedCursor,
  windows: WindowsDefinition | undefined,
  nowMs: number,
): string | undefined {
  const [first] = covered;
  if (windows === undefined) return value;
  if (first === undefined || first[0] > wholeRange(windows, nowMs).fromMs) return undefined;
  return new Date(first[1]).toISOString().replace(".000Z", "Z");
}
