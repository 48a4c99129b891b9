/**
 * The SQL that carries a stage into its tables, for every warehouse that speaks SQL: pure, so that it can be
 * read and tested without one.
 */

import { type ColumnType, formatColumnType, sameType } from "../../core/shape/column-type.js";
import { LOADED_COLUMN, RUN_COLUMN } from "../../core/shape/own-columns.js";
import type { ColumnSchema, TableSchema } from "../../core/shape/table-shape.js";
import type { SchemaChange } from "../warehouse.js";
import type { MadeTable, SqlDialect, StandingColumns, Widening } from "./dialect.js";
import { NUMBERS, SEQUENCE_COLUMN } from "./stage.js";

/** A table as it stands in the warehouse. */
export type StandingTable = StandingColumns;

export interface TablePlan {
  readonly statements: readonly string[];
  readonly changes: readonly SchemaChange[];
}

/**
 * Statements that bring a standing table (or none) to the schema. Columns are added, then types widened. `made`: what
 * makes the table, where it is not to be made empty.
 */
export function planTable(
  sql: SqlDialect,
  target: string,
  schema: TableSchema,
  standing: StandingTable | undefined,
  { at, made }: { readonly at?: MadeTable | undefined; readonly made?: readonly string[] | undefined } = {},
): TablePlan {
  const { name: table } = schema;
  if (standing === undefined) {
    const columns = schema.columns.map(({ name, type }) => columnOf(sql, name, type));
    const own = [
      columnOf(sql, RUN_COLUMN, { kind: "int64" }),
      columnOf(sql, LOADED_COLUMN, { kind: "timestamp" }),
    ];
    const make = made ?? [
      `CREATE TABLE ${target} (${[...columns, ...own].join(", ")})${sql.tableOptions ?? ""}`,
    ];
    return {
      statements: [...make, ...commentsOn(sql, target, schema)],
      changes: [{ table, column: undefined, change: "table_added", path: schema.path }],
    };
  }
  const added: string[] = [];
  const wider: Widening[] = [];
  const changes: SchemaChange[] = [];
  for (const { name: column, type, description, path, example } of schema.columns) {
    const old = standing.get(column);
    const toType = formatColumnType(type);
    if (old === undefined) {
      added.push(...addColumn(sql, target, column, type));
      added.push(...commentOn(sql, target, { name: column, type }, description));
      changes.push({ table, column, change: "column_added", toType, path, example });
    } else if (!sameType(old, type)) {
      wider.push({ column, from: old, to: type });
      const fromType = formatColumnType(old);
      changes.push({ table, column, change: "type_widened", fromType, toType, path, example });
    }
  }
  const widened = wider.length === 0 ? [] : sql.widen(target, wider, at);
  return { statements: [...added, ...widened], changes };
}

/** Statements that note what a table and its columns hold. */
export function commentsOn(sql: SqlDialect, target: string, { description, columns }: TableSchema): string[] {
  return [
    ...commentOn(sql, target, undefined, description),
    ...columns.flatMap((column) => commentOn(sql, target, column, column.description)),
  ];
}

function commentOn(
  sql: SqlDialect,
  target: string,
  column: Pick<ColumnSchema, "name" | "type"> | undefined,
  text: string | undefined,
) {
  return text === undefined || sql.comment === undefined
    ? []
    : [sql.comment(target, column?.name, text, column?.type)];
}

function addColumn(sql: SqlDialect, target: string, column: string, type: ColumnType): readonly string[] {
  return (
    sql.addColumn?.(target, column, type) ?? [
      `ALTER TABLE ${target} ADD COLUMN ${columnOf(sql, column, type)}`,
    ]
  );
}

function columnOf(sql: SqlDialect, name: string, type: ColumnType): string {
  return `${sql.quoteName(name)} ${sql.typeName(type)}`;
}

/** Statements that make a stage, or bring it to a schema: columns come at the end, types widen. */
export function stageStatements(
  sql: SqlDialect,
  { stage, temporary }: { readonly stage: string; readonly temporary: boolean },
  before: readonly ColumnSchema[],
  schema: TableSchema,
): string[] {
  if (before.length === 0) {
    const columns = schema.columns.map(({ name, type }) => columnOf(sql, name, type));
    const sequence = `${SEQUENCE_COLUMN} ${sql.typeName({ kind: "int64" })}`;
    return [`CREATE ${temporary ? "TEMPORARY " : ""}TABLE ${stage} (${[sequence, ...columns].join(", ")})`];
  }
  const known = new Map(before.map((column) => [column.name, column]));
  return schema.columns.flatMap(({ name, type }) => {
    const old = known.get(name);
    if (old === undefined) return addColumn(sql, stage, name, type);
    return sameType(old.type, type) ? [] : sql.widen(stage, [{ column: name, from: old.type, to: type }]);
  });
}

/** The columns in the order of the stage: known ones first, in their old order. */
export function stageColumns(before: readonly ColumnSchema[], schema: TableSchema): ColumnSchema[] {
  const known = new Set(before.map(({ name }) => name));
  return [
    ...before.map((old) => schema.columns.find(({ name }) => name === old.name) ?? old),
    ...schema.columns.filter(({ name }) => !known.has(name)),
  ];
}

/** `a.k = b.k AND …` over columns. */
export function equalKeys(
  sql: SqlDialect,
  left: string,
  leftKey: readonly string[],
  right: string,
  rightKey: readonly string[],
): string {
  return leftKey
    .map((name, i) => `${left}.${sql.quoteName(name)} = ${right}.${sql.quoteName(rightKey[i]!)}`)
    .join(" AND ");
}

/** Statements that leave the last of several rows of one record in the stages, children as well. */
export function dedupeStatements(
  sql: SqlDialect,
  stages: readonly string[],
  key: readonly string[],
): string[] {
  const root = stages[0]!;
  const columns = key.map((name) => sql.quoteName(name)).join(", ");
  const last = `max(${SEQUENCE_COLUMN}) OVER (PARTITION BY ${columns})`;
  const earlier = `SELECT ${SEQUENCE_COLUMN} FROM (SELECT ${SEQUENCE_COLUMN}, ${last} AS last FROM ${root}) AS w
    WHERE ${SEQUENCE_COLUMN} < last`;
  return [...takeNumbered(sql, root, earlier), ...orphansStatements(sql, stages.slice(1), root)];
}

/** Statements over the numbers of records that a query gives, which reads what they change. */
export function overNumbers(
  sql: SqlDialect,
  query: string,
  statements: (source: string) => readonly string[],
): readonly string[] {
  return sql.overNumbers?.(query, statements) ?? statements(`(${query})`);
}

/** A condition: the number of a record is among those of a source. */
export const isNumbered = (source: string) =>
  `${SEQUENCE_COLUMN} IN (SELECT ${SEQUENCE_COLUMN} FROM ${source} AS o)`;

/** Statements that take rows out of a table by the numbers that a query gives. */
export const takeNumbered = (sql: SqlDialect, table: string, numbers: string): readonly string[] =>
  overNumbers(sql, numbers, (source) => [`DELETE FROM ${table} WHERE ${isNumbered(source)}`]);

/** Counts of all rows in the stage and of different keys among them. */
export function countKeysQuery(sql: SqlDialect, stage: string, key: readonly string[]): string {
  const columns = key.map((name) => sql.quoteName(name)).join(", ");
  const byKey = `SELECT count(*) AS times FROM ${stage} GROUP BY ${columns}`;
  return `SELECT coalesce(sum(times), 0) AS all_rows, count(*) AS different FROM (${byKey}) AS by_key`;
}

/**
 * Statements that leave, of a record that came and also went, what was told of it last: those that take removals away,
 * and those that take rows away.
 */
export function lastWordStatements(
  sql: SqlDialect,
  came: string,
  children: readonly string[],
  gone: string,
  key: readonly string[],
): { readonly removals: readonly string[]; readonly rows: readonly string[] } {
  const columns = key.map((name) => sql.quoteName(name)).join(", ");
  const both = (of: string, than: string) =>
    `SELECT ${columns}, ${SEQUENCE_COLUMN}, 1 AS is_of FROM ${of}
     UNION ALL SELECT ${columns}, ${SEQUENCE_COLUMN}, 0 FROM ${than}`;
  const last = `max(CASE WHEN is_of = 0 THEN ${SEQUENCE_COLUMN} END) OVER (PARTITION BY ${columns})`;
  const earlier = (of: string, than: string) =>
    takeNumbered(
      sql,
      of,
      `SELECT ${SEQUENCE_COLUMN} FROM (SELECT ${SEQUENCE_COLUMN}, is_of, ${last} AS last FROM (${both(of, than)}) AS u) AS w
       WHERE is_of = 1 AND ${SEQUENCE_COLUMN} < last`,
    );
  return {
    removals: earlier(gone, came),
    rows: [...earlier(came, gone), ...orphansStatements(sql, children, came)],
  };
}

/** Delete child rows whose record is no longer in the stage. */
export function orphansStatements(sql: SqlDialect, children: readonly string[], root: string): string[] {
  if (children.length === 0) return [];
  const numbers = `SELECT ${SEQUENCE_COLUMN} FROM ${root}`;
  return [
    ...(sql.findable?.(root, NUMBERS) ?? []),
    ...children.map((child) => `DELETE FROM ${child} WHERE ${SEQUENCE_COLUMN} NOT IN (${numbers})`),
  ];
}

/** How many records two tables have in common. */
export function countSharedQuery(
  sql: SqlDialect,
  left: string,
  right: string,
  key: readonly string[],
): string {
  return `SELECT count(*) AS shared FROM ${left} AS a JOIN ${right} AS b ON ${equalKeys(sql, "a", key, "b", key)}`;
}

/** How many of the stage's records stand in the target, and how many of them are equal in every column. */
export function countMatchesQuery(
  sql: SqlDialect,
  stage: string,
  target: string,
  schema: TableSchema,
): string {
  const columns = schema.columns.map(({ name }) => sql.quoteName(name));
  const on = equalKeys(sql, "t", schema.recordKey, "s", schema.recordKey);
  if (sql.digestOf !== undefined && columns.length > 0) {
    const key = schema.recordKey.map((name) => sql.quoteName(name)).join(", ");
    const digests = (of: string) => `(SELECT ${key}, ${sql.digestOf!(columns)} AS eb_digest FROM ${of})`;
    return `SELECT count(*) AS matched, count(CASE WHEN s.eb_digest = t.eb_digest THEN 1 END) AS unchanged
      FROM ${digests(stage)} AS s JOIN ${digests(target)} AS t ON ${on}`;
  }
  const unchanged = columns.map((name) => sql.same(`t.${name}`, `s.${name}`));
  return `SELECT count(*) AS matched, count(CASE WHEN ${["TRUE", ...unchanged].join(" AND ")} THEN 1 END) AS unchanged
    FROM ${stage} AS s JOIN ${target} AS t ON ${on}`;
}

/** A standing table's shared columns as the schema now has them, and each row's run; what does not fit is NULL. */
export function readAs(
  sql: SqlDialect,
  target: string,
  schema: TableSchema,
  standing: StandingTable,
): string {
  const columns = schema.columns.flatMap(({ name, type }) => {
    const old = standing.get(name);
    if (old === undefined) return [];
    const value = sameType(old, type) ? sql.quoteName(name) : sql.fitted(name, old, type);
    return [`${value} AS ${sql.quoteName(name)}`];
  });
  return `(SELECT ${[...columns, RUN_COLUMN].join(", ")} FROM ${target})`;
}

/** Removes from a target the rows of all records that are in the root's stage. */
export function deleteStatement(
  sql: SqlDialect,
  target: string,
  key: readonly string[],
  rootStage: string,
  rootKey: readonly string[],
): string {
  return sql.deleteFrom(target, "t", `${rootStage} AS s`, equalKeys(sql, "t", key, "s", rootKey));
}

/** Copies a stage into its target, in the order in which the rows came. */
export function insertStatement(
  sql: SqlDialect,
  target: string,
  stage: string,
  schema: TableSchema,
  { run, loadedAtMs }: { readonly run: number; readonly loadedAtMs: number },
): string {
  const columns = schema.columns.map(({ name }) => sql.quoteName(name)).join(", ");
  return `INSERT INTO ${target} (${columns}, ${RUN_COLUMN}, ${LOADED_COLUMN})
    SELECT ${columns}, ${run}, ${sql.instant(loadedAtMs)} FROM ${stage}`;
}
