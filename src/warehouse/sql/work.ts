/** One connection at work in one dialect: the questions that merges ask. */

import type { ColumnSchema, TableSchema } from "../../core/shape/table-shape.js";
import type { SqlConnection, SqlDialect } from "./dialect.js";
import { countKeysQuery, countMatchesQuery, countSharedQuery } from "./merge-plan.js";
import { transaction } from "./transaction.js";

/** Records that stand in the target already, and those of them that are equal in every column. */
export interface Matches {
  readonly matched: number;
  readonly unchanged: number;
}

export const NO_MATCHES: Matches = Object.freeze({ matched: 0, unchanged: 0 });

export class SqlWork {
  constructor(
    readonly sql: SqlDialect,
    readonly connection: SqlConnection,
  ) {}

  async run(statements: readonly string[]): Promise<void> {
    for (const statement of statements) await this.connection.run(statement);
  }

  /** What a query counts as `n`. */
  async count(query: string): Promise<number> {
    const [row] = await this.connection.rows(query);
    return Number(row?.n);
  }

  countRows(table: string): Promise<number> {
    return this.count(`SELECT count(*) AS n FROM ${table}`);
  }

  /** How many rows of a table some statements take away. */
  async countLess(table: string, statements: readonly string[]): Promise<number> {
    const before = await this.countRows(table);
    await this.run(statements);
    return before - (await this.countRows(table));
  }

  /** Rows whose key another row of the table has as well. */
  async countDoubled(table: string, key: readonly string[]): Promise<number> {
    const [row] = await this.connection.rows(countKeysQuery(this.sql, table, key));
    return Number(row?.all_rows) - Number(row?.different);
  }

  /** Records that two tables have in common. */
  async countShared(left: string, right: string, key: readonly string[]): Promise<number> {
    const [row] = await this.connection.rows(countSharedQuery(this.sql, left, right, key));
    return Number(row?.shared);
  }

  /** The keys are compared first: mostly nothing stands there yet, and whole rows need not be read. */
  async countMatches(stage: string, target: string, schema: TableSchema): Promise<Matches> {
    if ((await this.countShared(stage, target, schema.recordKey)) === 0) return NO_MATCHES;
    const [row] = await this.connection.rows(countMatchesQuery(this.sql, stage, target, schema));
    return { matched: Number(row?.matched), unchanged: Number(row?.unchanged) };
  }

  /** All of the work or nothing. */
  transaction<T>(work: () => Promise<T>, hasCommitted?: () => Promise<boolean> | undefined): Promise<T> {
    return transaction((statement) => this.connection.run(statement), work, hasCommitted);
  }
}

/** The columns that tell each row apart in a stream's own table, one row for each record; none in any other. */
export function primaryKey(table: TableSchema): readonly string[] {
  const { recordKey, entityKey, path } = table;
  const isOneEach = path === "" && recordKey.length === entityKey.length;
  return isOneEach && isKeyed(table) ? recordKey : [];
}

/** The columns that tell records apart. */
export const keyColumns = ({ columns, entityKey }: TableSchema): readonly ColumnSchema[] =>
  columns.filter(({ name }) => entityKey.includes(name));

/** Whether records of the table are known again by their key. */
export function isKeyed({ recordKey, columns }: TableSchema): boolean {
  return recordKey.length > 0 && !columns.some((column) => column.role === "row_id");
}
