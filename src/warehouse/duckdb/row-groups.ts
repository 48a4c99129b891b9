/**
 * Groups of rows: a group is packed when it is full, and held whole until then. Whenever it writes its file, at the
 * latest when that is closed, DuckDB puts neighbours together that are not full. That has to be: each run leaves a
 * group of its few rows in every table of the ledger, and each group takes room and time. But of a long load it packs
 * most once more, and leaves a file of twice the size; and groups of long rows would take all memory, however few came.
 *
 *   a file is opened ──▶ its widest rows ──▶ how many of them a group may have
 *   rows come        ──▶ by rows and bytes: a long load? ──▶ its groups stay as they come
 */

import { stat } from "node:fs/promises";
import type { DuckDBConnection } from "@duckdb/node-api";
import { LEDGER_SCHEMA } from "../sql/ledger-schema.js";
import { transaction } from "../sql/transaction.js";
import { STAGE_SIZES } from "./stage-sizes.js";
import { FILE_DATABASE, quoteName, quoteText, schemaName } from "./types.js";

/** The rows of a full group, in a table as in a Parquet file, where nothing else is said. */
export const FULL_GROUP = 122_880;

/** a group has whole vectors; of fewer rows, narrow tables of the same file would suffer */
const VECTOR = 2048;
const FEWEST = 2 * VECTOR;

/** A ledger of more groups than that is put together, also after a long load. */
const MOST_OF_LEDGER = 20;

/** some: in each table the first few neighbours that make fewer groups */
type Joined = "none" | "some" | "all";

const SETTING: Readonly<Record<Joined, string>> = {
  none: "SET max_vacuum_tasks = 0",
  some: "SET max_vacuum_tasks = 1",
  all: "RESET max_vacuum_tasks",
};

const INTO_FILE = `INSERT INTO ${FILE_DATABASE}.`;
const OF_FILE = `DELETE FROM ${FILE_DATABASE}.`;
const LEDGER = schemaName(LEDGER_SCHEMA).slice(FILE_DATABASE.length);

export class RowGroups {
  /** since the file was opened; rows of the ledger come and go with every checkpoint, and do not count */
  private readonly rows = { added: 0, deleted: 0 };
  private longBytes = 0;
  private joined: Joined | undefined;

  /** the rows of a full group in this file */
  private full = FULL_GROUP;
  /** even the smallest group of the file's rows would be too large */
  private isTooWide = false;

  private constructor(
    private readonly connection: DuckDBConnection,
    private readonly attach: (more?: string) => Promise<unknown>,
  ) {}

  /** Attaches a file by some options. */
  static async attach(connection: DuckDBConnection, path: string, options: string): Promise<RowGroups> {
    const attach = (more = "") =>
      connection.run(`ATTACH ${quoteText(path)} AS ${FILE_DATABASE} (${options}${more})`);
    const groups = new RowGroups(connection, attach);
    await attach();
    await groups.join("some");
    return groups;
  }

  /** Chooses a size that suits the file's widest rows, by the bytes that one of them takes. */
  async suit(rowBytes: number): Promise<void> {
    this.full = rowsOfGroup(rowBytes);
    this.isTooWide = rowBytes * this.full > 2 * STAGE_SIZES.groupBytes;
    if (this.full < FULL_GROUP) {
      // the size is the attachment's
      await this.connection.run(`DETACH ${FILE_DATABASE}`);
      await this.attach(`, ROW_GROUP_SIZE ${this.full}`);
    }
    if (!this.isTooWide) return;
    await this.join("none");
    await this.tidyLedger();
  }

  /** So many bytes of long rows are on their way into the file. */
  come(longBytes: number): void {
    this.longBytes += longBytes;
  }

  /** A statement was run that changed so many rows. */
  async noted(sql: string, rowsChanged: number): Promise<void> {
    const kind = sql.startsWith(INTO_FILE) ? "added" : sql.startsWith(OF_FILE) ? "deleted" : undefined;
    if (kind === undefined || sql.startsWith(LEDGER, sql.indexOf("."))) return;
    this.rows[kind] += rowsChanged;
    const { added, deleted } = this.rows;
    const isLong = added >= this.full || this.longBytes >= STAGE_SIZES.groupBytes;
    if (this.isTooWide) return;
    // what is gone leaves room to be gained
    if (deleted >= FULL_GROUP) await this.join("all");
    else if (isLong && this.joined === "some" && (await this.isLedgerTidy())) await this.join("none");
  }

  private async join(joined: Joined): Promise<void> {
    if (this.joined === joined) return;
    await this.connection.run(SETTING[joined]);
    this.joined = joined;
  }

  /** Of its tables, that of the checkpoints grows fastest. */
  private isLedgerTidy(): Promise<boolean> {
    return this.isTidy("checkpoints");
  }

  private async isTidy(table: string): Promise<boolean> {
    const name = quoteText(`${schemaName(LEDGER_SCHEMA)}.${table}`);
    const query = `SELECT count(DISTINCT row_group_id)::DOUBLE AS groups FROM pragma_storage_info(${name})`;
    const [row] = await rowsOf(this.connection, query);
    return Number(row?.groups) <= MOST_OF_LEDGER;
  }

  /** Puts the groups of the ledger's tables together, and no others: a group that is empty goes by itself. */
  private async tidyLedger(): Promise<void> {
    const { connection } = this;
    const tables = await rowsOf(
      connection,
      `SELECT table_name AS name FROM duckdb_tables()
       WHERE database_name = '${FILE_DATABASE}' AND schema_name = '${LEDGER_SCHEMA}'`,
    );
    for (const { name } of tables) {
      if (await this.isTidy(String(name))) continue;
      const table = `${schemaName(LEDGER_SCHEMA)}.${name}`;
      const statements = [
        `CREATE TEMPORARY TABLE eb_kept AS SELECT * FROM ${table}`,
        `DELETE FROM ${table}`,
        `INSERT INTO ${table} SELECT * FROM eb_kept`,
        "DROP TABLE eb_kept",
      ];
      await transaction(
        (statement) => connection.run(statement),
        async () => {
          for (const statement of statements) await connection.run(statement);
        },
      );
    }
  }
}

/** How many rows a full group may have, of so many bytes each. */
export function rowsOfGroup(rowBytes: number): number {
  const vectors = Math.floor(STAGE_SIZES.groupBytes / (rowBytes * VECTOR));
  return Math.min(FULL_GROUP, Math.max(FEWEST, vectors * VECTOR));
}

/**
 * The bytes that a row takes in the file, in the table that has the widest. 0: no group can be large, for all of the
 * file is not, or has more rows than that.
 */
export async function widestRow(connection: DuckDBConnection, path: string): Promise<number> {
  const { size: fileBytes } = await stat(path);
  if (fileBytes <= STAGE_SIZES.groupBytes) return 0;
  // no table takes more than the file
  const most = Math.floor((fileBytes * FULL_GROUP) / STAGE_SIZES.groupBytes);
  const tables = await rowsOf(
    connection,
    `SELECT schema_name AS schema, table_name AS name, estimated_size::DOUBLE AS rows FROM duckdb_tables()
     WHERE database_name = '${FILE_DATABASE}' AND schema_name <> '${LEDGER_SCHEMA}'
     AND estimated_size BETWEEN 1 AND ${most}`,
  );
  if (tables.length === 0) return 0;
  const each = tables.map(({ schema, name, rows }) => {
    const table = quoteText([FILE_DATABASE, schema, name].map((part) => quoteName(String(part))).join("."));
    return `SELECT count(DISTINCT block) / ${rows} AS width FROM
      (SELECT unnest(list_append(additional_block_ids, block_id)) AS block FROM pragma_storage_info(${table}))`;
  });
  const [widest] = await rowsOf(
    connection,
    `SELECT max(width) * max(block_size)::DOUBLE AS bytes FROM (${each.join(" UNION ALL ")}), pragma_database_size()
     WHERE database_name = '${FILE_DATABASE}'`,
  );
  return Number(widest?.bytes);
}

async function rowsOf(connection: DuckDBConnection, query: string) {
  return (await connection.runAndReadAll(query)).getRowObjectsJS();
}
