/**
 * Rows that go straight into their tables by LOAD DATA, in a transaction that their checkpoint commits (see
 * `sql/straight.ts`). What was sent is kept in files without a name until then: when something is not as expected, the
 * transaction is rolled back, and what was sent goes into stages.
 *
 *   rows ─▶ lines ─┬─▶ table    ── all as expected ─▶ COMMIT
 *                  └─▶ file     ── otherwise: ROLLBACK, file ─▶ stage
 */

import type { FileHandle } from "node:fs/promises";
import pLimit from "p-limit";
import type { TableBatch } from "../../core/shape/batch.js";
import { sameType } from "../../core/shape/column-type.js";
import { LOADED_COLUMN, RUN_COLUMN } from "../../core/shape/own-columns.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import { openUnnamed } from "../../system/unnamed-file.js";
import type { SqlDialect } from "../sql/dialect.js";
import type { Stage, StraightTarget } from "../sql/stage.js";
import type { MysqlConnection } from "./connection.js";
import { LoadRows } from "./load-rows.js";
import { filesRefused, loadStatement, SENT_AT_ONCE, type StageTable } from "./stage.js";

/** Rows as lines. */
interface Lines {
  readonly bytes: Uint8Array;
  readonly rows: number;
}

/** The tables of one transaction: all of them have their rows in it, or none has. */
export class StraightRows {
  /** what came was not as expected: stages have it */
  hasGivenUp = false;
  private readonly tables: StraightTable[] = [];
  private readonly turns = pLimit(1);

  constructor(private readonly connection: MysqlConnection) {}

  /** Takes in another table, whose rows go into the transaction; false where all was given up by then. */
  join(table: StraightTable): Promise<boolean> {
    return this.turns(async () => {
      if (this.hasGivenUp) return false;
      if (this.tables.length === 0) await this.connection.run("BEGIN");
      this.tables.push(table);
      return true;
    });
  }

  send(table: StraightTable, lines: Lines): Promise<void> {
    return this.turns(async () => {
      if (!this.hasGivenUp && (await this.isTaken(table, lines))) return;
      await table.stage.takeLines(lines.bytes, lines.rows);
    });
  }

  /** Whether a table, and its file, have rows now; otherwise all is given up. */
  private async isTaken(table: StraightTable, lines: Lines): Promise<boolean> {
    try {
      if (!(await this.connection.load(table.statement, lines.bytes))) throw filesRefused();
      await table.keep(lines);
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

export class StraightTable implements Stage {
  rows = 0;
  private schema: TableSchema | undefined;
  private readonly lines = LoadRows.lines();
  private waitingRows = 0;
  private file: FileHandle | undefined;
  /** what stands in the file, piece by piece */
  private readonly kept: { readonly from: number; readonly to: number; readonly rows: number }[] = [];
  /** what is under way; others wait behind it */
  private sending: Promise<void> = Promise.resolve();

  /** `into`: undefined, its rows go by the stage */
  constructor(
    private readonly sql: SqlDialect,
    private readonly group: StraightRows,
    readonly stage: StageTable,
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

  get statement(): string {
    const { run, loadedAtMs, sqlName } = this.into!;
    const set = [`${RUN_COLUMN} = ${run}`, `${LOADED_COLUMN} = ${this.sql.instant(loadedAtMs)}`];
    return loadStatement(sqlName, "@eb_seq", this.schema!.columns, set);
  }

  async setSchema(schema: TableSchema): Promise<void> {
    if (this.isStraight && this.schema === undefined) {
      this.schema = schema;
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
    this.lines.add(batch, firstSeq, this.schema!.columns);
    this.waitingRows += batch.rows;
    if (this.lines.size < SENT_AT_ONCE.bytes) return;
    // one may be under way while the next page comes in
    await this.sending;
    this.send();
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
  async keep({ bytes, rows }: Lines): Promise<void> {
    this.file ??= await openUnnamed();
    const from = this.kept.at(-1)?.to ?? 0;
    const to = from + bytes.length;
    for (let at = from; at < to; ) at += (await this.file.write(bytes, at - from, to - at, at)).bytesWritten;
    this.kept.push({ from, to, rows });
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
      await this.stage.takeLines(bytes, rows);
    }
  }

  private async sendAll(): Promise<void> {
    await this.sending;
    if (this.lines.size === 0) return;
    this.send();
    await this.sending;
  }

  private send(): void {
    const lines = { bytes: this.lines.take(), rows: this.waitingRows };
    this.waitingRows = 0;
    this.sending = this.group.send(this, lines);
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
