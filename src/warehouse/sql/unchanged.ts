/**
 * Records that came again as they stand, children as well: they leave the stages, and their rows are not written anew.
 * What an overlap or a whole reading brings once more then costs a comparison, and `eb_run` tells who changed a row.
 */

import type { TableSchema } from "../../core/shape/table-shape.js";
import type { SqlDialect } from "./dialect.js";
import { equalKeys, isNumbered, takeNumbered } from "./merge-plan.js";
import { NUMBERS, SEQUENCE_COLUMN } from "./stage.js";
import { type Matches, NO_MATCHES, type SqlWork } from "./work.js";

/** A table of the stream as it stands, and what waits for it, where anything does. */
export interface ComparedTable {
  readonly table: TableSchema;
  readonly target: string;
  readonly stage: string | undefined;
}

/** What came of the comparison: records that are taken out, and what is known of the others. */
export interface Compared {
  readonly unchanged: number;
  readonly matches: Matches;
}

type StagedRoot = ComparedTable & { readonly stage: string };

/** Numbers of records, between two statements of one connection. */
const SAME = "eb_same";

/**
 * Compares what came with what stands, and takes what is the same out of the stages. `tables`: the stream's own first,
 * which has a stage. `mayTake` is asked before anything is taken, and makes the stages open to changes.
 */
export async function takeUnchanged(
  work: SqlWork,
  tables: readonly ComparedTable[],
  mayTake: () => Promise<boolean>,
): Promise<Compared> {
  const [root, ...children] = tables as [StagedRoot, ...ComparedTable[]];
  const { sql } = work;
  const matched = await work.countShared(root.stage, root.target, root.table.entityKey);
  if (matched === 0) return { unchanged: 0, matches: NO_MATCHES };
  await work.run([
    `CREATE TEMPORARY TABLE ${SAME} AS ${sameRoots(sql, root)}`,
    ...(sql.findable?.(SAME, NUMBERS) ?? []),
  ]);
  try {
    const same = await work.countRows(SAME);
    const matches = { matched, unchanged: same };
    if (same === 0 || !(await mayTake())) return { unchanged: 0, matches };
    for (const child of children)
      for (const others of otherRecords(sql, root, child)) await work.run(takeNumbered(sql, SAME, others));
    const unchanged = await takeOut(work, root, children);
    return { unchanged, matches: { matched: matched - unchanged, unchanged: same - unchanged } };
  } finally {
    await work.run([`DROP TABLE ${SAME}`]);
  }
}

/** Takes records out of the stages by their numbers; how many there were. */
async function takeOut(work: SqlWork, root: StagedRoot, children: readonly ComparedTable[]): Promise<number> {
  const unchanged = await work.countRows(SAME);
  if (unchanged === 0) return 0;
  const staged = children.flatMap(({ stage }) => stage ?? []);
  const isAll = unchanged === (await work.countRows(root.stage));
  await work.run(
    [root.stage, ...staged].map((stage) =>
      isAll ? `TRUNCATE TABLE ${stage}` : `DELETE FROM ${stage} WHERE ${isNumbered(SAME)}`,
    ),
  );
  return unchanged;
}

/** The numbers of records whose own row is as it stands. */
function sameRoots(sql: SqlDialect, { table, stage, target }: StagedRoot): string {
  const { entityKey } = table;
  return `SELECT s.${SEQUENCE_COLUMN} FROM ${stage} AS s JOIN ${target} AS t
    ON ${equalKeys(sql, "t", entityKey, "s", entityKey)} WHERE ${sameColumns(sql, table)}`;
}

/** Queries for those whose rows in a child table are others. */
function otherRecords(sql: SqlDialect, root: StagedRoot, child: ComparedTable): string[] {
  return [
    ...(child.stage === undefined ? [] : [otherRows(sql, child, child.stage)]),
    otherCounts(sql, root, child),
  ];
}

/** Records with a row that does not stand so. */
function otherRows(sql: SqlDialect, { table, target }: ComparedTable, stage: string): string {
  const key = [...table.entityKey, ...placesOf(table)];
  return `SELECT s.${SEQUENCE_COLUMN} FROM ${stage} AS s LEFT JOIN ${target} AS t
    ON ${equalKeys(sql, "t", key, "s", key)} AND ${sameColumns(sql, table)}
    WHERE t.${sql.quoteName(table.entityKey[0]!)} IS NULL`;
}

/** Records of which more, or fewer, rows stand than came. */
function otherCounts(sql: SqlDialect, root: StagedRoot, { table, target, stage }: ComparedTable): string {
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
