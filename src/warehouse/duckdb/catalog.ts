/** The tables of a DuckDB file: asked for once, and again when one was made, altered or dropped. */

import type { SqlConnection, SqlRow } from "../sql/dialect.js";
import { FILE_DATABASE } from "./types.js";

/** Columns' names by the table or view that has them. */
export type TableColumns = ReadonlyMap<string, ReadonlySet<string>>;

/** The tables and views of a schema. */
interface Tables {
  readonly columns: TableColumns;
  /** those with columns that hold no NULL: tables of ours have such where their key is declared */
  readonly keyed: ReadonlySet<string>;
}

/** Whether a statement changes tables of the file, which are always named with it; a schema that it makes has none. */
function changesTables(sql: string): boolean {
  const isOfTables = /^\s*(CREATE(?! SCHEMA| TEMPORARY)|ALTER|DROP)\b/i.test(sql);
  return /^\s*ROLLBACK\b/i.test(sql) || (isOfTables && sql.includes(`${FILE_DATABASE}.`));
}

export class Catalog {
  private readonly known = new Map<string, Promise<Tables>>();

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

  /** A connection whose changes are seen by others when it commits them. */
  keptAtCommit(connection: SqlConnection): SqlConnection {
    return {
      rows: (sql, values) => connection.rows(sql, values),
      run: async (sql, values) => {
        await connection.run(sql, values);
        if (sql === "COMMIT") this.known.clear();
      },
    };
  }

  /** The tables and views of a schema. */
  async columnsOf(schema: string): Promise<TableColumns> {
    return (await this.tablesOf(schema)).columns;
  }

  /** Whether a table of ours has its key declared. */
  async isKeyed(schema: string, table: string): Promise<boolean> {
    return (await this.tablesOf(schema)).keyed.has(table);
  }

  private tablesOf(schema: string): Promise<Tables> {
    const known = this.known.get(schema);
    if (known !== undefined) return known;
    const asked = this.ask(schema);
    this.known.set(schema, asked);
    // what failed is asked for again
    asked.catch(() => this.known.delete(schema));
    return asked;
  }

  private async ask(schema: string): Promise<Tables> {
    const rows = await this.read(
      `SELECT table_name, column_name, is_nullable FROM duckdb_columns()
       WHERE schema_name = $1 AND database_name = '${FILE_DATABASE}' ORDER BY table_name`,
      [schema],
    );
    const columns = new Map<string, Set<string>>();
    const keyed = new Set<string>();
    for (const row of rows) {
      const table = String(row.table_name);
      columns.set(table, (columns.get(table) ?? new Set()).add(String(row.column_name)));
      if (row.is_nullable === false) keyed.add(table);
    }
    return { columns, keyed };
  }
}
