/** How the SQL of one warehouse differs from that of another; what is the same stands beside this file. */

import type { ColumnType } from "../../core/shape/column-type.js";

export interface SqlDialect {
  /** how messages name the warehouse */
  readonly title: string;
  /** a name as SQL takes it, whatever is in it */
  quoteName(name: string): string;
  /** a schema, in full */
  schemaName(schema: string): string;
  /** a table, in full */
  tableName(schema: string, table: string): string;
  /** notes what a table, or a column of it, holds; undefined: this warehouse keeps no such notes */
  comment?: ((table: string, column: string | undefined, text: string) => string) | undefined;
  typeName(type: ColumnType): string;
  /** a moment as a value of the type `timestamp`; ms since 1970 */
  instant(ms: number): string;
  /** a text as a value */
  text(text: string): string;
  /** the expression that turns a column of one type into a wider one, every value kept */
  widened(column: string, from: ColumnType, to: ColumnType): string;
  /** an expression that is NULL where it would fail */
  orNull(expression: string): string;
}

/** One connection, whatever its driver: statements one at a time. */
export interface SqlConnection {
  run(sql: string): Promise<void>;
  rows(sql: string): Promise<readonly Readonly<Record<string, unknown>>[]>;
}
