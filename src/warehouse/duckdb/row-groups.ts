/**
 * Groups of rows that are not full. Whenever it writes its file, at the latest when that is closed, DuckDB puts
 * neighbours of them together. That has to be: each run leaves a group of its few rows in every table of the ledger,
 * and each group takes room and time. But of a long load it packs most once more, and leaves a file of twice the size.
 */

import type { DuckDBConnection } from "@duckdb/node-api";
import { LEDGER_SCHEMA } from "../sql/ledger-schema.js";
import { FILE_DATABASE, schemaName } from "./types.js";

/** the rows of a full group */
const FULL = 122_880;

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
  /** rows since the file was opened; those of the ledger come and go with every checkpoint, and do not count */
  private readonly rows = { added: 0, deleted: 0 };
  private joined: Joined | undefined;

  constructor(private readonly connection: DuckDBConnection) {}

  async begin(): Promise<void> {
    await this.join("some");
  }

  /** A statement was run that changed so many rows. */
  async noted(sql: string, rowsChanged: number): Promise<void> {
    const kind = sql.startsWith(INTO_FILE) ? "added" : sql.startsWith(OF_FILE) ? "deleted" : undefined;
    if (kind === undefined || sql.startsWith(LEDGER, sql.indexOf("."))) return;
    this.rows[kind] += rowsChanged;
    const { added, deleted } = this.rows;
    // what is gone leaves room to be gained
    if (deleted >= FULL) await this.join("all");
    else if (added >= FULL && this.joined === "some" && (await this.isLedgerTidy())) await this.join("none");
  }

  private async join(joined: Joined): Promise<void> {
    if (this.joined === joined) return;
    await this.connection.run(SETTING[joined]);
    this.joined = joined;
  }

  /** Of its tables, that of the checkpoints grows fastest. */
  private async isLedgerTidy(): Promise<boolean> {
    const table = `${schemaName(LEDGER_SCHEMA)}.checkpoints`;
    const query = `SELECT count(DISTINCT row_group_id)::DOUBLE AS groups FROM pragma_storage_info('${table}')`;
    const [row] = (await this.connection.runAndReadAll(query)).getRowObjectsJS();
    return Number(row?.groups) <= MOST_OF_LEDGER;
  }
}
