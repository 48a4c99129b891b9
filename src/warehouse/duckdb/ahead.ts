/**
 * Rows that DuckDB packs into their tables while the next pages come in: see `ahead.ts` of the warehouses that speak
 * SQL. All statements of a checkpoint's rows are one transaction, on a connection of its own. One load of a session
 * goes ahead at a time: while a transaction is open, DuckDB keeps what others commit in memory and in its log.
 */

import type { SqlConnection } from "../sql/dialect.js";
import type { AheadTarget } from "../sql/stage.js";

/** A connection for the rows of a checkpoint. */
export interface AheadConnection extends SqlConnection {
  close(): void;
}

export interface AheadPorts {
  connect(): Promise<AheadConnection>;
  /** Works on the file while nobody else does. */
  inTurn<T>(work: () => Promise<T>): Promise<T>;
  giveMemoryBack(): Promise<void>;
  /** Gives the place of the one that goes ahead, which is to be given back; undefined where another has it. */
  claim(): (() => void) | undefined;
}

/** Rows for a table, and what puts them into it. */
export interface AheadRows {
  readonly into: () => Promise<AheadTarget | undefined>;
  statement(into: AheadTarget): string;
}

export class Ahead {
  private open: AheadConnection | undefined;
  private isStopped = false;
  private hasRows = false;
  private isCommitted = false;
  private release: (() => void) | undefined;
  /** names in full */
  private readonly made = new Set<string>();
  /** statements under way, one behind the other */
  private work: Promise<void> = Promise.resolve();

  constructor(private readonly ports: AheadPorts) {}

  /** rows of a table are on their way: those of the others have to follow */
  get isUnderWay(): boolean {
    return this.hasRows && !this.isStopped;
  }

  /** the tables are new as well */
  get hasMade(): boolean {
    return this.made.size > 0;
  }

  /** what commits the rows, where they are to stay in their tables */
  get committing(): SqlConnection | undefined {
    return this.isCommitted ? this.open : undefined;
  }

  /** Sends rows on their way, behind those that are. */
  put(rows: AheadRows): void {
    if (this.isStopped) return;
    this.hasRows = true;
    // what it fails with is told when the rows go in from their stage
    this.work = this.work.then(() => this.send(rows)).catch(() => this.stop());
  }

  /** Waits until all that was put is in its table, or none of it. */
  arrived(): Promise<void> {
    return this.work;
  }

  /** Takes all rows back. */
  giveUp(): Promise<void> {
    this.work = this.work.then(() => this.ports.inTurn(() => this.stop()));
    return this.work;
  }

  /** To be called in turn, when all rows have arrived. */
  async settle(areNew: boolean): Promise<void> {
    if (areNew && this.isUnderWay) this.isCommitted = true;
    else await this.stop();
  }

  /** What is not committed is gone. */
  async close(): Promise<void> {
    await this.work;
    await this.stop();
  }

  private async send({ into, statement }: AheadRows): Promise<void> {
    const target = await into();
    if (this.isStopped) return;
    if (target === undefined) return this.stop();
    await this.ports.inTurn(async () => {
      this.open ??= await this.begin(target);
      if (this.open === undefined) return;
      await this.make(this.open, target);
      await this.open.run(statement(target));
      await this.ports.giveMemoryBack();
    });
  }

  private async make(on: SqlConnection, { sqlName, make }: AheadTarget): Promise<void> {
    if (make === undefined || this.made.has(sqlName)) return;
    for (const each of make.statements()) await on.run(each);
    this.made.add(sqlName);
  }

  private async begin({ make }: AheadTarget): Promise<AheadConnection | undefined> {
    this.release = this.ports.claim();
    if (this.release === undefined) {
      await this.stop();
      return undefined;
    }
    const connection = await this.ports.connect();
    // streams share it: made in this transaction, it would be in the way of another one that needs it
    if (make !== undefined) await connection.run(make.schema);
    await connection.run("BEGIN");
    const run: SqlConnection["run"] = async (sql, values) => {
      // whoever commits begins a transaction first: it is this one
      if (sql === "BEGIN") return;
      await connection.run(sql, values);
      // the next checkpoint's rows may be under way
      if (sql === "COMMIT") this.giveBack();
    };
    return { rows: (sql, values) => connection.rows(sql, values), run, close: () => connection.close() };
  }

  private async stop(): Promise<void> {
    this.isStopped = true;
    const { open } = this;
    this.open = undefined;
    if (open !== undefined) {
      // after its commit there is none
      await open.run("ROLLBACK").catch(() => {});
      open.close();
    }
    this.giveBack();
  }

  private giveBack(): void {
    this.release?.();
    this.release = undefined;
  }
}
