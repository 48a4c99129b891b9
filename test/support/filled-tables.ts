/** A stream's tables out of a DuckDB file, as the ledger knows their columns: what unshape takes. */

import { type ColumnType, type FilledTable, parseColumnType } from "../../src/core/index.js";
import type { ColumnRole } from "../../src/core/shape/table-shape.js";
import { queryFile } from "./truth.js";

interface LedgerColumn {
  readonly table_name: string;
  readonly table_path: string;
  readonly column_name: string;
  readonly path: string;
  readonly role: ColumnRole;
  readonly type: string;
  readonly is_key: boolean;
}

/** The SQL that gives a column's values as `batchRows` does; whole numbers as texts. */
export function valueSql(name: string, { kind }: ColumnType): string {
  const column = `"${name.replaceAll('"', '""')}"`;
  if (kind === "boolean" || kind === "float64") return column;
  const micros = "strftime(%, '%Y-%m-%dT%H:%M:%S.%f')";
  if (kind === "timestamp") return `${micros.replace("%,", `${column} AT TIME ZONE 'UTC',`)} || 'Z'`;
  if (kind === "local_timestamp") return micros.replace("%,", `${column},`);
  return `${column}::VARCHAR`;
}

export async function filledTables(path: string, stream: string): Promise<FilledTable[]> {
  const known = (await queryFile(
    path,
    `SELECT table_name, table_path, column_name, path, role, type, is_key FROM early_bridge.columns
     WHERE stream = '${stream}' ORDER BY length(table_path), table_name, column_name`,
  )) as unknown as LedgerColumn[];
  const names = [...new Set(known.map(({ table_name }) => table_name))];
  return Promise.all(
    names.map((name) =>
      filled(
        path,
        known.filter(({ table_name }) => table_name === name),
      ),
    ),
  );
}

async function filled(path: string, known: readonly LedgerColumn[]): Promise<FilledTable> {
  const [first] = known;
  const columns = known.map(({ column_name: name, path, role, type }) => ({
    name,
    path,
    role,
    type: parseColumnType(type)!,
  }));
  const isRoot = first!.table_path === "";
  const recordKey = known
    .filter(({ role, is_key }) => (isRoot ? is_key : role === "link"))
    .map(({ column_name }) => column_name);
  const cells = columns.map(({ name, type }, i) => `${valueSql(name, type)} AS c${i}`);
  const rows = await queryFile(path, `SELECT ${cells.join(", ")} FROM "${first!.table_name}"`);
  return {
    path: first!.table_path,
    recordKey,
    columns,
    rows: rows.map((row) =>
      Object.fromEntries(columns.map(({ name, type }, i) => [name, plainValue(row[`c${i}`], type)])),
    ),
  };
}

function plainValue(cell: unknown, { kind }: ColumnType): unknown {
  if (typeof cell !== "string") return cell;
  if (kind === "int64") return BigInt(cell);
  if (kind === "timestamp" || kind === "local_timestamp") return cell.replace(/\.?0+(Z?)$/, "$1");
  return cell;
}
