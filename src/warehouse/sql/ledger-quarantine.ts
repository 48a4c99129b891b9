/** Quarantine in the ledger: records that did not fit, each once, until somebody settles them. */

import { hashText } from "../../core/shape/concealed-values.js";
import { parseExactJson, stringifyExact } from "../../core/shape/exact-json.js";
import type { Issue } from "../../core/shape/shaped.js";
import type { Quarantined, QuarantineFilter, Settled, StreamPlace } from "../warehouse.js";
import type { SqlCell, SqlConnection, SqlDialect, SqlRow } from "./dialect.js";
import { textOrNothing, timestamp } from "./ledger-rows.js";
import { ledgerSchema } from "./ledger-schema.js";

const tableOf = (sql: SqlDialect) => `${ledgerSchema(sql)}.quarantine`;

/** Rows for records that did not fit, each once; the last that was said of one counts. */
export function quarantineRows(
  { run, bridge, stream }: { readonly run: number; readonly bridge: string; readonly stream: string },
  issues: readonly Issue[],
  atMs: number,
): (readonly SqlCell[])[] {
  const rows = new Map<string, readonly SqlCell[]>();
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
  sql: SqlDialect,
  connection: SqlConnection,
  { bridge, stream }: Pick<StreamPlace, "bridge" | "stream">,
  rows: readonly (readonly SqlCell[])[],
): Promise<(readonly SqlCell[])[]> {
  if (rows.length === 0) return [];
  const ids = JSON.stringify(rows.map((row) => row[8]));
  const same = `bridge = $1 AND stream = $2 AND id IN (SELECT item FROM (${sql.ledger.textsOf("$3")}) AS given)`;
  await connection.run(`DELETE FROM ${tableOf(sql)} WHERE ${same} AND settled IS NULL`, [
    bridge,
    stream,
    ids,
  ]);
  const discarded = await connection.rows(
    `SELECT id FROM ${tableOf(sql)} WHERE ${same} AND settled = 'discarded'`,
    [bridge, stream, ids],
  );
  const known = new Set(discarded.map(({ id }) => id));
  return rows.filter((row) => !known.has(row[8] as string));
}

/** The query for open records, oldest first. */
export function openQuery(sql: SqlDialect, { bridge, stream, reason, path, id, limit }: QuarantineFilter) {
  const wanted = { bridge, stream, reason, path, id };
  const said = Object.entries(wanted).flatMap(([name, value]) =>
    value === undefined ? [] : [{ name, value }],
  );
  const conditions = ["settled IS NULL", ...said.map(({ name }, i) => `${name} = $${i + 1}`)].join(" AND ");
  const most = limit === undefined ? "" : ` LIMIT ${Math.floor(limit)}`;
  const query = `SELECT run, bridge, stream, reason, path, message, record,
      ${sql.ledger.epochMs("quarantined_at")} AS at, id, page
    FROM ${tableOf(sql)} WHERE ${conditions} ORDER BY quarantined_at, id${most}`;
  return { query, values: said.map(({ value }) => value) };
}

/** The query for one of a bridge's stream, whichever. */
export const anyOpenQuery = (sql: SqlDialect) =>
  `SELECT 1 AS one FROM ${tableOf(sql)} WHERE settled IS NULL AND bridge = $1 AND stream = $2 LIMIT 1`;

export function quarantinedOf(row: SqlRow): Quarantined {
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
  sql: SqlDialect,
  connection: SqlConnection,
  { bridge, stream }: Pick<StreamPlace, "bridge" | "stream">,
  { ids, how, why, run }: Settled,
  atMs: number,
): Promise<void> {
  if (ids.length === 0) return;
  await connection.run(
    `UPDATE ${tableOf(sql)} SET settled = $1, settled_at = ${sql.ledger.moment("$2")}, settled_run = $3, why = $4
     WHERE bridge = $5 AND stream = $6 AND settled IS NULL
       AND id IN (SELECT item FROM (${sql.ledger.textsOf("$7")}) AS given)`,
    [how, timestamp(atMs), numberOrNull(run), why ?? null, bridge, stream, JSON.stringify(ids)],
  );
}

const numberOrNull = (value: number | undefined) => (value === undefined ? null : BigInt(value));
