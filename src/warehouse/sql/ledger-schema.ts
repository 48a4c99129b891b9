/** The ledger's tables: the schema `early_bridge`. */

import type { SqlCell, SqlConnection, SqlDialect } from "./dialect.js";

export const LEDGER_SCHEMA = "early_bridge";

/** The ledger's schema, in full. */
export const ledgerSchema = (sql: SqlDialect) => sql.schemaName(LEDGER_SCHEMA);

/** The counts of a stream's part in a run, as they are named in the table. */
// biome-ignore format: one line per kind
export const COUNTS = [
  "received", "left_out", "records", "added", "changed", "unchanged", "removed", "quarantined", "doubled",
  "pages", "checkpoints", "requests", "retries", "waited_ms", "bytes", "ask_ms", "shape_ms", "load_ms",
] as const;

const FAILURE = "error_code VARCHAR, error_message VARCHAR, error_where VARCHAR, error_hint VARCHAR";

export const SETTLED = "settled VARCHAR, settled_at TIMESTAMPTZ, settled_run BIGINT, why VARCHAR";

export const SEEN_COLUMNS =
  "description VARCHAR, first_seen_at TIMESTAMPTZ, last_seen_at TIMESTAMPTZ, missing_rows BIGINT, has_stopped BOOLEAN";

const TABLES: readonly (readonly [table: string, columns: string])[] = [
  ["ledger_version", "version INTEGER, created_at TIMESTAMPTZ"],
  ["tokens", "name VARCHAR, sealed VARCHAR, written_at TIMESTAMPTZ"],
  ["rate_usage", "account VARCHAR, endpoint_group VARCHAR, used_at TIMESTAMPTZ, cost BIGINT"],
  [
    "runs",
    `run BIGINT, bridge VARCHAR, outcome VARCHAR, started_at TIMESTAMPTZ, ended_at TIMESTAMPTZ,
    error_code VARCHAR, error_message VARCHAR`,
  ],
  [
    "run_streams",
    `run BIGINT, stream VARCHAR, outcome VARCHAR, ${COUNTS.map((name) => `${name} BIGINT`).join(", ")},
    ${FAILURE}`,
  ],
  [
    "checkpoints",
    `run BIGINT, bridge VARCHAR, stream VARCHAR, number BIGINT, committed_at TIMESTAMPTZ, rows BIGINT,
    cursor JSON`,
  ],
  ["cursors", "bridge VARCHAR, stream VARCHAR, cursor JSON, run BIGINT, moved_at TIMESTAMPTZ, part VARCHAR"],
  [
    "columns",
    `bridge VARCHAR, stream VARCHAR, table_schema VARCHAR, table_name VARCHAR, table_path VARCHAR,
    column_name VARCHAR, path VARCHAR, role VARCHAR, type VARCHAR, declared BOOLEAN,
    seen_mask INTEGER, seen_digits INTEGER, seen_scale INTEGER, run BIGINT, is_key BOOLEAN, ${SEEN_COLUMNS}`,
  ],
  ["sweeps", "run BIGINT, bridge VARCHAR, stream VARCHAR, swept_at TIMESTAMPTZ, living BIGINT, gone BIGINT"],
  [
    "schema_changes",
    `run BIGINT, table_schema VARCHAR, table_name VARCHAR, column_name VARCHAR, change VARCHAR,
    from_type VARCHAR, to_type VARCHAR, changed_at TIMESTAMPTZ, bridge VARCHAR, stream VARCHAR, path VARCHAR,
    example VARCHAR`,
  ],
  [
    "quarantine",
    `run BIGINT, bridge VARCHAR, stream VARCHAR, reason VARCHAR, path VARCHAR, message VARCHAR,
    record JSON, quarantined_at TIMESTAMPTZ, id VARCHAR, page BIGINT, ${SETTLED}`,
  ],
];

/** Statements that make the ledger's tables. */
export function makeTables(sql: SqlDialect, version: number): string[] {
  const ledger = ledgerSchema(sql);
  const { rowId } = sql.ledger;
  const beside = rowId === undefined ? "" : `, ${rowId}`;
  return [
    sql.makeSchema(LEDGER_SCHEMA),
    ...TABLES.map(([table, columns]) => `CREATE TABLE ${ledger}.${table} (${columns}${beside})`),
    `INSERT INTO ${ledger}.ledger_version VALUES (${version}, now())`,
  ];
}

/** Inserts rows; their values are those of a table's first columns. */
export async function insertRows(
  sql: SqlDialect,
  connection: SqlConnection,
  table: string,
  rows: readonly (readonly SqlCell[])[],
): Promise<void> {
  if (rows.length === 0) return;
  for (const { query, values } of sql.ledger.rowsOf(rows))
    await connection.run(`INSERT INTO ${ledgerSchema(sql)}.${table} ${query}`, values);
}
