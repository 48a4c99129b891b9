/** Views of the ledger for people: what ran, what it carried, which tables and columns came of it, what did not fit. */

import type { LedgerSql, SqlDialect } from "./dialect.js";
import { COUNTS, LEDGER_SCHEMA, ledgerSchema } from "./ledger-schema.js";

/** a view that stands gets columns at its end only (PostgreSQL) */
const LAST = "passed_over" satisfies (typeof COUNTS)[number];

type FromTable = (table: string) => string;

const viewsOf = (
  { epochMs, whole, listed, firstOf }: LedgerSql,
  from: FromTable,
): Readonly<Record<string, string>> => ({
  run_report: `
    SELECT r.run, r.bridge, r.outcome, r.started_at, r.ended_at, ${epochMs("r.ended_at")} - ${epochMs("r.started_at")} AS ms,
      count(s.stream) AS streams, count(s.error_code) AS failed_streams,
      ${["received", "added", "changed", "removed", "quarantined", "requests"].map((name) => `${whole(`sum(s.${name})`)} AS ${name}`).join(", ")},
      r.error_code, r.error_message
    FROM ${from("runs")} AS r LEFT JOIN ${from("run_streams")} AS s ON s.run = r.run
    GROUP BY r.run, r.bridge, r.outcome, r.started_at, r.ended_at, r.error_code, r.error_message ORDER BY r.run`,
  stream_report: `
    SELECT s.run, r.bridge, s.stream, s.outcome, r.started_at, r.ended_at, ${COUNTS.filter(
      (name) => name !== LAST,
    )
      .map((name) => `s.${name}`)
      .join(", ")},
      s.error_code, s.error_message, s.error_where, s.error_hint, s.${LAST}
    FROM ${from("run_streams")} AS s JOIN ${from("runs")} AS r ON r.run = s.run ORDER BY s.run, s.stream`,
  table_report: `
    SELECT bridge, stream, table_schema, table_name, table_path, count(*) AS columns,
      ${listed("column_name", "is_key", "CASE WHEN role IN ('position', 'map_key', 'within') THEN 1 ELSE 0 END")} AS key_columns,
      max(run) AS described_by_run
    FROM ${from("columns")} GROUP BY bridge, stream, table_schema, table_name, table_path
    ORDER BY table_schema, table_name`,
  column_report: `
    SELECT bridge, stream, table_schema, table_name, column_name, type, is_key, role, path, declared,
      description, first_seen_at, last_seen_at, has_stopped
    FROM ${from("columns")} ORDER BY table_schema, table_name, is_key IS NULL, is_key DESC, column_name`,
  quarantine_report: `
    SELECT bridge, stream, reason, path, count(*) AS records, min(quarantined_at) AS first_at, max(quarantined_at) AS last_at,
      ${firstOf("message", "quarantined_at DESC")} AS last_message
    FROM ${from("quarantine")} WHERE settled IS NULL GROUP BY bridge, stream, reason, path ORDER BY bridge, stream, records DESC`,
});

/** Statements that make the views as this version knows them. */
export function makeViews(sql: SqlDialect): string[] {
  const { ledger } = sql;
  // the file has another name for whoever opens it next: views name the schema alone
  const schema = ledger.databaseOf === undefined ? LEDGER_SCHEMA : ledgerSchema(sql);
  return Object.entries(viewsOf(ledger, (table) => `${schema}.${table}`)).map(
    ([name, query]) => `CREATE OR REPLACE VIEW ${ledgerSchema(sql)}.${name} AS ${query}`,
  );
}
