/** The SQL that carries a stage into its tables: pure, so that it can be read and tested without a database. */

import { type ColumnType, formatColumnType, sameType } from "../../core/shape/column-type.js";
import { LOADED_COLUMN, RUN_COLUMN } from "../../core/shape/shape.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { SchemaChange } from "../warehouse.js";
import { SEQUENCE_COLUMN } from "./stage.js";
import { quoteName, sqlType, widenExpression } from "./types.js";

/** A table as it stands in the warehouse: column types by name. */
export type StandingTable = ReadonlyMap<string, ColumnType>;

export interface TablePlan {
  readonly statements: readonly string[];
  readonly changes: readonly SchemaChange[];
}

/** Statements that bring a standing table (or none) to the schema. Columns are added, types widened. */
export function planTable(
  target: string,
  schema: TableSchema,
  standing: StandingTable | undefined,
): TablePlan {
  const { name: table } = schema;
  if (standing === undefined) {
    const columns = schema.columns.map(({ name, type }) => `${quoteName(name)} ${sqlType(type)}`);
    const own = [`${RUN_COLUMN} BIGINT`, `${LOADED_COLUMN} TIMESTAMPTZ`];
    return {
      statements: [`CREATE TABLE ${target} (${[...columns, ...own].join(", ")})`],
      changes: [{ table, column: undefined, change: "table_added" }],
    };
  }
  const statements: string[] = [];
  const changes: SchemaChange[] = [];
  for (const { name: column, type } of schema.columns) {
    const old = standing.get(column);
    const toType = formatColumnType(type);
    if (old === undefined) {
      statements.push(`ALTER TABLE ${target} ADD COLUMN ${quoteName(column)} ${sqlType(type)}`);
      changes.push({ table, column, change: "column_added", toType });
    } else if (!sameType(old, type)) {
      const using = widenExpression(column, old, type);
      statements.push(
        `ALTER TABLE ${target} ALTER COLUMN ${quoteName(column)} TYPE ${sqlType(type)} USING ${using}`,
      );
      changes.push({ table, column, change: "type_widened", fromType: formatColumnType(old), toType });
    }
  }
  return { statements, changes };
}

/** `a.k = b.k AND …` over columns. */
export function equalKeys(
  left: string,
  leftKey: readonly string[],
  right: string,
  rightKey: readonly string[],
): string {
  return leftKey
    .map((name, i) => `${left}.${quoteName(name)} = ${right}.${quoteName(rightKey[i]!)}`)
    .join(" AND ");
}

/** Statements that leave the last of several rows of one record in the stages, children as well. */
export function dedupeStatements(stages: readonly string[], key: readonly string[]): string[] {
  const root = stages[0]!;
  const columns = key.map(quoteName).join(", ");
  const last = `SELECT ${columns}, max(${SEQUENCE_COLUMN}) AS last FROM ${root} GROUP BY ALL HAVING count(*) > 1`;
  return [
    `DELETE FROM ${root} AS s USING (${last}) AS d WHERE ${equalKeys("s", key, "d", key)} AND s.${SEQUENCE_COLUMN} < d.last`,
    ...stages
      .slice(1)
      .map(
        (stage) =>
          `DELETE FROM ${stage} WHERE ${SEQUENCE_COLUMN} NOT IN (SELECT ${SEQUENCE_COLUMN} FROM ${root})`,
      ),
  ];
}

/** Counts of all rows in the stage and of different keys among them. */
export function countKeysQuery(stage: string, key: readonly string[]): string {
  const columns = key.map(quoteName).join(", ");
  return `SELECT count(*) AS all_rows, count(DISTINCT ${key.length === 1 ? columns : `(${columns})`}) AS keys FROM ${stage}`;
}

/** How many of the stage's records stand in the target, and how many of them are equal in every column. */
export function countMatchesQuery(stage: string, target: string, schema: TableSchema): string {
  const unchanged = schema.columns.map(
    ({ name }) => `t.${quoteName(name)} IS NOT DISTINCT FROM s.${quoteName(name)}`,
  );
  return `SELECT count(*) AS matched, count(*) FILTER (WHERE ${["true", ...unchanged].join(" AND ")}) AS unchanged
    FROM ${stage} AS s JOIN ${target} AS t ON ${equalKeys("t", schema.recordKey, "s", schema.recordKey)}`;
}

/** A standing table's shared columns as the schema now has them: what does not fit a type any more is NULL. */
export function readAs(target: string, schema: TableSchema, standing: StandingTable): string {
  const columns = schema.columns.flatMap(({ name, type }) => {
    const old = standing.get(name);
    if (old === undefined) return [];
    const value = sameType(old, type) ? quoteName(name) : `TRY(${widenExpression(name, old, type)})`;
    return [`${value} AS ${quoteName(name)}`];
  });
  return `(SELECT ${columns.join(", ")} FROM ${target})`;
}

/** Removes from a target the rows of all records that are in the root's stage. */
export function deleteStatement(
  target: string,
  key: readonly string[],
  rootStage: string,
  rootKey: readonly string[],
): string {
  return `DELETE FROM ${target} AS t USING ${rootStage} AS s WHERE ${equalKeys("t", key, "s", rootKey)}`;
}

/** Copies a stage into its target, in the order in which the rows came. */
export function insertStatement(
  target: string,
  stage: string,
  schema: TableSchema,
  run: number,
  loadedAtMs: number,
): string {
  const columns = schema.columns.map(({ name }) => quoteName(name)).join(", ");
  return `INSERT INTO ${target} (${columns}, ${RUN_COLUMN}, ${LOADED_COLUMN})
    SELECT ${columns}, ${run}, to_timestamp(${loadedAtMs / 1000}) FROM ${stage}`;
}
