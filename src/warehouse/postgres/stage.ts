/** Stages: rows go into temporary tables by binary COPY while pages come in; the same connection commits them. */

import type { TableBatch } from "../../core/shape/batch.js";
import type { ColumnSchema, TableSchema } from "../../core/shape/table-shape.js";
import { stageColumns, stageStatements } from "../sql/merge-plan.js";
import { SEQUENCE_COLUMN, type Stage } from "../sql/stage.js";
import type { PostgresConnection } from "./connection.js";
import { CopyRows } from "./copy-rows.js";
import { POSTGRES, quoteName } from "./dialect.js";

/** Rows are held up to so many bytes, then they are copied. */
const COPY_BYTES = 2 * 1024 * 1024;

export class StageTable implements Stage {
  rows = 0;
  private columns: readonly ColumnSchema[] = [];
  /** the columns that rows are found by */
  private key: readonly string[] = [];
  private readonly waiting = new CopyRows();
  /** the last COPY under way; others wait behind it */
  private copying: Promise<void> = Promise.resolve();

  constructor(
    private readonly connection: PostgresConnection,
    private readonly name: string,
    readonly table: string,
  ) {}

  get sqlName(): string {
    return `pg_temp.${quoteName(this.name)}`;
  }

  async setSchema(schema: TableSchema): Promise<void> {
    const place = { stage: this.sqlName, temporary: true };
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
    if (this.waiting.size < COPY_BYTES) return;
    // one may be under way while the next page comes in
    await this.copying;
    this.startCopy();
  }

  async flush(): Promise<void> {
    await this.copyAll();
    // else the server takes a stage for small, whatever is in it
    await this.connection.run(
      `ANALYZE ${this.sqlName} (${[SEQUENCE_COLUMN, ...this.key].map(quoteName).join(", ")})`,
    );
  }

  writable(): Promise<void> {
    return this.copyAll();
  }

  async drop(): Promise<void> {
    await this.copying.catch(() => {});
    // one that stays behind is gone with its connection
    if (!this.connection.isLost)
      await this.connection.run(`DROP TABLE IF EXISTS ${this.sqlName}`).catch(() => {});
  }

  private async copyAll(): Promise<void> {
    await this.copying;
    if (this.waiting.size === 0) return;
    this.startCopy();
    await this.copying;
  }

  private startCopy(): void {
    const columns = [SEQUENCE_COLUMN, ...this.columns.map(({ name }) => name)].map(quoteName).join(", ");
    const sql = `COPY ${this.sqlName} (${columns}) FROM STDIN (FORMAT binary)`;
    this.copying = this.connection.copy(sql, this.waiting.take());
    // it is waited for later
    this.copying.catch(() => {});
  }
}
