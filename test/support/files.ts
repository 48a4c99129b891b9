/** What readers of a folder find in it: its manifest's files and its ledger, read into a DuckDB file. */

import { existsSync, readdirSync, readFileSync, rmSync } from "node:fs";
import { join } from "node:path";
import { gunzipSync } from "node:zlib";
import { DuckDBInstance } from "@duckdb/node-api";

/** A file as the manifests tell of it. */
export interface DeliveredFile {
  readonly path: string;
  readonly run: number;
  readonly rows: number;
  readonly bytes: number;
  readonly sha256: string;
  readonly day?: string;
}

export interface DeliveredTable {
  readonly schema: string;
  readonly table: string;
  readonly columns: readonly { readonly name: string; readonly type: string }[];
  readonly files: readonly DeliveredFile[];
}

const OWN = "_early_bridge";

/** A document of the folder. */
export const documentIn = <T>(folder: string, name: string): T =>
  JSON.parse(readFileSync(join(folder, OWN, name), "utf8")) as T;

/** The tables that the folder says it has. */
export function deliveredTables(folder: string): readonly DeliveredTable[] {
  if (!existsSync(join(folder, OWN, "tables.json"))) return [];
  return documentIn<{ tables: DeliveredTable[] }>(folder, "tables.json").tables;
}

/** All files that readers see, whether the manifest has them or not. */
export function filesIn(folder: string): string[] {
  const names = readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => join(entry.parentPath, entry.name).slice(folder.length + 1));
  return names.filter((name) => !name.startsWith(OWN)).sort();
}

interface LedgerLine {
  readonly table: string;
  readonly columns: Record<string, string> | null;
  readonly row: Record<string, string | null> | null;
}

function ledgerLines(folder: string): LedgerLine[] {
  const [name] = readdirSync(join(folder, OWN))
    .filter((each) => each.startsWith("ledger-"))
    .sort()
    .reverse();
  if (name === undefined) return [];
  const text = gunzipSync(readFileSync(join(folder, OWN, name))).toString("utf8");
  return text
    .split("\n")
    .filter((line) => line !== "")
    .map((line) => JSON.parse(line) as LedgerLine);
}

/** Makes the DuckDB file at a path anew of a folder of Parquet files. */
export async function readFolder(folder: string, path: string): Promise<void> {
  rmSync(path, { force: true });
  rmSync(`${path}.wal`, { force: true });
  const instance = await DuckDBInstance.create(path);
  const connection = await instance.connect();
  await connection.run("SET TimeZone = 'UTC'");
  for (const { schema, table, files } of deliveredTables(folder)) {
    const paths = files.map((file) => `'${join(folder, file.path)}'`).join(", ");
    await connection.run(`CREATE SCHEMA IF NOT EXISTS "${schema}"`);
    await connection.run(
      `CREATE TABLE "${schema}"."${table}" AS SELECT * FROM read_parquet([${paths}], union_by_name = true)`,
    );
  }
  const lines = ledgerLines(folder);
  for (const { table, columns } of lines) {
    if (columns === null) continue;
    const typed = Object.entries(columns).map(([name, type]) => `"${name}" ${type}`);
    await connection.run("CREATE SCHEMA IF NOT EXISTS early_bridge");
    await connection.run(`CREATE TABLE early_bridge.${table} (${typed.join(", ")})`);
    const names = Object.keys(columns);
    const rows = lines.flatMap((line) =>
      line.table === table && line.row !== null ? [names.map((name) => line.row?.[name] ?? null)] : [],
    );
    const cells = names.map((_, i) => `each[${i + 1}]`).join(", ");
    await connection.run(
      `INSERT INTO early_bridge.${table} SELECT ${cells} FROM (SELECT unnest(from_json($1::JSON, '[["VARCHAR"]]')) AS each)`,
      [JSON.stringify(rows)],
    );
  }
  connection.closeSync();
  instance.closeSync();
}
