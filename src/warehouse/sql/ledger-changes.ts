/** The journal of changes to the tables' form. */

import type { JournaledChange, LoadOptions, SchemaChange } from "../warehouse.js";
import type { SqlCell, SqlDialect, SqlRow } from "./dialect.js";
import { textOrNothing, timestamp } from "./ledger-rows.js";
import { ledgerSchema } from "./ledger-schema.js";

export function changeRows(
  { run, schema, bridge, stream }: Pick<LoadOptions, "run" | "schema" | "bridge" | "stream">,
  changes: readonly SchemaChange[],
  atMs: number,
): (readonly SqlCell[])[] {
  return changes.map(
    ({ table, column = null, change, fromType = null, toType = null, path = null, example = null }) => [
      ...[run, schema, table, column, change, fromType, toType, timestamp(atMs)],
      ...[bridge, stream, path, example],
    ],
  );
}

/** Those of a bridge, or all; a ledger of an older version tells no bridge of its first ones. */
export function changesQuery(sql: SqlDialect, bridge: string | undefined) {
  const ledger = ledgerSchema(sql);
  const of = bridge === undefined ? "" : "WHERE coalesce(c.bridge, r.bridge) = $1";
  const columns = [
    "run",
    "stream",
    "table_schema",
    "table_name",
    "column_name",
    "change",
    "from_type",
    "to_type",
    "path",
  ];
  const query = `SELECT ${columns.map((name) => `c.${sql.quoteName(name)}`).join(", ")}, c.example,
      coalesce(c.bridge, r.bridge) AS bridge, ${sql.ledger.epochMs("c.changed_at")} AS at
    FROM ${ledger}.schema_changes AS c LEFT JOIN ${ledger}.runs AS r ON r.run = c.run ${of}
    ORDER BY c.run, c.changed_at, c.table_name, c.column_name IS NOT NULL, c.column_name`;
  return { query, values: bridge === undefined ? [] : [bridge] };
}

export function journaledChange(row: SqlRow): JournaledChange {
  return {
    run: Number(row.run),
    bridge: textOrNothing(row.bridge),
    stream: textOrNothing(row.stream),
    schema: String(row.table_schema),
    ...schemaChange(row),
    changedAtMs: Number(row.at),
  };
}

export function schemaChange(row: SqlRow): SchemaChange {
  return {
    table: String(row.table_name),
    column: textOrNothing(row.column_name),
    change: String(row.change) as JournaledChange["change"],
    fromType: textOrNothing(row.from_type),
    toType: textOrNothing(row.to_type),
    path: textOrNothing(row.path),
    example: textOrNothing(row.example),
  };
}
