/** The SQL that carries a stage into a table that is not ours: pure, as the plans beside it. */

import type { UserColumn } from "../../core/into/user-table.js";
import type { ColumnSchema } from "../../core/shape/table-shape.js";
import type { SqlDialect } from "./dialect.js";
import { SEQUENCE_COLUMN } from "./stage.js";
import type { Matches, SqlWork } from "./work.js";

/** A column that a field goes into. */
export interface Filled {
  readonly field: ColumnSchema;
  readonly column: UserColumn;
  /** it is of those by which a record is found again */
  readonly isKey: boolean;
}

const staged = (sql: SqlDialect, { field, column }: Filled) =>
  sql.userTables.assigned(`s.${sql.quoteName(field.name)}`, field.type, column);

const standing = (sql: SqlDialect, { column }: Filled) => `t.${sql.quoteName(column.name)}`;

/** `t.k = s.k AND …`, as the table's own index compares. */
function sameKey(sql: SqlDialect, filled: readonly Filled[]): string {
  const asKey = sql.userTables.asKey ?? sql.userTables.assigned;
  return filled
    .filter(({ isKey }) => isKey)
    .map((each) => {
      const { field, column } = each;
      return `${standing(sql, each)} = ${asKey(`s.${sql.quoteName(field.name)}`, field.type, column)}`;
    })
    .join(" AND ");
}

/** A condition: nothing of a row is other than what came. */
function isUnchanged(sql: SqlDialect, filled: readonly Filled[]): string {
  const same = sql.userTables.same ?? sql.same;
  const columns = filled.filter(({ isKey }) => !isKey);
  return ["TRUE", ...columns.map((each) => same(standing(sql, each), staged(sql, each), each.column))].join(
    " AND ",
  );
}

/** Records of a stage that stand in the table, and those of them that are equal in every column that is filled. */
export async function matchesOf(
  { sql, connection }: SqlWork,
  target: string,
  stage: string,
  filled: readonly Filled[],
): Promise<Matches> {
  const [row] = await connection.rows(
    `SELECT count(*) AS matched, count(CASE WHEN ${isUnchanged(sql, filled)} THEN 1 END) AS unchanged
     FROM ${stage} AS s JOIN ${target} AS t ON ${sameKey(sql, filled)}`,
  );
  return { matched: Number(row?.matched), unchanged: Number(row?.unchanged) };
}

/** Sets the columns of rows that are other than what came; triggers see no others. */
export function updateRows(
  sql: SqlDialect,
  target: string,
  stage: string,
  filled: readonly Filled[],
): string {
  const columns = filled.filter(({ isKey }) => !isKey);
  const set = columns.map((each) => [sql.quoteName(each.column.name), staged(sql, each)] as const);
  const where = `${sameKey(sql, filled)} AND NOT (${isUnchanged(sql, filled)})`;
  return sql.updateFrom(target, "t", Object.fromEntries(set), `${stage} AS s`, where);
}

/** Puts in what is not there, in the order in which it came. */
export function insertRows(
  sql: SqlDialect,
  target: string,
  stage: string,
  filled: readonly Filled[],
): string {
  const names = filled.map(({ column }) => sql.quoteName(column.name)).join(", ");
  const values = filled.map((each) => staged(sql, each)).join(", ");
  const key = sameKey(sql, filled);
  const isThere = key === "" ? "" : `WHERE NOT EXISTS (SELECT 1 FROM ${target} AS t WHERE ${key})`;
  return `INSERT INTO ${target} (${names}) SELECT ${values} FROM ${stage} AS s ${isThere} ORDER BY s.${SEQUENCE_COLUMN}`;
}

export function deleteRows(
  sql: SqlDialect,
  target: string,
  stage: string,
  filled: readonly Filled[],
): string {
  return sql.deleteFrom(target, "t", `${stage} AS s`, sameKey(sql, filled));
}
