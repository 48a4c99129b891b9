/**
 * Records that came again as they stand, children as well: they leave the stages, and their rows are not written anew.
 * What an overlap or a whole reading brings once more then costs a comparison, and `eb_run` tells who changed a row.
 */

import type { TableSchema } from "../../core/shape/table-shape.js";
import type { SqlDialect } from "./dialect.js";
import { equalKeys, orphansStatement } from "./merge-plan.js";
import { SEQUENCE_COLUMN } from "./stage.js";
import type { SqlWork } from "./work.js";

/** A table of the stream as it stands, and what waits for it, where anything does. */
export interface ComparedTable {
  readonly table: TableSchema;
  readonly target: string;
  readonly stage: string | undefined;
}

/** Numbers of records, between two statements of one connection. */
const SAME = "eb_same";

/** Takes them out of the stages; how many there are. `tables`: the stream's own first, which has a stage. */
export async function takeUnchanged(work: SqlWork, tables: readonly ComparedTable[]): Promise<number> {
  const [root, ...children] = tables as [ComparedTable & { stage: string }, ...ComparedTable[]];
  await work.run([`CREATE TEMPORARY TABLE ${SAME} AS ${unchangedQuery(work.sql, root, children)}`]);
  try {
    const unchanged = await work.countRows(SAME);
    if (unchanged === 0) return 0;
    const same = `SELECT ${SEQUENCE_COLUMN} FROM ${SAME}`;
    const left = children.flatMap(({ stage }) =>
      stage === undefined ? [] : orphansStatement(stage, root.stage),
    );
    await work.run([`DELETE FROM ${root.stage} WHERE ${SEQUENCE_COLUMN} IN (${same})`, ...left]);
    return unchanged;
  } finally {
    await work.run([`DROP TABLE ${SAME}`]);
  }
}

function unchangedQuery(
  sql: SqlDialect,
  root: ComparedTable & { readonly stage: string },
  children: readonly ComparedTable[],
): string {
  const { entityKey } = root.table;
  const others = children.flatMap((child) => [
    ...(child.stage === undefined ? [] : [otherRows(sql, child, child.stage)]),
    otherCounts(sql, root, child),
  ]);
  const conditions = others.map((query) => `AND s.${SEQUENCE_COLUMN} NOT IN (${query})`);
  return `SELECT s.${SEQUENCE_COLUMN} FROM ${root.stage} AS s JOIN ${root.target} AS t
    ON ${equalKeys(sql, "t", entityKey, "s", entityKey)} WHERE ${sameColumns(sql, root.table)} ${conditions.join(" ")}`;
}

/** Records with a row that does not stand so. */
function otherRows(sql: SqlDialect, { table, target }: ComparedTable, stage: string): string {
  const key = [...table.entityKey, ...placesOf(table)];
  return `SELECT s.${SEQUENCE_COLUMN} FROM ${stage} AS s LEFT JOIN ${target} AS t
    ON ${equalKeys(sql, "t", key, "s", key)} AND ${sameColumns(sql, table)}
    WHERE t.${sql.quoteName(table.entityKey[0]!)} IS NULL`;
}

/** Records of which more, or fewer, rows stand than came. */
function otherCounts(
  sql: SqlDialect,
  root: ComparedTable & { readonly stage: string },
  { table, target, stage }: ComparedTable,
): string {
  const link = equalKeys(sql, "t", table.entityKey, "s", root.table.entityKey);
  const stand = `SELECT s.${SEQUENCE_COLUMN}, count(*) AS n FROM ${root.stage} AS s JOIN ${target} AS t ON ${link} GROUP BY s.${SEQUENCE_COLUMN}`;
  if (stage === undefined) return `SELECT a.${SEQUENCE_COLUMN} FROM (${stand}) AS a`;
  const came = `SELECT ${SEQUENCE_COLUMN}, count(*) AS n FROM ${stage} GROUP BY ${SEQUENCE_COLUMN}`;
  return `SELECT a.${SEQUENCE_COLUMN} FROM (${stand}) AS a LEFT JOIN (${came}) AS b
    ON a.${SEQUENCE_COLUMN} = b.${SEQUENCE_COLUMN} WHERE b.n IS NULL OR b.n <> a.n`;
}

/** Columns that say where in a list or map a row stands; they always have a value. */
const placesOf = ({ columns }: TableSchema) =>
  columns.filter(({ role }) => role === "position" || role === "map_key").map(({ name }) => name);

function sameColumns(sql: SqlDialect, { columns, entityKey }: TableSchema): string {
  const others = columns.filter(({ name }) => !entityKey.includes(name));
  const same = others.map(({ name }) => sql.same(`t.${sql.quoteName(name)}`, `s.${sql.quoteName(name)}`));
  return ["1 = 1", ...same].join(" AND ");
}
