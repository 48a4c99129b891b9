/**
 * Stages: rows go into temporary tables by binary COPY while pages come in; the same connection commits them. One whose
 * table is not there yet is no temporary one, and turns into that table: its rows are written once. Until then it lives
 * in a transaction that is not committed, and is gone with it.
 */

import type { TableBatch } from "../../core/shape/batch.js";
import { sameType } from "../../core/shape/column-type.js";
import { LOADED_COLUMN, RUN_COLUMN } from "../../core/shape/own-columns.js";
import type { ColumnSchema, TableSchema } from "../../core/shape/table-shape.js";
import { LEDGER_SCHEMA } from "../sql/ledger-schema.js";
import { stageColumns, stageStatements } from "../sql/merge-plan.js";
import { SENT_AT_ONCE, SEQUENCE_COLUMN, type TablePlace, type WrittenBy } from "../sql/stage.js";
import type { RefillableStage } from "../sql/straight-table.js";
import type { PostgresConnection } from "./connection.js";
import { asCopy, CopyRows, rowsForStage } from "./copy-rows.js";
import { POSTGRES, quoteName } from "./dialect.js";

export class StageTable implements RefillableStage {
  rows = 0;
  private columns: readonly ColumnSchema[] = [];
  /** the columns that rows are found by */
  private key: readonly string[] = [];
  private readonly waiting = CopyRows.forStage();
  private hasBecome = false;
  /** the last COPY under way; others wait behind it */
  private copying: Promise<void> = Promise.resolve();

  constructor(
    private readonly connection: PostgresConnection,
    private readonly name: string,
    readonly table: string,
    private readonly mayBecome: boolean,
  ) {}

  get sqlName(): string {
    return this.mayBecome ? POSTGRES.tableName(LEDGER_SCHEMA, this.name) : `pg_temp.${quoteName(this.name)}`;
  }

  become(
    { schema, name }: TablePlace,
    { columns }: TableSchema,
    of: WrittenBy,
  ): readonly string[] | undefined {
    const isAlike = columns.every(
      (column, i) => column.name === this.columns[i]?.name && sameType(column.type, this.columns[i]?.type),
    );
    if (!this.mayBecome || !isAlike || columns.length !== this.columns.length) return undefined;
    this.hasBecome = true;
    const moved = POSTGRES.tableName(schema, this.name);
    const run = `ADD COLUMN ${RUN_COLUMN} BIGINT DEFAULT ${of.run}`;
    const loaded = `ADD COLUMN ${LOADED_COLUMN} TIMESTAMPTZ DEFAULT ${POSTGRES.instant(of.loadedAtMs)}`;
    return [
      // a default that is there from the begin is in no row: none is written
      `ALTER TABLE ${this.sqlName} DROP COLUMN ${SEQUENCE_COLUMN}, ${run}, ${loaded}`,
      `ALTER TABLE ${this.sqlName} ALTER COLUMN ${RUN_COLUMN} DROP DEFAULT, ALTER COLUMN ${LOADED_COLUMN} DROP DEFAULT`,
      `ALTER TABLE ${this.sqlName} SET SCHEMA ${quoteName(schema)}`,
      `ALTER TABLE ${moved} RENAME TO ${quoteName(name)}`,
    ];
  }

  async setSchema(schema: TableSchema): Promise<void> {
    if (this.mayBecome && !this.connection.isOpen) await this.connection.run("BEGIN");
    const place = { stage: this.sqlName, temporary: !this.mayBecome };
    const statements = stageStatements(POSTGRES, place, this.columns, schema);
    if (statements.length === 0) return;
    await this.copyAll();
    for (const statement of statements) await this.connection.run(statement);
    this.columns = stageColumns(this.columns, schema);
    this.key = schema.entityKey.filter((name) => this.columns.some((column) => column.name === name));
  }

  async append(batch: TableBatch, firstSeq: number): Promise<void> {
    this.waiting.add(batch, firstSeq, this.columns);
    this.rows += batch.rows;
    if (this.waiting.size < SENT_AT_ONCE.bytes) return;
    // one may be under way while the next page comes in
    await this.copying;
    this.startCopy();
  }

  async flush(): Promise<void> {
    await this.copyAll();
    // what turns into its table is compared with nothing, unless rows of it have to go
    if (!this.mayBecome) await this.analyze();
  }

  async writable(): Promise<void> {
    await this.copyAll();
    if (this.mayBecome) await this.analyze();
  }

  /** Else the server takes a stage for small, whatever is in it. */
  private async analyze(): Promise<void> {
    const columns = [SEQUENCE_COLUMN, ...this.key].map(quoteName).join(", ");
    await this.connection.run(`ANALYZE ${this.sqlName} (${columns})`);
  }

  async settle(): Promise<void> {
    if (this.mayBecome && !this.hasBecome) await this.connection.run(`DROP TABLE ${this.sqlName}`);
  }

  async drop(): Promise<void> {
    await this.copying.catch(() => {});
    // one that stays behind is gone with its connection, or with its transaction
    if (!this.connection.isLost && !this.mayBecome)
      await this.connection.run(`DROP TABLE IF EXISTS ${this.sqlName}`).catch(() => {});
  }

  private async copyAll(): Promise<void> {
    await this.copying;
    if (this.waiting.size === 0) return;
    this.startCopy();
    await this.copying;
  }

  async refill(rows: Uint8Array, count: number): Promise<void> {
    await this.copyAll();
    this.rows += count;
    await this.copy(rowsForStage(rows));
  }

  private startCopy(): void {
    this.copying = this.copy(this.waiting.take());
    // it is waited for later
    this.copying.catch(() => {});
  }

  private copy(rows: Uint8Array): Promise<void> {
    const columns = [SEQUENCE_COLUMN, ...this.columns.map(({ name }) => name)].map(quoteName).join(", ");
    const sql = `COPY ${this.sqlName} (${columns}) FROM STDIN (FORMAT binary)`;
    return this.connection.copy(sql, asCopy(rows));
  }
}
