/** The small steps by which a ledger of an older version becomes one of this version. */

import type { SqlDialect } from "./dialect.js";
import { ledgerSchema, SEEN_COLUMNS, SETTLED } from "./ledger-schema.js";

/** Where a table is, in full; steps are written for any schema. */
type TableOf = (table: string) => string;
type Step = (of: TableOf) => readonly string[];

const alter = (of: TableOf, table: string, change: string) => `ALTER TABLE ${of(table)} ${change}`;
const addColumns = (of: TableOf, table: string, columns: string) =>
  columns.split(", ").map((column) => alter(of, table, `ADD COLUMN IF NOT EXISTS ${column}`));

/**
 * `UPGRADES[n]` leads from version n + 1 to the next; each is one transaction. A step is never changed: it is for the
 * ledgers that stand out there.
 */
const UPGRADES: readonly Step[] = [
  // version 1 knew no parts: its cursors are those of whole streams
  (of) => [alter(of, "cursors", "ADD COLUMN part VARCHAR"), `UPDATE ${of("cursors")} SET part = ''`],
  // version 2 kept no sums that add up, and no failure of a stream
  (of) => [
    `CREATE TABLE IF NOT EXISTS ${of("spent")}
       (account VARCHAR, endpoint_group VARCHAR, spent_at TIMESTAMPTZ, cost BIGINT)`,
    ...addColumns(
      of,
      "run_streams",
      "received BIGINT, left_out BIGINT, doubled BIGINT, error_code VARCHAR, error_message VARCHAR, error_where VARCHAR, error_hint VARCHAR",
    ),
  ],
  // version 3 named some things in words of its own
  (of) => [
    alter(of, "spent", "RENAME COLUMN spent_at TO used_at"),
    alter(of, "spent", "RENAME TO rate_usage"),
    alter(of, "sealed", "RENAME TO tokens"),
    alter(of, "run_streams", "RENAME COLUMN same TO unchanged"),
    alter(of, "quarantine", "RENAME COLUMN put_at TO quarantined_at"),
    alter(of, "changes", "RENAME TO schema_changes"),
    ...["runs", "run_streams"].map(
      (table) => `UPDATE ${of(table)} SET outcome = 'broken_off' WHERE outcome = 'broken off'`,
    ),
    `UPDATE ${of("schema_changes")} SET change = replace(change, ' ', '_')`,
    alter(of, "about", "RENAME COLUMN format TO version"),
    alter(of, "about", "RENAME TO ledger_version"),
  ],
  // version 4 did not tell which columns are a table's key; the next run of a stream does
  (of) => [alter(of, "columns", "ADD COLUMN is_key BOOLEAN")],
  // version 5 kept records in quarantine for ever, some of them more than once
  (of) => [
    ...addColumns(of, "quarantine", `id VARCHAR, page BIGINT, ${SETTLED}`),
    `UPDATE ${of("quarantine")} SET id = substr(sha256(record::VARCHAR), 1, 12)`,
  ],
  // version 6 told of a change neither the stream nor an example
  (of) => [
    ...addColumns(of, "schema_changes", "bridge VARCHAR, stream VARCHAR, path VARCHAR, example VARCHAR"),
  ],
  // version 7 knew no sweeps, and did not tell since when a column is there, nor what stopped coming
  (of) => [
    `CREATE TABLE IF NOT EXISTS ${of("sweeps")}
       (run BIGINT, bridge VARCHAR, stream VARCHAR, swept_at TIMESTAMPTZ, living BIGINT, gone BIGINT)`,
    ...addColumns(of, "columns", SEEN_COLUMNS),
  ],
  // version 8 made no views of a project
  (of) => [
    `CREATE TABLE IF NOT EXISTS ${of("views")}
       (bridge VARCHAR, table_schema VARCHAR, view_name VARCHAR, query VARCHAR, run BIGINT, made_at TIMESTAMPTZ)`,
  ],
  // version 9 wrote into no tables of others
  (of) => [...addColumns(of, "run_streams", "passed_over BIGINT")],
];

/** Raised when an older program could not read what a newer one writes. */
export const LEDGER_VERSION = UPGRADES.length + 1;

/** Up to this version, another table told the version. */
const LAST_ABOUT = 3;

/** Which table of a ledger tells its version, and how that is asked for. */
export function versionQueries(sql: SqlDialect): ReadonlyMap<string, string> {
  const ledger = ledgerSchema(sql);
  return new Map([
    ["ledger_version", `SELECT version FROM ${ledger}.ledger_version`],
    ["about", `SELECT format AS version FROM ${ledger}.about`],
  ]);
}

/** The statements that bring a ledger of a version to the next one. */
export function upgradeFrom(sql: SqlDialect, version: number): readonly string[] {
  const of = (table: string) => `${ledgerSchema(sql)}.${table}`;
  const next = version + 1;
  const noted =
    next > LAST_ABOUT
      ? `UPDATE ${of("ledger_version")} SET version = ${next}`
      : `UPDATE ${of("about")} SET format = ${next}`;
  return [...UPGRADES[version - 1]!(of), noted];
}
