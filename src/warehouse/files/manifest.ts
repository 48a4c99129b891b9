/**
 * What readers of the folder go by: JSON documents that are written when all that they name is in place.
 *
 *   _early_bridge/tables.json          the files that make up each table now
 *   _early_bridge/runs/000012.json     what a run has written, and whether it is complete
 */

import { formatColumnType } from "../../core/shape/column-type.js";
import { DUCKDB } from "../duckdb/types.js";
import type { SqlConnection } from "../sql/dialect.js";
import { ledgerSchema } from "../sql/ledger-schema.js";
import { filesOf, filesOfRun, type TableFile } from "./file-list.js";
import { OWN_FOLDER, runText } from "./names.js";
import { withOwn } from "./write-files.js";

const RUNS = `${ledgerSchema(DUCKDB)}.runs`;
const STREAMS = `${ledgerSchema(DUCKDB)}.run_streams`;
/** A moment as RFC 3339 has it. */
const momentOf = (column: string) => `strftime(${column} AT TIME ZONE 'UTC', '%Y-%m-%dT%H:%M:%S.%gZ')`;

export interface Manifest {
  readonly name: string;
  readonly document: unknown;
}

/** The tables, each with its columns and files. */
export async function tablesManifest(on: SqlConnection): Promise<Manifest> {
  const byTable = new Map<string, TableFile[]>();
  for (const file of (await filesOf(on)).filter(({ isKept }) => !isKept)) {
    const key = `${file.schema}.${file.table}`;
    byTable.set(key, [...(byTable.get(key) ?? []), file]);
  }
  const keys = [...byTable.keys()].sort();
  const tables = keys.map((key) => {
    const files = byTable.get(key)!;
    const { schema, table, bridge, stream } = files[0]!;
    const columns = new Map(files.flatMap((file) => [...file.columns]));
    return { schema, table, bridge, stream, columns: describe(withOwn(columns)), files: files.map(asEntry) };
  });
  return { name: `${OWN_FOLDER}/tables.json`, document: { tables } };
}

/** What a run has written. */
export async function runManifest(on: SqlConnection, run: number): Promise<Manifest> {
  const [row] = await on.rows(
    `SELECT bridge, outcome, ${momentOf("started_at")} AS started, ${momentOf("ended_at")} AS ended, error_message
     FROM ${RUNS} WHERE run = $1`,
    [BigInt(run)],
  );
  const streams = await on.rows(
    `SELECT stream, outcome, records, added, changed, removed FROM ${STREAMS} WHERE run = $1 ORDER BY stream`,
    [BigInt(run)],
  );
  const files = (await filesOfRun(on, run)).filter(({ isKept }) => !isKept);
  const document = {
    run,
    bridge: row?.bridge,
    outcome: row?.outcome,
    is_complete: row?.outcome === "done",
    started_at: row?.started,
    ended_at: row?.ended ?? null,
    files: files.map((file) => ({ schema: file.schema, table: file.table, ...asEntry(file) })),
    streams: streams.map(({ stream, outcome, ...counts }) => ({
      stream,
      outcome,
      ...Object.fromEntries(Object.entries(counts).map(([name, count]) => [name, Number(count)])),
    })),
  };
  return { name: `${OWN_FOLDER}/runs/${runText(run)}.json`, document };
}

/** Runs that have not ended. */
export async function runningRuns(on: SqlConnection): Promise<number[]> {
  return (await on.rows(`SELECT run FROM ${RUNS} WHERE outcome = 'running'`)).map((row) => Number(row.run));
}

const describe = (columns: TableFile["columns"]) =>
  [...columns].map(([name, type]) => ({ name, type: formatColumnType(type) }));

function asEntry({ path, run, rows, bytes, sha256, day }: TableFile) {
  return { path, run, rows, bytes, sha256, ...(day === undefined ? {} : { day }) };
}
