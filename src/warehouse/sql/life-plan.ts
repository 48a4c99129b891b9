/** The SQL of records that are kept in several states, or marked as gone: pure, so that it can be read and tested. */

import {
  DELETED_COLUMN,
  RUN_COLUMN,
  STATE_COLUMN,
  VALID_FROM_COLUMN,
  VALID_TO_COLUMN,
} from "../../core/shape/own-columns.js";
import type { ColumnRole, TableSchema } from "../../core/shape/table-shape.js";
import type { NotOver } from "../warehouse.js";
import type { SqlDialect } from "./dialect.js";
import { equalKeys, isNumbered, orphansStatements, overNumbers, takeNumbered } from "./merge-plan.js";
import { SEQUENCE_COLUMN } from "./stage.js";

const list = (sql: SqlDialect, names: readonly string[], of = "") =>
  names.map((name) => `${of === "" ? "" : `${of}.`}${sql.quoteName(name)}`).join(", ");

/**
 * Statements that take out of the stages what stands in the target already, in all of some columns. `now`, where there
 * are versions: one that came and went at this very moment does not stand, and comes again.
 */
export function withoutStanding(
  sql: SqlDialect,
  stages: readonly string[],
  target: string,
  columns: readonly string[],
  now: string | undefined,
): string[] {
  const [root, ...children] = stages as [string, ...string[]];
  const holds =
    now === undefined ? "" : ` AND (t.${DELETED_COLUMN} IS NULL OR t.${VALID_FROM_COLUMN} <> ${now})`;
  const equal = equalKeys(sql, "s", columns, "t", columns);
  const stand = numbersWith(root, target, equal + holds);
  return [...takeNumbered(sql, root, stand), ...orphansStatements(sql, children, root)];
}

/** Statements that take out of the stages the records of which something newer stands. */
export function withoutNewer(
  sql: SqlDialect,
  stages: readonly string[],
  target: string,
  key: readonly string[],
  { run, column }: NotOver,
): string[] {
  const [root, ...children] = stages as [string, ...string[]];
  const later = [`t.${RUN_COLUMN} > ${run}`];
  if (column !== undefined) {
    const name = sql.quoteName(column);
    later.push(`t.${RUN_COLUMN} = ${run} AND t.${name} >= s.${name}`);
  }
  const isNewer = `${equalKeys(sql, "s", key, "t", key)} AND (${later.join(" OR ")})`;
  const newer = numbersWith(root, target, isNewer);
  return [...takeNumbered(sql, root, newer), ...orphansStatements(sql, children, root)];
}

/** The numbers of a stage's records for which a row of the target meets a condition. */
const numbersWith = (stage: string, target: string, condition: string) =>
  `SELECT s.${SEQUENCE_COLUMN} FROM ${stage} AS s JOIN ${target} AS t ON ${condition}`;

/** How many of the stage's records have nothing that stands yet. */
export function countNewQuery(
  sql: SqlDialect,
  stage: string,
  target: string,
  key: readonly string[],
): string {
  const distinct = `SELECT DISTINCT ${list(sql, key)} FROM ${stage}`;
  return `SELECT count(*) AS n FROM (${distinct}) AS s
    WHERE NOT EXISTS (SELECT 1 FROM ${target} AS t WHERE ${equalKeys(sql, "t", key, "s", key)})`;
}

/** Of a group of versions: none of them holds any more. */
const IS_GONE = `count(*) = count(o.${VALID_TO_COLUMN})`;
/** The time from which the last of them held. */
const HELD = `max(o.${VALID_FROM_COLUMN})`;

/**
 * Statements for records that were told to be gone and came again with no later time than they had: what came last of
 * each lives from now on.
 */
export function livesAgain(
  sql: SqlDialect,
  stages: readonly { readonly sqlName: string; readonly table: TableSchema }[],
  target: string,
  now: string,
): readonly string[] {
  const [root] = stages;
  if (root === undefined) return [];
  const { entityKey: key } = root.table;
  const own = `${list(sql, key)}, ${SEQUENCE_COLUMN}, ${VALID_FROM_COLUMN}`;
  const last = `SELECT ${own}, max(${VALID_FROM_COLUMN}) OVER (PARTITION BY ${list(sql, key)}) AS came FROM ${root.sqlName}`;
  const back = `SELECT l.${SEQUENCE_COLUMN} FROM (${last}) AS l JOIN ${target} AS o ON ${equalKeys(sql, "l", key, "o", key)}
    WHERE l.${VALID_FROM_COLUMN} = l.came GROUP BY l.${SEQUENCE_COLUMN}, l.came HAVING ${IS_GONE} AND l.came <= ${HELD}`;
  const lives = (stage: string, source: string) =>
    `UPDATE ${stage} SET ${VALID_FROM_COLUMN} = ${now} WHERE ${isNumbered(source)}`;
  return overNumbers(sql, back, (source) => stages.map(({ sqlName }) => lives(sqlName, source)));
}

/**
 * A statement for records that were told to be gone, by the clock here, and came again with a time of their own before
 * that: they were gone before that time. So what comes next counts by the times of the API alone, whatever the clock
 * here shows.
 */
export function goneEarlierStatement(
  sql: SqlDialect,
  target: string,
  stage: string,
  { entityKey: key }: TableSchema,
): string {
  const later = `SELECT ${list(sql, key, "s")}, s.${VALID_FROM_COLUMN}, ${HELD} AS held
    FROM ${stage} AS s JOIN ${target} AS o ON ${equalKeys(sql, "s", key, "o", key)}
    GROUP BY ${list(sql, key, "s")}, s.${VALID_FROM_COLUMN} HAVING ${IS_GONE} AND s.${VALID_FROM_COLUMN} > ${HELD}`;
  const back = `SELECT ${list(sql, key)}, held, min(${VALID_FROM_COLUMN}) AS came FROM (${later}) AS l
    GROUP BY ${list(sql, key)}, held`;
  return sql.updateFrom(
    target,
    "t",
    { [DELETED_COLUMN]: "b.came" },
    `(${back}) AS b`,
    `${equalKeys(sql, "t", key, "b", key)} AND t.${VALID_FROM_COLUMN} = b.held AND t.${DELETED_COLUMN} > b.came`,
  );
}

/** The versions of the stage's records that are as the one before them: nothing has changed then. */
function sameVersions(
  sql: SqlDialect,
  target: string,
  stage: string,
  { entityKey: key }: TableSchema,
): string {
  const order = `(PARTITION BY ${list(sql, key)} ORDER BY ${VALID_FROM_COLUMN})`;
  const versions = `SELECT ${list(sql, key)}, ${VALID_FROM_COLUMN}, ${STATE_COLUMN},
      lag(${STATE_COLUMN}) OVER ${order} AS state_before, lag(${DELETED_COLUMN}) OVER ${order} AS gone
    FROM ${target} AS v WHERE EXISTS (SELECT 1 FROM ${stage} AS s WHERE ${equalKeys(sql, "v", key, "s", key)})`;
  return `SELECT ${list(sql, key)}, ${VALID_FROM_COLUMN} FROM (${versions}) AS w
    WHERE ${STATE_COLUMN} = state_before AND gone IS NULL`;
}

/** How many versions are as the one before them. */
export function countSameQuery(sql: SqlDialect, target: string, stage: string, root: TableSchema): string {
  return `SELECT count(*) AS n FROM (${sameVersions(sql, target, stage, root)}) AS d`;
}

/** A statement that takes those away. */
export function collapseStatement(sql: SqlDialect, target: string, stage: string, root: TableSchema): string {
  const { entityKey: key } = root;
  return sql.deleteFrom(
    target,
    "t",
    `(${sameVersions(sql, target, stage, root)}) AS d`,
    `${equalKeys(sql, "t", key, "d", key)} AND t.${VALID_FROM_COLUMN} = d.${VALID_FROM_COLUMN}`,
  );
}

/** A statement that takes child rows away whose version is gone. */
export function withoutVersion(
  sql: SqlDialect,
  child: { readonly target: string; readonly table: TableSchema },
  root: { readonly target: string; readonly table: TableSchema },
  stage: string,
): string {
  const own = equalKeys(sql, "c", child.table.recordKey, "t", root.table.recordKey);
  const touched = equalKeys(sql, "c", child.table.entityKey, "s", root.table.entityKey);
  const isLeft = `EXISTS (SELECT 1 FROM ${stage} AS s WHERE ${touched})
    AND NOT EXISTS (SELECT 1 FROM ${root.target} AS t WHERE ${own})`;
  return sql.deleteFrom(child.target, "c", undefined, isLeft);
}

/** A statement that says of each version of the stage's records until when it held: the next one, or its end. */
export function untilStatement(sql: SqlDialect, target: string, stage: string, root: TableSchema): string {
  const { entityKey: key } = root;
  const next = `SELECT ${list(sql, key)}, ${VALID_FROM_COLUMN}, coalesce(${DELETED_COLUMN},
      lead(${VALID_FROM_COLUMN}) OVER (PARTITION BY ${list(sql, key)} ORDER BY ${VALID_FROM_COLUMN})) AS held_until
    FROM ${target} AS v WHERE EXISTS (SELECT 1 FROM ${stage} AS s WHERE ${equalKeys(sql, "v", key, "s", key)})`;
  return sql.updateFrom(
    target,
    "t",
    { [VALID_TO_COLUMN]: "n.held_until" },
    `(${next}) AS n`,
    `${equalKeys(sql, "t", key, "n", key)} AND t.${VALID_FROM_COLUMN} = n.${VALID_FROM_COLUMN}
      AND NOT (${sql.same(`t.${VALID_TO_COLUMN}`, "n.held_until")})`,
  );
}

/** A statement that gives child rows the end of their version, and when their record was gone. */
export function followStatement(
  sql: SqlDialect,
  child: { readonly target: string; readonly table: TableSchema },
  root: { readonly target: string; readonly table: TableSchema },
  stage: string,
): string {
  const touched = equalKeys(sql, "t", root.table.entityKey, "s", root.table.entityKey);
  const ends = `SELECT * FROM ${root.target} AS t WHERE EXISTS (SELECT 1 FROM ${stage} AS s WHERE ${touched})`;
  const told = [VALID_TO_COLUMN, DELETED_COLUMN];
  const isAsTold = told.map((column) => sql.same(`c.${column}`, `r.${column}`)).join(" AND ");
  return sql.updateFrom(
    child.target,
    "c",
    Object.fromEntries(told.map((column) => [column, `r.${column}`])),
    `(${ends}) AS r`,
    `${equalKeys(sql, "c", child.table.recordKey, "r", root.table.recordKey)} AND NOT (${isAsTold})`,
  );
}

/** A statement that marks what is there of the stage's records as gone; of versions, the one that holds. */
export function markStatement(
  sql: SqlDialect,
  target: string,
  table: TableSchema,
  gone: { readonly stage: string; readonly key: readonly string[] },
  now: string,
): string {
  const hasVersions = table.columns.some(({ role }) => role === "valid_to");
  // a version may begin later than the clock here shows
  const ended = hasVersions
    ? `CASE WHEN t.${VALID_FROM_COLUMN} > ${now} THEN t.${VALID_FROM_COLUMN} ELSE ${now} END`
    : now;
  const set = { [DELETED_COLUMN]: ended, ...(hasVersions ? { [VALID_TO_COLUMN]: ended } : {}) };
  const lives = `t.${DELETED_COLUMN} IS NULL${hasVersions ? ` AND t.${VALID_TO_COLUMN} IS NULL` : ""}`;
  const isTold = `${equalKeys(sql, "t", table.entityKey, "s", gone.key)} AND ${lives}`;
  return sql.updateFrom(target, "t", set, `${gone.stage} AS s`, isTold);
}

/** The rows of the stream's own table whose records live, in their present state. */
function livingRows({ columns }: TableSchema): string {
  const has = (wanted: ColumnRole) => columns.some(({ role }) => role === wanted);
  const deleted = has("deleted") ? [`t.${DELETED_COLUMN} IS NULL`] : [];
  const ended = has("valid_to") ? [`t.${VALID_TO_COLUMN} IS NULL`] : [];
  return [...deleted, ...ended, "TRUE"].join(" AND ");
}

/** How many records live, of those that a condition holds for. */
export function countRecordsQuery(target: string, root: TableSchema, condition = "TRUE"): string {
  return `SELECT count(*) AS n FROM ${target} AS t WHERE ${livingRows(root)} AND ${condition}`;
}

/** A statement that puts into a stage the keys of records that stand and are not in another; not those of this run. */
export function missingStatement(
  sql: SqlDialect,
  stages: { readonly gone: string; readonly living: string },
  target: string,
  root: TableSchema,
  run: number,
  condition = "TRUE",
): string {
  const { entityKey: key } = root;
  return `INSERT INTO ${stages.gone} (${SEQUENCE_COLUMN}, ${list(sql, key)})
    SELECT 0, ${list(sql, key, "t")} FROM ${target} AS t
    WHERE ${livingRows(root)} AND t.${RUN_COLUMN} <> ${run} AND ${condition}
      AND NOT EXISTS (SELECT 1 FROM ${stages.living} AS s WHERE ${equalKeys(sql, "t", key, "s", key)})`;
}

/** How many of the records told to be gone are there and not marked yet. */
export function countLivingQuery(
  sql: SqlDialect,
  target: string,
  key: readonly string[],
  gone: { readonly stage: string; readonly key: readonly string[] },
  hasMark: boolean,
): string {
  const lives = hasMark ? ` AND t.${DELETED_COLUMN} IS NULL` : "";
  const held = `SELECT 1 FROM ${target} AS t WHERE ${equalKeys(sql, "t", key, "s", gone.key)}${lives}`;
  return `SELECT count(*) AS n FROM ${gone.stage} AS s WHERE EXISTS (${held})`;
}
