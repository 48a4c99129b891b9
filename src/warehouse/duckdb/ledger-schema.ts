/** The ledger's tables, and the small steps by which a ledger of an older version becomes one of this version. */

import { schemaName } from "./types.js";

export const LEDGER_SCHEMA = "early_bridge";
export const LEDGER = schemaName(LEDGER_SCHEMA);

/** The counts of a stream's part in a run, as they are named in the table. */
// biome-ignore format: one line per kind
export const COUNTS = [
  "received", "left_out", "records", "added", "changed", "same", "removed", "quarantined", "doubled",
  "pages", "checkpoints", "requests", "retries", "waited_ms", "bytes", "ask_ms", "shape_ms", "load_ms",
] as const;

const SPENT = "spent (account VARCHAR, endpoint_group VARCHAR, spent_at TIMESTAMPTZ, cost BIGINT)";
const FAILURE = "error_code VARCHAR, error_message VARCHAR, error_where VARCHAR, error_hint VARCHAR";

export const TABLES: readonly string[] = [
  SPENT,
  "sealed (name VARCHAR, sealed VARCHAR, written_at TIMESTAMPTZ)",
  "about (format INTEGER, created_at TIMESTAMPTZ)",
  `runs (run BIGINT, bridge VARCHAR, outcome VARCHAR, started_at TIMESTAMPTZ, ended_at TIMESTAMPTZ,
    error_code VARCHAR, error_message VARCHAR)`,
  `run_streams (run BIGINT, stream VARCHAR, outcome VARCHAR, ${COUNTS.map((name) => `${name} BIGINT`).join(", ")},
    ${FAILURE})`,
  `checkpoints (run BIGINT, bridge VARCHAR, stream VARCHAR, number BIGINT, committed_at TIMESTAMPTZ, rows BIGINT,
    cursor JSON)`,
  "cursors (bridge VARCHAR, stream VARCHAR, cursor JSON, run BIGINT, moved_at TIMESTAMPTZ, part VARCHAR)",
  `columns (bridge VARCHAR, stream VARCHAR, table_schema VARCHAR, table_name VARCHAR, table_path VARCHAR,
    column_name VARCHAR, path VARCHAR, role VARCHAR, type VARCHAR, declared BOOLEAN,
    seen_mask INTEGER, seen_digits INTEGER, seen_scale INTEGER, run BIGINT)`,
  `changes (run BIGINT, table_schema VARCHAR, table_name VARCHAR, column_name VARCHAR, change VARCHAR,
    from_type VARCHAR, to_type VARCHAR, changed_at TIMESTAMPTZ)`,
  `quarantine (run BIGINT, bridge VARCHAR, stream VARCHAR, reason VARCHAR, path VARCHAR, message VARCHAR,
    record JSON, put_at TIMESTAMPTZ)`,
];

const addColumns = (table: string, columns: string) =>
  columns.split(", ").map((column) => `ALTER TABLE ${LEDGER}.${table} ADD COLUMN IF NOT EXISTS ${column}`);

/** `UPGRADES[n]` leads from format n + 1 to the next; each is one transaction. */
const UPGRADES: readonly (readonly string[])[] = [
  // format 1 knew no parts: its cursors are those of whole streams
  [`ALTER TABLE ${LEDGER}.cursors ADD COLUMN part VARCHAR`, `UPDATE ${LEDGER}.cursors SET part = ''`],
  // format 2 kept no sums that add up, and no failure of a stream
  [
    `CREATE TABLE IF NOT EXISTS ${LEDGER}.${SPENT}`,
    ...addColumns("run_streams", `received BIGINT, left_out BIGINT, doubled BIGINT, ${FAILURE}`),
  ],
];

/** Raised when an older version could not read what a newer one writes. */
export const LEDGER_FORMAT = UPGRADES.length + 1;

/** The statements that bring a ledger of a format to the next one. */
export function upgradeFrom(format: number): readonly string[] {
  return [...UPGRADES[format - 1]!, `UPDATE ${LEDGER}.about SET format = ${format + 1}`];
}
