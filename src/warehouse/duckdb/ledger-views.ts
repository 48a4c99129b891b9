/** Views of the ledger for people: what ran, what it carried, which tables and columns came of it, what did not fit. */

import { COUNTS, LEDGER, LEDGER_SCHEMA } from "./ledger-schema.js";

// the file has another name for whoever opens it next: views name the schema alone
const from = (table: string) => `${LEDGER_SCHEMA}.${table}`;

const VIEWS: Readonly<Record<string, string>> = {
  run_report: `
    SELECT r.run, r.bridge, r.outcome, r.started_at, r.ended_at, epoch_ms(r.ended_at) - epoch_ms(r.started_at) AS ms,
      count(s.stream) AS streams, count(s.error_code) AS failed_streams,
      ${["received", "added", "changed", "removed", "quarantined", "requests"].map((name) => `sum(s.${name})::BIGINT AS ${name}`).join(", ")},
      r.error_code, r.error_message
    FROM ${from("runs")} AS r LEFT JOIN ${from("run_streams")} AS s USING (run)
    GROUP BY ALL ORDER BY r.run`,
  stream_report: `
    SELECT s.run, r.bridge, s.stream, s.outcome, r.started_at, r.ended_at, ${COUNTS.map((name) => `s.${name}`).join(", ")},
      s.error_code, s.error_message, s.error_where, s.error_hint
    FROM ${from("run_streams")} AS s JOIN ${from("runs")} AS r USING (run) ORDER BY s.run, s.stream`,
  table_report: `
    SELECT bridge, stream, table_schema, table_name, table_path, count(*) AS columns,
      string_agg(column_name, ', ' ORDER BY CASE WHEN role IN ('position', 'map_key', 'within') THEN 1 ELSE 0 END) FILTER (WHERE is_key) AS key_columns,
      max(run) AS described_by_run
    FROM ${from("columns")} GROUP BY ALL ORDER BY table_schema, table_name`,
  column_report: `
    SELECT bridge, stream, table_schema, table_name, column_name, type, is_key, role, path, declared,
      description, first_seen_at, last_seen_at, has_stopped
    FROM ${from("columns")} ORDER BY table_schema, table_name, is_key DESC NULLS LAST, column_name`,
  quarantine_report: `
    SELECT bridge, stream, reason, path, count(*) AS records, min(quarantined_at) AS first_at, max(quarantined_at) AS last_at,
      arg_max(message, quarantined_at) AS last_message
    FROM ${from("quarantine")} WHERE settled IS NULL GROUP BY ALL ORDER BY bridge, stream, records DESC`,
};

/** Statements that make the views as this version knows them. */
export const MAKE_VIEWS: readonly string[] = Object.entries(VIEWS).map(
  ([name, query]) => `CREATE OR REPLACE VIEW ${LEDGER}.${name} AS ${query}`,
);
