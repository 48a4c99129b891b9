/** Stages: rows go into temporary tables by LOAD DATA while pages come in; the same connection commits them. */

import { BridgeError } from "../../core/errors.js";
import type { TableBatch } from "../../core/shape/batch.js";
import type { ColumnSchema, TableSchema } from "../../core/shape/table-shape.js";
import type { SqlDialect } from "../sql/dialect.js";
import { stageColumns, stageStatements } from "../sql/merge-plan.js";
import { SENT_AT_ONCE, SEQUENCE_COLUMN } from "../sql/stage.js";
import type { RefillableStage } from "../sql/straight-table.js";
import type { MysqlConnection } from "./connection.js";
import { quoteName } from "./dialect.js";
import { LOAD_FORM, LoadRows } from "./load-rows.js";
import type { ServerMake } from "./make.js";

/** An INSERT has to be smaller than `max_allowed_packet`. */
const INSERT_BYTES = 1024 * 1024;

const decoder = new TextDecoder("utf-8", { ignoreBOM: true });

/** What the stages of a session know of the server, and have learned of it. */
export interface LoadWay {
  readonly make: ServerMake;
  /** it lets no client send files: rows go into INSERTs */
  isRefused: boolean;
}

export class StageTable implements RefillableStage {
  rows = 0;
  private columns: readonly ColumnSchema[] = [];
  private waiting: TableBatch[] = [];
  private readonly lines = LoadRows.lines();
  private firsts: number[] = [];
  /** what is under way; others wait behind it */
  private sending: Promise<void> = Promise.resolve();

  constructor(
    private readonly sql: SqlDialect,
    private readonly connection: MysqlConnection,
    private readonly way: LoadWay,
    readonly sqlName: string,
    readonly table: string,
  ) {}

  async setSchema(schema: TableSchema): Promise<void> {
    const place = { stage: this.sqlName, temporary: true };
    const statements = stageStatements(this.sql, place, this.columns, schema);
    if (statements.length === 0) return;
    await this.sendAll();
    for (const statement of statements) await this.connection.run(statement);
    this.columns = stageColumns(this.columns, schema);
  }

  async append(batch: TableBatch, firstSeq: number): Promise<void> {
    this.waiting.push(batch);
    this.firsts.push(firstSeq);
    this.lines.add(batch, firstSeq, this.columns);
    this.rows += batch.rows;
    if (this.lines.size < SENT_AT_ONCE.bytes) return;
    // one may be under way while the next page comes in
    await this.sending;
    this.send();
  }

  async refill(lines: Uint8Array, rows: number): Promise<void> {
    await this.sendAll();
    this.rows += rows;
    if (!(await this.connection.load(this.loadStatement(), lines))) throw filesRefused();
  }

  flush(): Promise<void> {
    return this.sendAll();
  }

  writable(): Promise<void> {
    return this.sendAll();
  }

  async drop(): Promise<void> {
    await this.sending.catch(() => {});
    // one that stays behind is gone with its connection
    if (!this.connection.isLost)
      await this.connection.run(`DROP TEMPORARY TABLE IF EXISTS ${this.sqlName}`).catch(() => {});
  }

  private async sendAll(): Promise<void> {
    await this.sending;
    if (this.lines.size === 0) return;
    this.send();
    await this.sending;
  }

  private send(): void {
    const { waiting, firsts } = this;
    [this.waiting, this.firsts] = [[], []];
    this.sending = this.sent(this.lines.take(), waiting, firsts);
    // it is waited for later
    this.sending.catch(() => {});
  }

  private async sent(
    lines: Uint8Array,
    batches: readonly TableBatch[],
    firsts: readonly number[],
  ): Promise<void> {
    if (!this.way.isRefused) {
      if (await this.connection.load(this.loadStatement(), lines)) return;
      this.way.isRefused = true;
    }
    const columns = [SEQUENCE_COLUMN, ...this.columns.map(({ name }) => name)].map(quoteName);
    for (const [i, batch] of batches.entries())
      for (const list of this.listsOf(batch, firsts[i]!))
        await this.connection.run(this.insertStatement(columns, list));
  }

  /** The rows of a batch as lists of values, each for one statement. */
  private listsOf(batch: TableBatch, firstSeq: number): string[] {
    const values = LoadRows.values(this.way.make.rowWord);
    const lists: string[] = [];
    const take = () => lists.push(decoder.decode(values.take()).slice(0, -1));
    values.add(batch, firstSeq, this.columns, () => {
      if (values.size >= INSERT_BYTES) take();
    });
    if (values.size > 0) take();
    return lists;
  }

  private loadStatement(): string {
    return loadStatement(this.sqlName, SEQUENCE_COLUMN, this.columns);
  }

  private insertStatement(columns: readonly string[], list: string): string {
    const hasBytes = this.columns.some(({ type }) => type.kind === "bytes");
    if (!hasBytes) return `INSERT INTO ${this.sqlName} (${columns.join(", ")}) VALUES ${list}`;
    const values = [SEQUENCE_COLUMN, ...this.columns.map(({ name, type }) => bytesOrValue(name, type.kind))];
    return `INSERT INTO ${this.sqlName} (${columns.join(", ")})
      WITH given (${columns.join(", ")}) AS (VALUES ${list}) SELECT ${values.join(", ")} FROM given`;
  }
}

/** Loads lines into a table. `sequence`: where the number that each begins with goes; `set`: what else a row has. */
export function loadStatement(
  table: string,
  sequence: string,
  columns: readonly ColumnSchema[],
  set: readonly string[] = [],
): string {
  const bytes = columns.filter(({ type }) => type.kind === "bytes").map(({ name }) => name);
  const mark = (name: string) => `@b${bytes.indexOf(name)}`;
  const places = columns.map(({ name }) => (bytes.includes(name) ? mark(name) : quoteName(name)));
  const values = [...bytes.map((name) => `${quoteName(name)} = from_base64(${mark(name)})`), ...set];
  return `LOAD DATA LOCAL INFILE 'rows' INTO TABLE ${table} ${LOAD_FORM}
    (${[sequence, ...places].join(", ")})${values.length === 0 ? "" : ` SET ${values.join(", ")}`}`;
}

/** It did take them before, in the same run. */
export const filesRefused = () =>
  new BridgeError("WAREHOUSE_FAILED", "The server no longer lets its clients send files.", {
    hint: "Run the bridge again: it then sends its rows in another way. Or set local_infile to ON.",
  });

const bytesOrValue = (name: string, kind: string) =>
  kind === "bytes" ? `from_base64(${quoteName(name)})` : quoteName(name);
