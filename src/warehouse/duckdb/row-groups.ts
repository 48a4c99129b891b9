/**
 * Groups of rows that are not full. Whenever it writes its file, at the latest when that is closed, DuckDB puts
 * neighbours of them together: after a long load it packs most of what came in once more, and leaves a file of twice
 * the size. There is something to gain by it only where rows were deleted.
 */

import type { DuckDBConnection } from "@duckdb/node-api";
import { LEDGER_SCHEMA } from "../sql/ledger-schema.js";
import { FILE_DATABASE, schemaName } from "./types.js";

const OF_FILE = `DELETE FROM ${FILE_DATABASE}.`;
/** its few rows come and go with every checkpoint */
const OF_LEDGER = `DELETE FROM ${schemaName(LEDGER_SCHEMA)}.`;

export class RowGroups {
  private areLeft = false;

  constructor(private readonly connection: DuckDBConnection) {}

  /** They stay as they are, until rows are deleted. */
  async leave(): Promise<void> {
    await this.connection.run("SET max_vacuum_tasks = 0");
    this.areLeft = true;
  }

  /** A statement was run that changed so many rows. */
  async noted(sql: string, rowsChanged: number): Promise<void> {
    if (!this.areLeft || rowsChanged === 0 || !sql.startsWith(OF_FILE) || sql.startsWith(OF_LEDGER)) return;
    this.areLeft = false;
    await this.connection.run("RESET max_vacuum_tasks");
  }
}
