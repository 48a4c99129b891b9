/** The tables of a DuckDB file: asked for once, and again when one was made, altered or dropped. */

import type { SqlConnection, SqlRow } from "../sql/dialect.js";
import { FILE_DATABASE } from "./types.js";

/** Columns' names by the table or view that has them. */
export type TableColumns = ReadonlyMap<string, ReadonlySet<string>>;

/** Whether a statement changes tables of the file, which are always named with it; a schema that it makes has none. */
function changesTables(sql: string): boolean {
  const isOfTables = /^\s*(CREATE(?! SCHEMA| TEMPORARY)|ALTER|DROP)\b/i.test(sql);
  return /^\s*ROLLBACK\b/i.test(sql) || (isOfTables && sql.includes(`${FILE_DATABASE}.`));
}

export class Catalog {
  private readonly known = new Map<string, Promise<TableColumns>>();

  /** `read` asks outside of transactions. */
  constructor(private readonly read: (sql: string, values: string[]) => Promise<readonly SqlRow[]>) {}

  /** A connection to the file whose changes are noticed. */
  keptBy(connection: SqlConnection): SqlConnection {
    return {
      rows: (sql, values) => connection.rows(sql, values),
      run: async (sql, values) => {
        await connection.run(sql, values);
        if (changesTables(sql)) this.known.clear();
      },
    };
  }

  /** The tables and views of a schema. */
  columnsOf(schema: string): Promise<TableColumns> {
    const known = this.known.get(schema);
    if (known !== undefined) return known;
    const asked = this.ask(schema);
    this.known.set(schema, asked);
    // what failed is asked for again
    asked.catch(() => this.known.delete(schema));
    return asked;
  }

  private async ask(schema: string): Promise<TableColumns> {
    const rows = await this.read(
      `SELECT table_name, column_name FROM duckdb_columns()
       WHERE schema_name = $1 AND database_name = '${FILE_DATABASE}' ORDER BY table_name`,
      [schema],
    );
    const tables = new Map<string, Set<string>>();
    for (const row of rows) {
      const table = String(row.table_name);
      tables.set(table, (tables.get(table) ?? new Set()).add(String(row.column_name)));
    }
    return tables;
  }
}
