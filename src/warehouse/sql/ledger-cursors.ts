/** Cursors in the ledger, and what is forgotten with them. */

import type { SavedCursor } from "../../core/track/cursor.js";
import type { StreamPlace } from "../warehouse.js";
import type { SqlConnection, SqlDialect } from "./dialect.js";
import { timestamp } from "./ledger-rows.js";
import { insertRows, ledgerSchema } from "./ledger-schema.js";

/** When cursors were moved, and by which run; null: by a person. */
export interface Moved {
  readonly atMs: number;
  readonly run: number | null;
}

/** Puts the cursors of some parts in the place of those that stand; undefined takes one away. Inside a transaction. */
export async function putCursors(
  sql: SqlDialect,
  connection: SqlConnection,
  { bridge, stream }: StreamPlace,
  cursors: ReadonlyMap<string, SavedCursor | undefined>,
  { atMs, run }: Moved,
): Promise<void> {
  if (cursors.size === 0) return;
  const [only, ...others] = cursors.keys();
  const [isMoved, moved] =
    others.length === 0
      ? ["= $1", only!]
      : [`IN (SELECT item FROM (${sql.ledger.textsOf("$1")}) AS moved)`, JSON.stringify([only, ...others])];
  await connection.run(
    `DELETE FROM ${ledgerSchema(sql)}.cursors WHERE bridge = $2 AND stream = $3 AND part ${isMoved}`,
    [moved, bridge, stream],
  );
  const rows = [...cursors].flatMap(([part, cursor]) =>
    cursor === undefined ? [] : [[bridge, stream, JSON.stringify(cursor), run, timestamp(atMs), part]],
  );
  await insertRows(sql, connection, "cursors", rows);
}

/** Forgets where a stream stands and what its columns were. Inside a transaction. */
export async function forgetStream(
  sql: SqlDialect,
  connection: SqlConnection,
  { bridge, stream, schema }: StreamPlace,
): Promise<void> {
  const ledger = ledgerSchema(sql);
  const of = "bridge = $1 AND stream = $2";
  await connection.run(`DELETE FROM ${ledger}.cursors WHERE ${of}`, [bridge, stream]);
  await connection.run(`DELETE FROM ${ledger}.sweeps WHERE ${of}`, [bridge, stream]);
  const columns = `DELETE FROM ${ledger}.columns WHERE ${of} AND table_schema = $3`;
  await connection.run(columns, [bridge, stream, schema]);
}
