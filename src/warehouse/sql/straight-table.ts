/**
 * Rows on their way straight into their tables, in a transaction that their checkpoint commits: see `straight.ts`. What
 * was sent is kept in files without a name until then. When something is not as expected, the transaction is rolled
 * back, and what was sent goes into stages.
 *
 *   rows ─┬─▶ table    ── all as expected ─▶ COMMIT
 *         └─▶ file     ── otherwise: ROLLBACK, file ─▶ stage
 */

import type { FileHandle } from "node:fs/promises";
import pLimit from "p-limit";
import type { TableBatch } from "../../core/shape/batch.js";
import { sameType } from "../../core/shape/column-type.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import { openUnnamed } from "../../system/unnamed-file.js";
import type { SqlConnection } from "./dialect.js";
import { SENT_AT_ONCE, type Stage, type StraightTarget } from "./stage.js";

/** Rows as they are sent. */
export interface SentRows {
  readonly forTable: Uint8Array;
  /** the same, each with the number of its record, as a stage can be filled with it */
  readonly kept: Uint8Array;
}

/** How the rows of a table are sent. */
export interface StraightFeed {
  add(batch: TableBatch, firstSeq: number): void;
  /** bytes so far */
  readonly size: number;
  /** All that was added; then it is empty again. */
  take(): SentRows;
  send(forTable: Uint8Array): Promise<void>;
}

/** A stage that takes rows in which were on their way to a table. */
export interface RefillableStage extends Stage {
  refill(kept: Uint8Array, rows: number): Promise<void>;
}

interface StraightConnection extends SqlConnection {
  readonly isLost: boolean;
}

/** The tables of one transaction: all of them have their rows in it, or none has. */
export class StraightRows {
  /** what came was not as expected: stages have it */
  hasGivenUp = false;
  private readonly tables: StraightTable[] = [];
  private readonly turns = pLimit(1);

  constructor(
    private readonly connection: StraightConnection,
    readonly feedOf: (into: StraightTarget, schema: TableSchema) => StraightFeed,
  ) {}

  /** Takes in another table, whose rows go into the transaction; false where all was given up by then. */
  join(table: StraightTable): Promise<boolean> {
    return this.turns(async () => {
      if (this.hasGivenUp) return false;
      if (this.tables.length === 0) await this.connection.run("BEGIN");
      this.tables.push(table);
      return true;
    });
  }

  /** Sends rows into a table, or into its stage. */
  send(table: StraightTable, feed: StraightFeed, sent: SentRows, rows: number): Promise<void> {
    return this.turns(async () => {
      if (!this.hasGivenUp && (await this.isTaken(table, feed, sent, rows))) return;
      await table.stage.refill(sent.kept, rows);
    });
  }

  /** Whether a table, and its file, have rows now; otherwise all is given up. */
  private async isTaken(
    table: StraightTable,
    feed: StraightFeed,
    sent: SentRows,
    rows: number,
  ): Promise<boolean> {
    try {
      await feed.send(sent.forTable);
      await table.keep(sent.kept, rows);
      return true;
    } catch (error) {
      if (this.connection.isLost) throw error;
      // a row that no table takes is told by its stage
      await this.takeBack();
      return false;
    }
  }

  giveUp(): Promise<void> {
    return this.turns(() => this.takeBack());
  }

  private async takeBack(): Promise<void> {
    if (this.hasGivenUp) return;
    this.hasGivenUp = true;
    if (this.tables.length > 0) await this.connection.run("ROLLBACK");
    for (const table of this.tables) await table.intoStage();
  }
}

/** A table whose rows go straight into it while nothing speaks against it, and a stage for them otherwise. */
export class StraightTable implements Stage {
  rows = 0;
  private schema: TableSchema | undefined;
  private feed: StraightFeed | undefined;
  private waitingRows = 0;
  private file: FileHandle | undefined;
  /** what stands in the file, piece by piece */
  private readonly kept: { readonly from: number; readonly to: number; readonly rows: number }[] = [];
  /** what is under way; others wait behind it */
  private sending: Promise<void> = Promise.resolve();

  /** `into`: undefined, its rows go by the stage */
  constructor(
    private readonly group: StraightRows,
    readonly stage: RefillableStage,
    private readonly into: StraightTarget | undefined,
  ) {}

  get table(): string {
    return this.stage.table;
  }

  get sqlName(): string {
    return this.stage.sqlName;
  }

  get isStraight(): boolean {
    return this.into !== undefined && !this.group.hasGivenUp;
  }

  async setSchema(schema: TableSchema): Promise<void> {
    if (this.into !== undefined && this.isStraight && this.schema === undefined) {
      this.schema = schema;
      this.feed = this.group.feedOf(this.into, schema);
      if (await this.group.join(this)) return;
    } else if (this.isStraight && isAlike(schema, this.schema!)) return;
    await this.sendAll();
    // rows of another form, or of no table that stands, have to wait: all do then
    await this.group.giveUp();
    await this.stage.setSchema(schema);
  }

  async append(batch: TableBatch, firstSeq: number): Promise<void> {
    this.rows += batch.rows;
    if (!this.isStraight) {
      await this.sendAll();
      return this.stage.append(batch, firstSeq);
    }
    const feed = this.feed!;
    feed.add(batch, firstSeq);
    this.waitingRows += batch.rows;
    if (feed.size < SENT_AT_ONCE.bytes) return;
    // one may be under way while the next page comes in
    await this.sending;
    this.send(feed);
  }

  async flush(): Promise<void> {
    await this.sendAll();
    if (!this.isStraight) await this.stage.flush();
  }

  async writable(): Promise<void> {
    await this.sendAll();
    await this.stage.writable();
  }

  async drop(): Promise<void> {
    await this.sending.catch(() => {});
    await this.file?.close();
    await this.stage.drop();
  }

  /** Keeps what was sent. */
  async keep(bytes: Uint8Array, rows: number): Promise<void> {
    this.file ??= await openUnnamed();
    const from = this.kept.at(-1)?.to ?? 0;
    // behind what was written last
    await this.file.writeFile(bytes);
    this.kept.push({ from, to: from + bytes.length, rows });
  }

  /** Puts what was kept into the stage. */
  async intoStage(): Promise<void> {
    await this.stage.setSchema(this.schema!);
    for (const { from, to, rows } of this.kept.splice(0)) {
      const bytes = new Uint8Array(to - from);
      for (let at = from; at < to; ) {
        const { bytesRead } = await this.file!.read(bytes, at - from, to - at, at);
        if (bytesRead === 0) throw new Error("what was sent is no longer in its file");
        at += bytesRead;
      }
      await this.stage.refill(bytes, rows);
    }
  }

  private async sendAll(): Promise<void> {
    await this.sending;
    if (this.feed === undefined || this.waitingRows === 0) return;
    this.send(this.feed);
    await this.sending;
  }

  private send(feed: StraightFeed): void {
    const { waitingRows } = this;
    this.waitingRows = 0;
    this.sending = this.group.send(this, feed, feed.take(), waitingRows);
    // it is waited for later
    this.sending.catch(() => {});
  }
}

function isAlike({ columns }: TableSchema, before: TableSchema): boolean {
  return (
    columns.length === before.columns.length &&
    columns.every(
      ({ name, type }, i) => name === before.columns[i]!.name && sameType(type, before.columns[i]!.type),
    )
  );
}
