/** Cursors in the ledger, and what is forgotten with them. */

import type { DuckDBConnection } from "@duckdb/node-api";
import type { SavedCursor } from "../../core/track/cursor.js";
import type { StreamPlace } from "../warehouse.js";
import { timestamp } from "./ledger-rows.js";
import { LEDGER } from "./ledger-schema.js";

/** When cursors were moved, and by which run; null: by a person. */
export interface Moved {
  readonly atMs: number;
  readonly run: bigint | null;
}

/** Puts the cursors of some parts in the place of those that stand; undefined takes one away. Inside a transaction. */
export async function putCursors(
  connection: DuckDBConnection,
  { bridge, stream }: StreamPlace,
  cursors: ReadonlyMap<string, SavedCursor | undefined>,
  { atMs, run }: Moved,
): Promise<void> {
  if (cursors.size === 0) return;
  const moved = JSON.stringify([...cursors].map(([part, cursor]) => ({ part, cursor })));
  const each = "SELECT unnest(from_json($1::JSON, '[\"JSON\"]')) AS moved";
  await connection.run(
    `DELETE FROM ${LEDGER}.cursors WHERE bridge = $2 AND stream = $3 AND part IN (SELECT moved->>'part' FROM (${each}))`,
    [moved, bridge, stream],
  );
  await connection.run(
    `INSERT INTO ${LEDGER}.cursors (bridge, stream, part, cursor, run, moved_at)
     SELECT $2, $3, moved->>'part', moved->'cursor', $4, $5::TIMESTAMPTZ FROM (${each})
     WHERE (moved->'cursor') IS NOT NULL`,
    [moved, bridge, stream, run, timestamp(atMs)],
  );
}

/** Forgets where a stream stands and what its columns were. Inside a transaction. */
export async function forgetStream(
  connection: DuckDBConnection,
  { bridge, stream, schema }: StreamPlace,
): Promise<void> {
  const of = "bridge = $1 AND stream = $2";
  await connection.run(`DELETE FROM ${LEDGER}.cursors WHERE ${of}`, [bridge, stream]);
  await connection.run(`DELETE FROM ${LEDGER}.sweeps WHERE ${of}`, [bridge, stream]);
  const columns = `DELETE FROM ${LEDGER}.columns WHERE ${of} AND table_schema = $3`;
  await connection.run(columns, [bridge, stream, schema]);
}
