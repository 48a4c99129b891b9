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
  "passed_over",
] as const;

const FAILURE = "error_code VARCHAR, error_message VARCHAR, error_where VARCHAR, error_hint VARCHAR";

export const SETTLED = "settled VARCHAR, settled_at TIMESTAMPTZ, settled_run BIGINT, why VARCHAR";

export const SEEN_COLUMNS =
  "description VARCHAR, first_seen_at TIMESTAMPTZ, last_seen_at TIMESTAMPTZ, missing_rows BIGINT, has_stopped BOOLEAN";

const TABLES: readonly (readonly [table: string, columns: string])[] = [
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
    "views",
    "bridge VARCHAR, table_schema VARCHAR, view_name VARCHAR, query VARCHAR, run BIGINT, made_at TIMESTAMPTZ",
  ],
  [
    "quarantine",
    `run BIGINT, bridge VARCHAR, stream VARCHAR, reason VARCHAR, path VARCHAR, message VARCHAR,
    record JSON, quarantined_at TIMESTAMPTZ, id VARCHAR, page BIGINT, ${SETTLED}`,
  ],
  ["ledger_version", "version INTEGER, created_at TIMESTAMPTZ"],
];

/** A column of the ledger, its type in the words above. */
interface LedgerColumn {
  readonly name: string;
  readonly type: string;
}

const COLUMNS: ReadonlyMap<string, readonly LedgerColumn[]> = new Map(
  TABLES.map(([table, columns]) => [
    table,
    columns.split(",").map((column) => {
      const [name, type] = column.trim().split(" ") as [string, string];
      return { name, type };
    }),
  ]),
);

/** Statements that make the ledger's tables; that with the version comes last, and tells that all are there. */
export function makeTables(sql: SqlDialect, version: number): string[] {
  const { rowId, types = {} } = sql.ledger;
  const beside = rowId === undefined ? [] : [rowId];
  const statements = [...COLUMNS].map(([table, columns]) => {
    const own = columns.map(({ name, type }) => `${sql.quoteName(name)} ${types[type] ?? type}`);
    return `CREATE TABLE IF NOT EXISTS ${ledgerSchema(sql)}.${table} (${[...own, ...beside].join(", ")})`;
  });
  return [
    sql.makeSchema(LEDGER_SCHEMA),
    ...statements,
    `INSERT INTO ${ledgerSchema(sql)}.ledger_version (version, created_at) VALUES (${version}, now())`,
  ];
}

/** Signs of the rows that go into one statement, about: what a server takes at once has an end. */
const SIGNS_AT_ONCE = 1024 * 1024;

function* inPieces(rows: readonly (readonly SqlCell[])[]): Generator<(readonly SqlCell[])[]> {
  let piece: (readonly SqlCell[])[] = [];
  let signs = 0;
  for (const row of rows) {
    for (const cell of row) signs += typeof cell === "string" ? cell.length : 8;
    piece.push(row);
    if (signs < SIGNS_AT_ONCE) continue;
    yield piece;
    piece = [];
    signs = 0;
  }
  if (piece.length > 0) yield piece;
}

/** Inserts rows; their values are those of a table's first columns. */
export async function insertRows(
  sql: SqlDialect,
  connection: SqlConnection,
  table: string,
  rows: readonly (readonly SqlCell[])[],
): Promise<void> {
  if (rows.length === 0) return;
  const { momentValue, rowsOf } = sql.ledger;
  const columns = COLUMNS.get(table)!.slice(0, rows[0]!.length);
  const names = columns.map(({ name }) => sql.quoteName(name)).join(", ");
  const cellOf = (cell: SqlCell, i: number) =>
    columns[i]!.type === "TIMESTAMPTZ" && cell !== null ? momentValue!(String(cell)) : cell;
  const cells = momentValue === undefined ? rows : rows.map((row) => row.map(cellOf));
  for (const piece of inPieces(cells))
    for (const { query, values } of rowsOf(piece))
      await connection.run(`INSERT INTO ${ledgerSchema(sql)}.${table} (${names}) ${query}`, values);
}
