/** The files that tables are made of, as the ledger has them. */

import { formatColumnType, parseColumnType } from "../../core/shape/column-type.js";
import { STAGE_SIZES } from "../duckdb/stage-sizes.js";
import { DUCKDB } from "../duckdb/types.js";
import type { SqlConnection, SqlRow, SqlValue, StandingColumns } from "../sql/dialect.js";
import { LEDGER_SCHEMA, ledgerSchema } from "../sql/ledger-schema.js";
import type { StreamPlace } from "../warehouse.js";

const TABLE = `${ledgerSchema(DUCKDB)}.files`;

/** A file of a table. */
export interface TableFile extends StreamPlace {
  readonly table: string;
  readonly path: string;
  /** the name under which it waits for its commit */
  readonly aside: string;
  /** not for readers: rows that are needed to go on */
  readonly isKept: boolean;
  readonly format: string;
  readonly columns: StandingColumns;
  readonly run: number;
  readonly rows: number;
  readonly bytes: number;
  readonly sha256: string;
  readonly day: string | undefined;
  /** a digest of the table's rows as this file and those beside it have them */
  readonly content: string;
}

/** Makes the list, where it is not there. */
export async function makeList(on: SqlConnection): Promise<void> {
  await on.run(DUCKDB.makeSchema(LEDGER_SCHEMA));
  await on.run(`CREATE TABLE IF NOT EXISTS ${TABLE} (bridge VARCHAR, stream VARCHAR, table_schema VARCHAR,
    table_name VARCHAR, path VARCHAR, aside VARCHAR, is_kept BOOLEAN, format VARCHAR, columns VARCHAR, run BIGINT,
    rows BIGINT, bytes BIGINT, sha256 VARCHAR, day VARCHAR, content VARCHAR, is_gone BOOLEAN)`);
}

/** Adds a file, in the place of one of the same path. */
export async function addFile(on: SqlConnection, file: TableFile): Promise<void> {
  const columns = [...file.columns].map(([name, type]) => [name, formatColumnType(type)]);
  await on.run(`DELETE FROM ${TABLE} WHERE path = $1`, [file.path]);
  await on.run(
    `INSERT INTO ${TABLE} VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, false)`,
    [
      ...[file.bridge, file.stream, file.schema, file.table, file.path, file.aside, file.isKept, file.format],
      ...[JSON.stringify(columns), BigInt(file.run), BigInt(file.rows), BigInt(file.bytes), file.sha256],
      ...[file.day ?? null, file.content],
    ],
  );
}

/** The bytes of a row, in the file of several MB that has the widest; 0: there is none. */
export async function widestRow(on: SqlConnection): Promise<number> {
  const [row] = await on.rows(
    `SELECT coalesce(max(bytes / rows), 0)::DOUBLE AS bytes FROM ${TABLE}
     WHERE NOT is_gone AND rows > 0 AND bytes > ${STAGE_SIZES.groupBytes}`,
  );
  return Number(row?.bytes);
}

/** Those that stand, of a stream or of all, oldest first. */
export function filesOf(on: SqlConnection, of: Partial<StreamPlace> = {}): Promise<TableFile[]> {
  return standing(on, { bridge: of.bridge, stream: of.stream, table_schema: of.schema });
}

/** Those of a run that stand. */
export function filesOfRun(on: SqlConnection, run: number): Promise<TableFile[]> {
  return standing(on, { run: BigInt(run) });
}

async function standing(
  on: SqlConnection,
  wanted: Readonly<Record<string, SqlValue | undefined>>,
): Promise<TableFile[]> {
  const given = Object.entries(wanted).flatMap(([name, value]) =>
    value === undefined ? [] : [{ name, value }],
  );
  const conditions = ["NOT is_gone", ...given.map(({ name }, i) => `${name} = $${i + 1}`)];
  const query = `SELECT * FROM ${TABLE} WHERE ${conditions.join(" AND ")} ORDER BY rowid`;
  const values = given.map(({ value }) => value);
  return (await on.rows(query, values)).map(fileOf);
}

/** Notes that some are to be removed. */
export async function markGone(on: SqlConnection, paths: readonly string[]): Promise<void> {
  for (const path of paths) await on.run(`UPDATE ${TABLE} SET is_gone = true WHERE path = $1`, [path]);
}

/** The paths of those that are to be removed. */
export async function gonePaths(on: SqlConnection): Promise<string[]> {
  return (await on.rows(`SELECT path FROM ${TABLE} WHERE is_gone ORDER BY rowid`)).map((row) =>
    String(row.path),
  );
}

/** Forgets those that were removed. */
export async function forget(on: SqlConnection, paths: readonly string[]): Promise<void> {
  for (const path of paths) await on.run(`DELETE FROM ${TABLE} WHERE path = $1 AND is_gone`, [path]);
}

function fileOf(row: SqlRow): TableFile {
  const columns = JSON.parse(String(row.columns)) as [string, string][];
  return {
    bridge: String(row.bridge),
    stream: String(row.stream),
    schema: String(row.table_schema),
    table: String(row.table_name),
    path: String(row.path),
    aside: String(row.aside),
    isKept: row.is_kept === true,
    format: String(row.format),
    columns: new Map(columns.map(([name, type]) => [name, parseColumnType(type)!])),
    run: Number(row.run),
    rows: Number(row.rows),
    bytes: Number(row.bytes),
    sha256: String(row.sha256),
    day: row.day === null ? undefined : String(row.day),
    content: String(row.content),
  };
}
