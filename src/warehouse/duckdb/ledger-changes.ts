/** The journal of changes to the tables' form. */

import type { JournaledChange, LoadOptions, SchemaChange } from "../warehouse.js";
import { type Cell, type Row, textOrNothing, timestamp } from "./ledger-rows.js";
import { LEDGER } from "./ledger-schema.js";

export function changeRows(
  { run, schema, bridge, stream }: Pick<LoadOptions, "run" | "schema" | "bridge" | "stream">,
  changes: readonly SchemaChange[],
  atMs: number,
): (readonly Cell[])[] {
  return changes.map(
    ({ table, column = null, change, fromType = null, toType = null, path = null, example = null }) => [
      ...[run, schema, table, column, change, fromType, toType, timestamp(atMs)],
      ...[bridge, stream, path, example],
    ],
  );
}

/** Those of a bridge, or all; a ledger of an older version tells no bridge of its first ones. */
export function changesQuery(bridge: string | undefined) {
  const of = bridge === undefined ? "" : "WHERE coalesce(c.bridge, r.bridge) = $1";
  const sql = `SELECT c.* EXCLUDE (bridge), coalesce(c.bridge, r.bridge) AS bridge, epoch_ms(c.changed_at)::BIGINT AS at
    FROM ${LEDGER}.schema_changes AS c LEFT JOIN ${LEDGER}.runs AS r USING (run) ${of}
    ORDER BY c.run, c.changed_at, c.table_name, c.column_name NULLS FIRST`;
  return { sql, values: bridge === undefined ? [] : [bridge] };
}

export function journaledChange(row: Row): JournaledChange {
  return {
    run: Number(row.run),
    bridge: textOrNothing(row.bridge),
    stream: textOrNothing(row.stream),
    schema: String(row.table_schema),
    ...schemaChange(row),
    changedAtMs: Number(row.at),
  };
}

export function schemaChange(row: Row): SchemaChange {
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
