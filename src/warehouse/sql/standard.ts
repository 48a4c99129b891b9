/** Statements as most dialects write them. */

import type { ColumnType } from "../../core/shape/column-type.js";
import type { LedgerSql, SqlDialect, Widening } from "./dialect.js";

type Named = Pick<SqlDialect, "quoteName" | "typeName" | "widened">;

/** Rows that another source decides about, deleted or changed; a column that gets a wider type. */
export const STANDARD = Object.freeze({
  same: (left: string, right: string) => `${left} IS NOT DISTINCT FROM ${right}`,

  deleteFrom: (target: string, alias: string, source: string | undefined, where: string) =>
    `DELETE FROM ${target} AS ${alias}${source === undefined ? "" : ` USING ${source}`} WHERE ${where}`,

  updateFrom: (
    target: string,
    alias: string,
    set: Readonly<Record<string, string>>,
    source: string,
    where: string,
  ) => {
    const changes = Object.entries(set).map(([column, value]) => `${column} = ${value}`);
    return `UPDATE ${target} AS ${alias} SET ${changes.join(", ")} FROM ${source} WHERE ${where}`;
  },
});

/** The ledger's words as most dialects have them. */
export const STANDARD_LEDGER = Object.freeze({
  moment: (mark: string) => `CAST(${mark} AS TIMESTAMPTZ)`,
  whole: (sum: string) => `CAST(${sum} AS BIGINT)`,
  listed: (text: string, condition: string, order: string) =>
    `string_agg(${text}, ', ' ORDER BY ${order}) FILTER (WHERE ${condition})`,
  firstOf: (text: string, order: string) => `(array_agg(${text} ORDER BY ${order}))[1]`,
});

/** Rows as lists of values, so many rows of a width in each statement; a word before each row. */
export const listsOf =
  (mostRows: (width: number) => number, word = ""): LedgerSql["rowsOf"] =>
  (rows) => {
    const width = rows[0]!.length;
    const most = Math.max(1, mostRows(width));
    const pieces = [];
    for (let from = 0; from < rows.length; from += most) {
      const some = rows.slice(from, from + most);
      const marks = some.map((row, r) => `${word}(${row.map((_, c) => `$${r * width + c + 1}`).join(", ")})`);
      pieces.push({ query: `VALUES ${marks.join(", ")}`, values: some.flat() });
    }
    return pieces;
  };

/** Whether JSON has the value in quotes. */
export function isWrittenAsText({ kind }: ColumnType): boolean {
  return (
    kind === "text" || kind === "uuid" || kind === "date" || kind.endsWith("timestamp") || kind === "bytes"
  );
}

/** What gives a column a wider type, every value kept, behind ALTER TABLE. */
export function widenColumn(sql: Named, { column, from, to }: Widening): string {
  return `ALTER COLUMN ${sql.quoteName(column)} TYPE ${sql.typeName(to)} USING ${sql.widened(column, from, to)}`;
}
