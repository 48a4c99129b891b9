/** How the SQL of one warehouse differs from that of another; what is the same stands beside this file. */

import type { UserColumn } from "../../core/into/user-table.js";
import type { ColumnType } from "../../core/shape/column-type.js";
import type { ColumnSchema, TableSchema } from "../../core/shape/table-shape.js";

export interface SqlDialect {
  /** how messages name the warehouse */
  readonly title: string;
  /** a name as SQL takes it, whatever is in it */
  quoteName(name: string): string;
  /** a schema, in full */
  schemaName(schema: string): string;
  /** a statement that makes a schema where it is not there */
  makeSchema(schema: string): string;
  /** a table, in full */
  tableName(schema: string, table: string): string;
  /** notes what a table, or a column of it, holds; undefined: this warehouse keeps no such notes */
  comment?:
    | ((table: string, column: string | undefined, text: string, type: ColumnType | undefined) => string)
    | undefined;
  typeName(type: ColumnType): string;
  /** what stands behind the columns of a table that is made; default: nothing */
  readonly tableOptions?: string | undefined;
  /** a moment as a value of the type `timestamp`; ms since 1970 */
  instant(ms: number): string;
  /** a text as a value */
  text(text: string): string;
  /** the expression that turns a column of one type into a wider one, every value kept */
  widened(column: string, from: ColumnType, to: ColumnType): string;
  /** the same, and NULL where a value does not fit into the other type */
  fitted(column: string, from: ColumnType, to: ColumnType): string;
  /** a condition: one value is as the other, and nothing as nothing */
  same(left: string, right: string): string;
  /** deletes the rows of a table, under an alias, for which a condition holds that may name a source beside it */
  deleteFrom(target: string, alias: string, source: string | undefined, where: string): string;
  /** sets columns, by name, of such rows */
  updateFrom(
    target: string,
    alias: string,
    set: Readonly<Record<string, string>>,
    source: string,
    where: string,
  ): string;
  /** statements that give columns wider types, every value kept; `of`: the table, where it is no stage */
  widen(target: string, columns: readonly Widening[], of?: MadeTable): readonly string[];
  /** statements that add a column; default: one */
  addColumn?: ((target: string, column: string, type: ColumnType) => readonly string[]) | undefined;
  /** statements by which rows of a stage are found by columns; default: they are found well enough */
  findable?: ((stage: string, columns: readonly KeyColumn[]) => readonly string[]) | undefined;
  /**
   * statements over the numbers of records that a query gives, which reads what they change; they get what stands for
   * it in FROM; default: the query itself
   */
  overNumbers?:
    | ((query: string, statements: (source: string) => readonly string[]) => readonly string[])
    | undefined;
  /** statements for a table that was just made, so that its records are found fast; default: none are needed */
  indexes?: ((target: string, table: TableSchema) => readonly string[]) | undefined;
  /**
   * a digest of columns, as an expression: rows of whole tables are counted as equal where theirs is, which takes less
   * memory than the rows; default: by the rows
   */
  digestOf?: ((columns: readonly string[]) => string) | undefined;
  /**
   * statements by which the rows of a table that was built aside take the place of those of a table that stands;
   * default: it is dropped, and the other one gets its name
   */
  takePlace?:
    | ((target: string, next: string, table: TableSchema, standing: StandingColumns) => readonly string[])
    | undefined;
  /** a column that a view reads keeps its type, and the view has to go for the change; default: views follow tables */
  readonly viewsHoldTypes?: boolean | undefined;
  /**
   * what makes, changes and renames tables is no part of a transaction here: it is done before one, where it may stand
   * without it, or after it, when the ledger has it as due; default: it is part of one
   */
  readonly tablesApart?: boolean | undefined;
  readonly userTables: UserTableSql;
  readonly ledger: LedgerSql;
}

/** A column by which rows are looked for. */
export type KeyColumn = Pick<ColumnSchema, "name" | "type">;

/** How values go into columns of tables that are not ours. */
export interface UserTableSql {
  /** a value of a type, as such a column takes it */
  assigned(value: string, from: ColumnType, column: UserColumn): string;
  /** the same, so that it is compared as the column's index does; default: as it is assigned */
  asKey?: ((value: string, from: ColumnType, column: UserColumn) => string) | undefined;
  /** a condition: what stands in a column is as a value that was assigned; default: as in tables of ours */
  same?: ((standing: string, assigned: string, column: UserColumn) => string) | undefined;
}

/** A column that is to hold more. */
export interface Widening {
  readonly column: string;
  readonly from: ColumnType;
  readonly to: ColumnType;
}

/** A table of a stream where it stands. */
export interface MadeTable {
  readonly schema: string;
  /** the name it has there: while it is built beside another one, not yet its own */
  readonly name: string;
  readonly table: TableSchema;
  /** whether the ledger has its columns */
  readonly isNoted: boolean;
}

/** A table's columns as they stand: types by name. */
export type StandingColumns = ReadonlyMap<string, ColumnType>;

/** How the SQL of the ledger differs. */
export interface LedgerSql {
  /** what `table_catalog` is called in `information_schema` */
  readonly catalog: string;
  /** what `table_schema` of a schema is there; default: the schema's own name */
  databaseOf?: ((schema: string) => string) | undefined;
  /** what a type of the ledger's columns is called here, where that is another word */
  readonly types?: Readonly<Record<string, string>> | undefined;
  /** what goes into a column, beside its statement, for a moment in RFC 3339 in UTC; default: that text */
  momentValue?: ((text: string) => string) | undefined;
  /** the same as an expression, of a mark such as `$1` */
  moment(mark: string): string;
  /** a sum as a whole number */
  whole(sum: string): string;
  /** texts of a group in one, those for which a condition holds; commas between */
  listed(text: string, condition: string, order: string): string;
  /** the text of a group that comes first in an order */
  firstOf(text: string, order: string): string;
  /** ms since 1970 of a moment, as BIGINT */
  epochMs(moment: string): string;
  /** the same in µs */
  epochMicros(moment: string): string;
  /** a query over a list of texts in JSON that gives each of them as `item` */
  textsOf(list: string): string;
  /** queries that give rows, in order; more than one where a statement takes only so many values */
  rowsOf(
    rows: readonly (readonly SqlCell[])[],
  ): readonly { readonly query: string; readonly values: readonly SqlValue[] }[];
  /** a column of each table that counts its rows as they come, where the warehouse has none of its own */
  readonly rowId: string | undefined;
  /** what keeps other processes from the ledger's runs until the transaction ends; default: there are no others */
  lockRuns?: ((table: string) => string) | undefined;
}

export type SqlCell = string | number | boolean | null;
/** A value beside its statement, which has `$1`, `$2`, … for it. */
export type SqlValue = SqlCell | bigint;
export type SqlRow = Readonly<Record<string, unknown>>;

/** One connection, whatever its driver: statements one at a time. */
export interface SqlConnection {
  run(sql: string, values?: readonly SqlValue[]): Promise<void>;
  /** whole numbers as bigint, number or text; times as texts or dates; booleans as such */
  rows(sql: string, values?: readonly SqlValue[]): Promise<readonly SqlRow[]>;
}
