/**
 * Carries one stream: parts → pages → shape → load, with a checkpoint every so often.
 *
 *   part a: ask ┄┄ page ─┐
 *   part b: ask ┄┄┄ page ┼─▶ in turn: shape ▶ add ▶ due? ▶ checkpoint ┄┄┄ (committed on another thread)
 *   part c: ask ┄ page ──┘
 *
 * One checkpoint is under way at most; when the next is due before it is done, reading waits. So at most two
 * checkpoints' rows and a page or two of each part at work are held, however long the stream is.
 */

import pLimit from "p-limit";
import { type BridgeError, isBridgeError, toBridgeError } from "../core/errors.js";
import type { Shape } from "../core/shape/shape.js";
import type { SchemaChange, Shaped } from "../core/shape/shaped.js";
import { checkFirstPage, unheededFilter } from "../core/stream/check-first-page.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import type { CursorSpan, SavedCursor } from "../core/track/cursor.js";
import type { PartProgress } from "../core/track/part-progress.js";
import type { Window } from "../core/track/windows.js";
import { newTally } from "../http/exchange.js";
import type { RunRecorder } from "../http/har.js";
import { addCounts, NO_ROWS } from "../warehouse/row-counts.js";
import type { RunOutcome, StreamLoad } from "../warehouse/warehouse.js";
import { type ApiInside, takeSpent } from "./api.js";
import type { Page } from "./ask/page-series.js";
import { type StreamAsk, windowPages } from "./ask/stream-ask.js";
import { NO_TOKEN, whyAnew } from "./begin-anew.js";
import { asBridged, type BridgeStream } from "./bridge-stream.js";
import { Checkpointer, type CheckpointRule, NO_CURSORS } from "./checkpointer.js";
import type { OnRunEvent, StreamReport } from "./events.js";
import { Notices } from "./notices.js";
import { openTables, type TablesOptions } from "./open-tables.js";
import { outcomeOf, unlessAsked } from "./outcome.js";
import { PartPass, type PartTask } from "./part-pass.js";
import { type QuarantineRule, StreamTotals } from "./stream-totals.js";
import { sweepIsDue, sweepStream, sweptText } from "./sweep-stream.js";

export interface CarryOptions extends TablesOptions {
  readonly api: ApiInside;
  readonly stream: string;
  /** what the bridge says of each of its streams */
  readonly choices: ReadonlyMap<string, BridgeStream>;
  readonly checkpoint: CheckpointRule;
  /** what of a stream may go to quarantine before it stops */
  readonly quarantine: QuarantineRule;
  readonly signal: AbortSignal;
  readonly recorder: RunRecorder | undefined;
  readonly onEvent: OnRunEvent;
}

/** Carries the stream and never throws: what went wrong is in the report. */
export async function carryStream(options: CarryOptions): Promise<StreamReport> {
  const carrier = new Carrier(options);
  let report: StreamReport;
  try {
    await carrier.carry();
    report = carrier.report("done", undefined);
  } catch (thrown) {
    const { signal, bridge, stream } = options;
    const error = unlessAsked(toBridgeError(thrown, { bridge, stream }), signal);
    const stopped = signal.aborted && error.kind === "stopped";
    // stopped on request, or because another stream has failed: then that is said
    const { reason } = options.signal as { reason: unknown };
    const why = isBridgeError(reason) ? reason : undefined;
    report = stopped ? carrier.report("stopped", why) : carrier.report(outcomeOf(error), error);
  }
  options.onEvent({ type: "stream_ended", stream: options.stream, report });
  return report;
}

class Carrier {
  private stream!: CompiledStream;
  private ask!: StreamAsk;
  private readonly tally = newTally();
  /** pages are taken, and checkpoints begun, one at a time */
  private readonly inTurn = pLimit(1);
  private readonly stop = new AbortController();
  private readonly totals = new StreamTotals();
  private readonly notices: Notices;
  /** time spent waiting for pages, shaping them, and waiting for the warehouse */
  private readonly times = { askMs: 0, shapeMs: 0, loadMs: 0 };
  private load!: StreamLoad;
  private shape!: Shape;
  private shapeVersion = -1;
  private pass: PartPass | undefined;
  private cursor: string | undefined;
  private counts = NO_ROWS;
  private readonly changes: SchemaChange[] = [];
  private firstChecked = false;
  private checkpoints!: Checkpointer;

  constructor(private readonly options: CarryOptions) {
    const { stream, onEvent } = options;
    this.notices = new Notices((message) => onEvent({ type: "notice", stream, message }));
  }

  async carry(): Promise<void> {
    const cursors = await this.open();
    this.options.recorder?.streamStarted(this.options.stream, cursors);
    try {
      await this.readAll(cursors);
      const strange = this.totals.strangeValues(this.ask.cursorField);
      if (strange !== undefined) this.notice(strange);
      if (cursors.size === 0 && this.totals.records === 0) this.tellNothing();
      else if (cursors.size === 0) for (const note of this.shape.spec.into?.notes() ?? []) this.notice(note);
      await this.inTurn(async () => {
        // columns and tables that are declared are there, though nothing may have come
        const { drift = [], ...last } = this.shape.shapeRecords([]);
        const stopped = this.shape.stopped(this.pass?.isWhole === true);
        this.shapeVersion = -1;
        await this.add({ ...last, drift: [...drift, ...stopped] });
        await this.loading(this.checkpoints.finish());
      });
      this.totals.checkSums(this.counts, this.options.write.buildsBeside);
      await this.sweepWhenDue();
    } catch (error) {
      await this.keepWhatWasRead();
      throw error;
    } finally {
      this.stop.abort();
      await this.checkpoints.close();
      await this.load.close();
      this.notices.close();
    }
  }

  report(outcome: RunOutcome, error: BridgeError | undefined): StreamReport {
    const { requests, retries, waitedMs, bytes } = this.tally;
    const { received, leftOut, records, quarantined, pages, rowsByTable } = this.totals;
    const { cursor } = this;
    return {
      stream: this.options.stream,
      outcome,
      received,
      leftOut,
      records,
      ...this.counts,
      quarantined,
      pages,
      checkpoints: this.checkpoints?.count ?? 0,
      requests,
      retries,
      waitedMs,
      bytes,
      ...this.times,
      rowsByTable,
      changes: this.changes,
      cursor,
      parts: this.pass?.size ?? 0,
      failedParts: this.pass?.failures ?? [],
      error,
    };
  }

  /** Opens the load and the shape; the cursors that count are given back. */
  private async open(): Promise<Map<string, SavedCursor>> {
    this.ask = await this.openAsk();
    this.stream = this.ask.stream;
    const { load, shape, cursors, notice } = await openTables(this.stream, {
      ...this.options,
      digest: this.options.api.digest,
    });
    this.load = load;
    this.shape = shape;
    this.checkpoints = this.openCheckpointer();
    if (notice !== undefined) this.notice(notice);
    return cursors;
  }

  /** What this run has brought is committed by now, and stays so whatever comes of the sweep. */
  private async sweepWhenDue(): Promise<void> {
    const { stream, load, shape, options } = this;
    const { sweep } = stream;
    if (sweep === undefined || !(await sweepIsDue(sweep, load, options, options.stream))) return;
    const ask = await this.openAsk(sweep.stream);
    const { counts, keys, error } = await sweepStream(ask, sweep, { load, shape }, options.api);
    this.counts = addCounts(this.counts, counts);
    this.notice(sweptText(keys, counts.removed));
    if (error !== undefined) throw error;
  }

  private async openAsk(of?: CompiledStream): Promise<StreamAsk> {
    const { api, stream, choices, signal, onEvent, startedAtMs } = this.options;
    const stopping = AbortSignal.any([signal, this.stop.signal]);
    // every request under way listens to it
    api.expectListeners(stopping, this.stop.signal);
    const bridged = (of: CompiledStream) => asBridged(of, choices.get(of.name), api);
    return api.openStream(bridged(of ?? (await api.stream(stream))), {
      bridged,
      tally: this.tally,
      signal: stopping,
      nowMs: startedAtMs,
      onlyRows: true,
      shape: () => (of === undefined ? this.shape : undefined),
      onEvent: (event) =>
        event.type === "notice" ? this.notice(event.message) : onEvent({ ...event, stream }),
    });
  }

  private async readAll(cursors: ReadonlyMap<string, SavedCursor>): Promise<void> {
    const { startedAtMs, onEvent, stream, write, api } = this.options;
    const parts = await this.ask.parts([...cursors.keys()]);
    const field = this.ask.cursorField;
    if (field !== undefined) field.kind = [...cursors.values()].find(({ kind }) => kind !== undefined)?.kind;
    const rule = { cursor: this.stream.cursor, field, windows: this.stream.definition.windows };
    const pass = new PartPass(parts, rule, cursors, startedAtMs, write.keepsCursor);
    this.pass = pass;
    this.cursor = pass.describeCursor();
    const { since, goesOn } = pass;
    onEvent({
      type: "stream_started",
      stream,
      since,
      goesOn,
      parts: pass.tasks.length,
      windows: pass.windows,
    });
    if (pass.skipped > 0)
      this.notice(
        `${pass.skipped} of ${parts.length} parts were done by the last run, which broke off: only the others are asked for.`,
      );
    const most = this.stream.definition.report?.concurrency ?? api.connector.api.rate_limit.concurrency;
    await pass.run(
      most,
      (task, window) => this.readTask(task, window),
      () => this.stop.abort(),
    );
  }

  /** Reads one part, or one of its windows. */
  private async readTask({ progress }: PartTask, window: Window | undefined): Promise<void> {
    const { api } = this.options;
    let moved: boolean;
    try {
      moved = await this.readPages(progress, window);
    } catch (error) {
      if (isBridgeError(error, "INCOMPLETE") || isBridgeError(error, "KEY_NOT_UNIQUE")) progress.mayMiss();
      const why = whyAnew(error, this.stream, progress);
      if (why === undefined) throw error;
      for (const words of why) this.notice(words);
      progress.beginAnew();
      moved = await this.readPages(progress, window);
    }
    await this.inTurn(async () => progress.tookAll(window, api.apiClock().nowMs, moved));
  }

  /** Whether records moved between the pages. */
  private async readPages(progress: PartProgress, window: Window | undefined): Promise<boolean> {
    const { since, position } = progress.start;
    const { part } = progress;
    // what comes twice is known by its key
    const keyed = this.stream.key.length > 0;
    const pages =
      window === undefined
        ? this.ask.pages(part, { since, position })
        : windowPages(this.ask, part, { window, mayRepeat: keyed });
    const { clock } = this.options.api;
    let from = clock.now();
    let moved = false;
    for await (const page of pages) {
      this.times.askMs += clock.now() - from;
      moved ||= page.moved;
      const known = await this.inTurn(() => this.takeInTurn(page, progress));
      if (known) return moved;
      from = clock.now();
    }
    this.times.askMs += clock.now() - from;
    return moved;
  }

  private async takeInTurn(page: Page, progress: PartProgress): Promise<boolean> {
    this.stop.signal.throwIfAborted();
    const first = !this.firstChecked && page.number === 1;
    const span = await this.take(page);
    const unheeded =
      first && span !== undefined ? unheededFilter(this.stream, span, progress.start.since) : undefined;
    if (unheeded !== undefined) this.notice(unheeded);
    const delta = page.envelope.delta;
    const known = progress.tookPage({
      span,
      next: page.next,
      delta: delta === undefined || delta === null ? undefined : String(delta),
    });
    if (page.next.at === "end" && progress.lacksToken) this.notice(NO_TOKEN);
    const last = page.next.at === "end" || known;
    if (this.checkpoints.isDue && !(last && this.pass?.isLast === true))
      await this.loading(this.checkpoints.checkpoint());
    else this.checkpoints.arm();
    return known;
  }

  private async take(page: Page): Promise<CursorSpan | undefined> {
    const { api, stream, onEvent } = this.options;
    const { records, bytes, span } = page;
    let rows = 0;
    let from = api.clock.now();
    for (const slice of page.shape(this.shape)) {
      if (!this.firstChecked && page.received > 0) {
        this.firstChecked = true;
        checkFirstPage(this.stream, page, slice, this.ask.cursorField, !this.load.fresh);
      }
      const shapedAt = api.clock.now();
      this.times.shapeMs += shapedAt - from;
      rows += await this.add(slice, page);
      from = api.clock.now();
      this.times.loadMs += from - shapedAt;
    }
    this.totals.takePage(page);
    const facts = { records: records.length, rows, bytes, requestsLeft: api.requestsLeft() };
    onEvent({ type: "page", stream, part: page.part.key, page: this.totals.pages, ...facts });
    return span;
  }

  private async add(shaped: Shaped, page?: Page): Promise<number> {
    const { batches } = shaped;
    const { stream, onEvent } = this.options;
    const issues = shaped.issues.map((issue) => ({ ...issue, page: page?.number }));
    const tooMany = this.totals.tooManyMisfits(issues, page?.came.length ?? 0, this.options.quarantine);
    if (tooMany !== undefined) {
      // they can be looked at, though none of the page's rows is written
      await this.load.add({ batches: [], removed: undefined, issues }, undefined);
      throw tooMany;
    }
    for (const note of this.shape.takeNotes()) this.notice(note);
    const changed = this.shape.version !== this.shapeVersion;
    this.shapeVersion = this.shape.version;
    await this.load.add({ ...shaped, issues }, changed ? this.shape.schema() : undefined);
    for (const { reason, path, message } of issues)
      onEvent({ type: "quarantined", stream, reason, path, message });
    return this.totals.takeRows(batches, issues.length);
  }

  /** After a failure: the pages read so far are good, and the next run goes on behind them. */
  private async keepWhatWasRead(): Promise<void> {
    if (!this.options.write.keepsCursor) return;
    try {
      await this.inTurn(async () => {
        this.stop.abort();
        if (this.load.waitingRows > 0 || this.pass?.hasChanged === true) await this.checkpoints.checkpoint();
        await this.checkpoints.settle();
      });
    } catch {
      // the failure that led here is the one to tell of; these rows are read again next time
    }
  }

  /** Times what is spent waiting for the warehouse. */
  private async loading(work: Promise<void>): Promise<void> {
    const { clock } = this.options.api;
    const from = clock.now();
    await work;
    this.times.loadMs += clock.now() - from;
  }

  private openCheckpointer(): Checkpointer {
    const { api, write, checkpoint, stream, onEvent } = this.options;
    let described: string | undefined;
    return new Checkpointer({
      clock: api.clock,
      rule: checkpoint,
      load: this.load,
      inTurn: (work) => this.inTurn(work),
      take: (finished) => {
        const cursors = write.keepsCursor ? this.pass?.takeCursors(api.apiClock(), finished) : undefined;
        described = this.pass?.describeCursor();
        return { cursors: cursors ?? NO_CURSORS, spent: takeSpent(api) };
      },
      onCommitted: ({ number }, { counts, changes }) => {
        this.counts = addCounts(this.counts, counts);
        for (const change of changes) onEvent({ type: "schema_changed", stream, ...change });
        this.changes.push(...changes);
        this.cursor = described ?? this.cursor;
        onEvent({ type: "checkpoint", stream, number, cursor: this.cursor });
      },
    });
  }

  /** A first run that takes nothing may well be a mistake. */
  private tellNothing(): void {
    const { received } = this.totals;
    const { firstAsked } = this.ask;
    const asked =
      firstAsked === undefined ? "" : ` It was asked: ${this.options.api.redactor.hide(firstAsked)}`;
    const since = this.pass?.since;
    const start = since === undefined ? "" : ` It began at ${since}, as cursor.start says.`;
    this.notice(
      received === 0
        ? `Nothing came.${start}${asked}`
        : `${received} records came, and all were left out.${start}${asked}`,
    );
  }

  private notice(message: string): void {
    this.notices.add(message);
  }
}
