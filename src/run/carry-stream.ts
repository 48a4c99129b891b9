/**
 * Carries one stream: pages → shape → load, with a checkpoint every so often.
 *
 *   ask page n+1 ┄┄┄┄┄┄┄┄┄┄┄┄┄┄┄┄┄┄┐ (in flight)
 *   shape n ▶ add n ▶ due? ▶ checkpoint ┄┄┄┄ (committed on another thread while the next pages are read)
 *
 * One checkpoint is under way at most; when the next is due before it is done, reading waits. So at most two
 * checkpoints' rows and one page are held, however long the stream is.
 */

import type { CompiledStream } from "../core/define/connector.js";
import type { WriteMode } from "../core/define/project-schema.js";
import { BridgeError, isBridgeError, toBridgeError } from "../core/errors.js";
import { snakeCase } from "../core/shape/naming.js";
import { Shape } from "../core/shape/shape.js";
import {
  type CursorSpan,
  type CursorStart,
  EMPTY_SPAN,
  joinSpans,
  nextCursor,
  type SavedCursor,
  startOfCursor,
} from "../core/track/cursor.js";
import { newTally } from "../http/exchange.js";
import {
  addCounts,
  type CheckpointEntry,
  type Committed,
  NO_ROWS,
  type RunOutcome,
  type StreamLoad,
  type WarehouseSession,
} from "../warehouse/warehouse.js";
import type { Api, Page } from "./connect.js";
import type { OnRunEvent, StreamReport } from "./events.js";

export interface CheckpointRule {
  readonly rows: number;
  readonly everyMs: number;
}

export interface CarryOptions {
  readonly api: Api;
  readonly session: WarehouseSession;
  readonly run: number;
  readonly bridge: string;
  readonly stream: string;
  readonly schema: string;
  readonly write: WriteMode;
  readonly checkpoint: CheckpointRule;
  readonly rootTables: ReadonlySet<string>;
  readonly startedAtMs: number;
  readonly signal: AbortSignal;
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
    const stopped = options.signal.aborted && !isBridgeError(thrown, "WAREHOUSE_FAILED");
    const error = toBridgeError(thrown, { bridge: options.bridge, stream: options.stream });
    report = carrier.report(stopped ? "stopped" : "failed", stopped ? undefined : error);
  }
  options.onEvent({ type: "stream ended", stream: options.stream, report });
  return report;
}

class Carrier {
  private readonly stream: CompiledStream;
  private readonly tally = newTally();
  private readonly rowsByTable: Record<string, number> = {};
  /** time spent waiting for pages, shaping them, and waiting for the warehouse */
  private readonly times = { askMs: 0, shapeMs: 0, loadMs: 0 };
  private load!: StreamLoad;
  private shape!: Shape;
  private shapeVersion = -1;
  private saved: SavedCursor | undefined;
  private start: CursorStart = { since: undefined, token: undefined, span: EMPTY_SPAN };
  private span: CursorSpan = EMPTY_SPAN;
  private lastPage: Page | undefined;
  private cursor: string | undefined;
  private counts = NO_ROWS;
  private records = 0;
  private pages = 0;
  private quarantined = 0;
  private checkpoints = 0;
  private checkpointAtMs = 0;
  private committing: Promise<void> = Promise.resolve();

  constructor(private readonly options: CarryOptions) {
    this.stream = options.api.stream(options.stream);
  }

  async carry(): Promise<void> {
    await this.open();
    try {
      await this.readAll();
      await this.commit((entry) => this.load.finish(entry), true);
    } catch (error) {
      await this.keepWhatWasRead();
      throw error;
    } finally {
      await this.committing.catch(() => {});
      await this.load.close();
    }
  }

  /** After a failure: the pages read so far are good, and the next run goes on behind them. */
  private async keepWhatWasRead(): Promise<void> {
    if (this.options.write !== "upsert" || this.load.waitingRows === 0) return;
    try {
      await this.commit((entry) => this.load.checkpoint(entry), false);
      await this.committing;
    } catch {
      // the failure that led here is the one to tell of; these rows are read again next time
    }
  }

  report(outcome: RunOutcome, error: BridgeError | undefined): StreamReport {
    const { requests, retries, waitedMs, bytes } = this.tally;
    const { records, quarantined, pages, checkpoints, rowsByTable, cursor } = this;
    return {
      stream: this.options.stream,
      outcome,
      records,
      ...this.counts,
      quarantined,
      pages,
      checkpoints,
      requests,
      retries,
      waitedMs,
      bytes,
      ...this.times,
      rowsByTable,
      cursor,
      error,
    };
  }

  private async open(): Promise<void> {
    const { session, bridge, schema, write, run, startedAtMs, rootTables, api } = this.options;
    const { name, key, columns, cursor } = this.stream;
    const { ledger, names } = session;
    const rootTable = snakeCase(name);
    this.load = await session.openLoad({
      run,
      bridge,
      stream: name,
      schema,
      rootTable,
      write,
      loadedAtMs: startedAtMs,
    });
    const known = await ledger.columns(schema, bridge, name);
    const others = await ledger.otherTables(schema, bridge, name);
    const takenTables = new Set([...rootTables, ...others]);
    takenTables.delete(rootTable);
    this.shape = new Shape({ stream: name, key, columns, names, takenTables }, known);
    this.checkpointAtMs = api.clock.now();
    if (cursor === undefined || write === "replace") {
      this.begin(this.start);
      return;
    }
    this.saved = await ledger.cursor(bridge, name);
    if (this.load.fresh && this.saved !== undefined) {
      const { value, resume } = this.saved;
      // a stream that was empty so far has a cursor without a value, and no table to miss
      if (value !== undefined || resume !== undefined) {
        this.notice(`The table ${schema}.${rootTable} is gone: the stream is loaded from its beginning.`);
      }
      this.saved = undefined;
    }
    this.cursor = this.saved?.value;
    this.begin(startOfCursor(cursor, this.saved, startedAtMs));
  }

  private begin(start: CursorStart): void {
    this.start = start;
    this.span = start.span;
    const { since, token } = start;
    this.options.onEvent({
      type: "stream started",
      stream: this.options.stream,
      since,
      goesOn: token !== undefined,
    });
  }

  private async readAll(): Promise<void> {
    try {
      await this.readPages();
    } catch (error) {
      const { cursor } = this.stream;
      const tokenRefused = isBridgeError(error, "REQUEST_REFUSED") || isBridgeError(error, "NOT_FOUND");
      if (!tokenRefused || this.start.token === undefined || this.pages > 0 || cursor === undefined)
        throw error;
      this.notice("The API no longer knows the page where the last run broke off: the pass begins anew.");
      this.saved = { value: this.saved?.value };
      this.begin(startOfCursor(cursor, this.saved, this.options.startedAtMs));
      await this.readPages();
    }
  }

  private async readPages(): Promise<void> {
    const pages = this.openPages();
    try {
      for (;;) {
        const page = await this.nextPage(pages);
        if (page === undefined) return;
        await this.take(page);
        if (page.nextToken !== undefined && this.isDue()) await this.checkpoint();
      }
    } finally {
      // ends the iterator without waiting for a page that is under way
      void pages.return?.(undefined)?.catch(() => {});
    }
  }

  private openPages(): AsyncIterator<Page> {
    const { api, signal, onEvent, stream } = this.options;
    const { since, token } = this.start;
    return api.pages(stream, {
      since,
      token,
      signal,
      tally: this.tally,
      onEvent: (event) => onEvent({ ...event, stream }),
    });
  }

  /** Waits for the next page; while it is long in coming, a checkpoint that falls due is made. */
  private async nextPage(pages: AsyncIterator<Page>): Promise<Page | undefined> {
    const { clock } = this.options.api;
    const from = clock.now();
    const arrival = pages.next();
    const untilDue = this.checkpointAtMs + this.options.checkpoint.everyMs - from;
    if (this.lastPage !== undefined && this.load.waitingRows > 0) {
      const timer = new AbortController();
      const due = clock.sleep(Math.max(0, untilDue), timer.signal).then(
        () => true,
        () => false,
      );
      const late = await Promise.race([arrival.then(() => false), due]).finally(() => timer.abort());
      if (late) await this.checkpoint();
    }
    const next = await arrival;
    this.times.askMs += clock.now() - from;
    return next.done === true ? undefined : next.value;
  }

  private async take(page: Page): Promise<void> {
    const { api, stream, onEvent } = this.options;
    const from = api.clock.now();
    const { batches, issues } = page.shape(this.shape);
    const span = page.span();
    this.checkFirstPage(page, issues.length, span);
    const shapedAt = api.clock.now();
    const changed = this.shape.version !== this.shapeVersion;
    this.shapeVersion = this.shape.version;
    await this.load.add(batches, issues, changed ? this.shape.schema() : undefined);
    this.times.shapeMs += shapedAt - from;
    this.times.loadMs += api.clock.now() - shapedAt;
    if (span !== undefined) this.span = joinSpans(this.span, span);
    this.lastPage = page;
    this.pages++;
    this.records += page.records.length;
    this.quarantined += issues.length;
    let rows = 0;
    for (const batch of batches) {
      rows += batch.rows;
      this.rowsByTable[batch.table] = (this.rowsByTable[batch.table] ?? 0) + batch.rows;
    }
    for (const { reason, path, message } of issues)
      onEvent({ type: "quarantined", stream, reason, path, message });
    const { records, bytes } = page;
    onEvent({
      type: "page",
      stream,
      page: page.number,
      records: records.length,
      rows,
      bytes,
      requestsLeft: api.requestsLeft(),
    });
  }

  /** A key or cursor that no record has is a mistake in the connector, not in the data. */
  private checkFirstPage(page: Page, issues: number, span: CursorSpan | undefined): void {
    const count = page.records.length;
    if (this.pages > 0 || count === 0) return;
    const where = { stream: this.stream.name, page: page.number };
    const first = page.records.find((record) => typeof record === "object" && record !== null);
    const fields = first === undefined ? "none" : Object.keys(first).slice(0, 12).join(", ");
    if (issues === count && this.stream.key.length > 0) {
      const key = this.stream.key.map((parts) => parts.join(".")).join(", ");
      const message = `No record of the first page can be stored; is the key ${key} in it? Its fields: ${fields}.`;
      throw new BridgeError("KEY_NOT_FOUND", message, { where });
    }
    if (span !== undefined && span.missing === count) {
      const field = this.stream.cursor?.field.join(".");
      const message = `No record of the first page has a text or whole number at cursor.field ${field}. Its fields: ${fields}.`;
      throw new BridgeError("CURSOR_NOT_FOUND", message, { where });
    }
  }

  private isDue(): boolean {
    const { checkpoint, api } = this.options;
    return (
      this.load.waitingRows >= checkpoint.rows || api.clock.now() - this.checkpointAtMs >= checkpoint.everyMs
    );
  }

  private async checkpoint(): Promise<void> {
    await this.commit((entry) => this.load.checkpoint(entry), false);
  }

  /**
   * Starts a commit once the one before is in: were that one to fail, a later cursor must not pass its rows.
   * The new commit goes on behind, as `committing`.
   */
  private async commit(
    start: (entry: CheckpointEntry) => Promise<Committed>,
    finished: boolean,
  ): Promise<void> {
    const { clock } = this.options.api;
    const from = clock.now();
    await this.committing;
    const entry = this.entry(finished);
    this.committing = this.settle(start(entry), entry);
    this.committing.catch(() => {});
    if (finished) await this.committing;
    this.times.loadMs += clock.now() - from;
    this.checkpointAtMs = clock.now();
  }

  /** Waits for a commit and tells what it did. */
  private async settle(commit: Promise<Committed>, entry: CheckpointEntry): Promise<void> {
    const { counts, changes } = await commit;
    this.counts = addCounts(this.counts, counts);
    const { stream, onEvent } = this.options;
    for (const change of changes) onEvent({ type: "schema changed", stream, ...change });
    this.cursor = entry.cursor?.value ?? this.cursor;
    onEvent({ type: "checkpoint", stream, number: entry.number, cursor: this.cursor });
  }

  private entry(finished: boolean): CheckpointEntry {
    const { cursor: rule } = this.stream;
    const { api, write } = this.options;
    const atMs = api.clock.now();
    const number = ++this.checkpoints;
    if (rule === undefined || write === "replace") return { number, cursor: undefined, atMs };
    const nextToken = finished ? undefined : this.lastPage?.nextToken;
    return { number, cursor: nextCursor(rule, this.saved, this.start, this.span, nextToken, atMs), atMs };
  }

  private notice(message: string): void {
    this.options.onEvent({ type: "notice", stream: this.options.stream, message });
  }
}
