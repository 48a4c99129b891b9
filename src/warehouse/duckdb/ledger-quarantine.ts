/** Quarantine in the ledger: records that did not fit, each once, until somebody settles them. */

import type { DuckDBConnection } from "@duckdb/node-api";
import { hashText } from "../../core/shape/concealed-values.js";
import { parseExactJson, stringifyExact } from "../../core/shape/exact-json.js";
import type { Issue } from "../../core/shape/shaped.js";
import type { Quarantined, QuarantineFilter, Settled, StreamPlace } from "../warehouse.js";
import { type Cell, type Row, textOrNothing, timestamp } from "./ledger-rows.js";
import { LEDGER } from "./ledger-schema.js";

const TABLE = `${LEDGER}.quarantine`;

/** Rows for records that did not fit, each once; the last that was said of one counts. */
export function quarantineRows(
  { run, bridge, stream }: { readonly run: number; readonly bridge: string; readonly stream: string },
  issues: readonly Issue[],
  atMs: number,
): (readonly Cell[])[] {
  const rows = new Map<string, readonly Cell[]>();
  for (const { reason, path, message, record, page } of issues) {
    const text = stringifyExact(record);
    const id = hashText(text).slice(0, 12);
    const at = timestamp(atMs);
    const open = [null, null, null, null] as const;
    rows.set(id, [run, bridge, stream, reason, path, message, text, at, id, page ?? null, ...open]);
  }
  return [...rows.values()];
}

/** Takes away what is open of the same records; what was discarded before does not come back. */
export async function withoutKnown(
  connection: DuckDBConnection,
  { bridge, stream }: Pick<StreamPlace, "bridge" | "stream">,
  rows: readonly (readonly Cell[])[],
): Promise<(readonly Cell[])[]> {
  if (rows.length === 0) return [];
  const ids = JSON.stringify(rows.map((row) => row[8]));
  const same = `bridge = $1 AND stream = $2 AND id IN (SELECT unnest(from_json($3::JSON, '["VARCHAR"]')))`;
  await connection.run(`DELETE FROM ${TABLE} WHERE ${same} AND settled IS NULL`, [bridge, stream, ids]);
  const discarded = await connection.runAndReadAll(
    `SELECT id FROM ${TABLE} WHERE ${same} AND settled = 'discarded'`,
    [bridge, stream, ids],
  );
  const known = new Set(discarded.getRowObjectsJS().map(({ id }) => id));
  return rows.filter((row) => !known.has(row[8] as string));
}

/** The query for open records, oldest first. */
export function openQuery({ bridge, stream, reason, path, id, limit }: QuarantineFilter) {
  const wanted = { bridge, stream, reason, path, id };
  const said = Object.entries(wanted).flatMap(([name, value]) =>
    value === undefined ? [] : [{ name, value }],
  );
  const conditions = ["settled IS NULL", ...said.map(({ name }, i) => `${name} = $${i + 1}`)].join(" AND ");
  const sql = `SELECT run, bridge, stream, reason, path, message, record::VARCHAR AS record,
      epoch_ms(quarantined_at)::BIGINT AS at, id, page
    FROM ${TABLE} WHERE ${conditions} ORDER BY quarantined_at, id${limit === undefined ? "" : ` LIMIT ${Math.floor(limit)}`}`;
  return { sql, values: said.map(({ value }) => value) };
}

export function quarantinedOf(row: Row): Quarantined {
  const page = row.page === null || row.page === undefined ? undefined : Number(row.page);
  return {
    id: String(row.id),
    run: Number(row.run),
    bridge: String(row.bridge),
    stream: String(row.stream),
    reason: String(row.reason) as Issue["reason"],
    path: textOrNothing(row.path) ?? "",
    message: String(row.message),
    record: parseExactJson(String(row.record)),
    page,
    quarantinedAtMs: Number(row.at),
  };
}

/** Notes what became of open records. */
export async function settle(
  connection: DuckDBConnection,
  { bridge, stream }: Pick<StreamPlace, "bridge" | "stream">,
  { ids, how, why, run }: Settled,
  atMs: number,
): Promise<void> {
  if (ids.length === 0) return;
  await connection.run(
    `UPDATE ${TABLE} SET settled = $1, settled_at = $2::TIMESTAMPTZ, settled_run = $3, why = $4
     WHERE bridge = $5 AND stream = $6 AND settled IS NULL AND id IN (SELECT unnest(from_json($7::JSON, '["VARCHAR"]')))`,
    [
      how,
      timestamp(atMs),
      run === undefined ? null : BigInt(run),
      why ?? null,
      bridge,
      stream,
      JSON.stringify(ids),
    ],
  );
}
