/** The ledger's tables, and the small steps by which a ledger of an older version becomes one of this version. */

import { schemaName } from "./types.js";

export const LEDGER_SCHEMA = "early_bridge";
export const LEDGER = schemaName(LEDGER_SCHEMA);

/** The counts of a stream's part in a run, as they are named in the table. */
// biome-ignore format: one line per kind
export const COUNTS = [
  "received", "left_out", "records", "added", "changed", "unchanged", "removed", "quarantined", "doubled",
  "pages", "checkpoints", "requests", "retries", "waited_ms", "bytes", "ask_ms", "shape_ms", "load_ms",
] as const;

const FAILURE = "error_code VARCHAR, error_message VARCHAR, error_where VARCHAR, error_hint VARCHAR";

const SETTLED = "settled VARCHAR, settled_at TIMESTAMPTZ, settled_run BIGINT, why VARCHAR";

const SEEN_COLUMNS =
  "description VARCHAR, first_seen_at TIMESTAMPTZ, last_seen_at TIMESTAMPTZ, missing_rows BIGINT, has_stopped BOOLEAN";

export const TABLES: readonly string[] = [
  "ledger_version (version INTEGER, created_at TIMESTAMPTZ)",
  "tokens (name VARCHAR, sealed VARCHAR, written_at TIMESTAMPTZ)",
  "rate_usage (account VARCHAR, endpoint_group VARCHAR, used_at TIMESTAMPTZ, cost BIGINT)",
  `runs (run BIGINT, bridge VARCHAR, outcome VARCHAR, started_at TIMESTAMPTZ, ended_at TIMESTAMPTZ,
    error_code VARCHAR, error_message VARCHAR)`,
  `run_streams (run BIGINT, stream VARCHAR, outcome VARCHAR, ${COUNTS.map((name) => `${name} BIGINT`).join(", ")},
    ${FAILURE})`,
  `checkpoints (run BIGINT, bridge VARCHAR, stream VARCHAR, number BIGINT, committed_at TIMESTAMPTZ, rows BIGINT,
    cursor JSON)`,
  "cursors (bridge VARCHAR, stream VARCHAR, cursor JSON, run BIGINT, moved_at TIMESTAMPTZ, part VARCHAR)",
  `columns (bridge VARCHAR, stream VARCHAR, table_schema VARCHAR, table_name VARCHAR, table_path VARCHAR,
    column_name VARCHAR, path VARCHAR, role VARCHAR, type VARCHAR, declared BOOLEAN,
    seen_mask INTEGER, seen_digits INTEGER, seen_scale INTEGER, run BIGINT, is_key BOOLEAN, ${SEEN_COLUMNS})`,
  "sweeps (run BIGINT, bridge VARCHAR, stream VARCHAR, swept_at TIMESTAMPTZ, living BIGINT, gone BIGINT)",
  `schema_changes (run BIGINT, table_schema VARCHAR, table_name VARCHAR, column_name VARCHAR, change VARCHAR,
    from_type VARCHAR, to_type VARCHAR, changed_at TIMESTAMPTZ, bridge VARCHAR, stream VARCHAR, path VARCHAR,
    example VARCHAR)`,
  `quarantine (run BIGINT, bridge VARCHAR, stream VARCHAR, reason VARCHAR, path VARCHAR, message VARCHAR,
    record JSON, quarantined_at TIMESTAMPTZ, id VARCHAR, page BIGINT, ${SETTLED})`,
];

const alter = (table: string, change: string) => `ALTER TABLE ${LEDGER}.${table} ${change}`;
const addColumns = (table: string, columns: string) =>
  columns.split(", ").map((column) => alter(table, `ADD COLUMN IF NOT EXISTS ${column}`));

/**
 * `UPGRADES[n]` leads from version n + 1 to the next; each is one transaction. A step is never changed: it is for the
 * ledgers that stand out there.
 */
const UPGRADES: readonly (readonly string[])[] = [
  // version 1 knew no parts: its cursors are those of whole streams
  [alter("cursors", "ADD COLUMN part VARCHAR"), `UPDATE ${LEDGER}.cursors SET part = ''`],
  // version 2 kept no sums that add up, and no failure of a stream
  [
    `CREATE TABLE IF NOT EXISTS ${LEDGER}.spent
       (account VARCHAR, endpoint_group VARCHAR, spent_at TIMESTAMPTZ, cost BIGINT)`,
    ...addColumns(
      "run_streams",
      "received BIGINT, left_out BIGINT, doubled BIGINT, error_code VARCHAR, error_message VARCHAR, error_where VARCHAR, error_hint VARCHAR",
    ),
  ],
  // version 3 named some things in words of its own
  [
    alter("spent", "RENAME COLUMN spent_at TO used_at"),
    alter("spent", "RENAME TO rate_usage"),
    alter("sealed", "RENAME TO tokens"),
    alter("run_streams", "RENAME COLUMN same TO unchanged"),
    alter("quarantine", "RENAME COLUMN put_at TO quarantined_at"),
    alter("changes", "RENAME TO schema_changes"),
    ...["runs", "run_streams"].map(
      (table) => `UPDATE ${LEDGER}.${table} SET outcome = 'broken_off' WHERE outcome = 'broken off'`,
    ),
    `UPDATE ${LEDGER}.schema_changes SET change = replace(change, ' ', '_')`,
    alter("about", "RENAME COLUMN format TO version"),
    alter("about", "RENAME TO ledger_version"),
  ],
  // version 4 did not tell which columns are a table's key; the next run of a stream does
  [alter("columns", "ADD COLUMN is_key BOOLEAN")],
  // version 5 kept records in quarantine for ever, some of them more than once
  [
    ...addColumns("quarantine", `id VARCHAR, page BIGINT, ${SETTLED}`),
    `UPDATE ${LEDGER}.quarantine SET id = substr(sha256(record::VARCHAR), 1, 12)`,
  ],
  // version 6 told of a change neither the stream nor an example
  [...addColumns("schema_changes", "bridge VARCHAR, stream VARCHAR, path VARCHAR, example VARCHAR")],
  // version 7 knew no sweeps, and did not tell since when a column is there, nor what stopped coming
  [
    `CREATE TABLE IF NOT EXISTS ${LEDGER}.sweeps
       (run BIGINT, bridge VARCHAR, stream VARCHAR, swept_at TIMESTAMPTZ, living BIGINT, gone BIGINT)`,
    ...addColumns("columns", SEEN_COLUMNS),
  ],
];

/** Raised when an older program could not read what a newer one writes. */
export const LEDGER_VERSION = UPGRADES.length + 1;

/** Up to this version, another table told the version. */
const LAST_ABOUT = 3;

/** Which table of a ledger tells its version, and how that is asked for. */
export const VERSION_TABLES: Readonly<Record<string, string>> = {
  ledger_version: `SELECT version FROM ${LEDGER}.ledger_version`,
  about: `SELECT format AS version FROM ${LEDGER}.about`,
};

/** The statements that bring a ledger of a version to the next one. */
export function upgradeFrom(version: number): readonly string[] {
  const next = version + 1;
  const noted =
    next > LAST_ABOUT
      ? `UPDATE ${LEDGER}.ledger_version SET version = ${next}`
      : `UPDATE ${LEDGER}.about SET format = ${next}`;
  return [...UPGRADES[version - 1]!, noted];
}
