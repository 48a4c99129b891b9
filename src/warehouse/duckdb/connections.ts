/** Connections to a DuckDB file, and what is kept up with their statements. */

import type { DuckDBConnection } from "@duckdb/node-api";
import type { SqlConnection, SqlValue } from "../sql/dialect.js";
import type { LoadPorts } from "../sql/load-ports.js";
import type { StreamPlace } from "../warehouse.js";
import type { RowGroups } from "./row-groups.js";

/** What goes with the transactions in a DuckDB file in which another warehouse works: what counts is elsewhere. */
export interface Upkeep {
  /** the folder whose files it reads and writes */
  readonly folder: string;
  /** Brings the ledger in, before it is looked at. */
  bringIn(on: SqlConnection): Promise<void>;
  /** The bytes of a row in what is brought in later, where rows are widest. */
  widestRow(on: SqlConnection): Promise<number>;
  /** A transaction begins; what the last one left, where it was not committed, is void. */
  begin(): void;
  /** Statements that are run, before they are. */
  willRun(sql: string): void;
  /** Inside of a transaction, at its end. */
  beforeCommit(on: SqlConnection): Promise<void>;
  afterCommit(on: SqlConnection): Promise<void>;
  readonly writeOut: NonNullable<LoadPorts["writeOut"]>;
  /** A stream's tables go, inside of a transaction. */
  dropped(on: SqlConnection, of: StreamPlace): Promise<void>;
}

/** A connection whose transactions are kept up with. */
export function withUpkeep(connection: SqlConnection, upkeep: Upkeep | undefined): SqlConnection {
  if (upkeep === undefined) return connection;
  const kept: SqlConnection = {
    rows: (sql, values) => connection.rows(sql, values),
    run: async (sql, values) => {
      upkeep.willRun(sql);
      if (sql === "BEGIN") upkeep.begin();
      if (sql === "COMMIT") await upkeep.beforeCommit(kept);
      await connection.run(sql, values);
      if (sql === "COMMIT") await upkeep.afterCommit(kept);
    },
  };
  return kept;
}

export function connectionOf(connection: DuckDBConnection, groups?: RowGroups): SqlConnection {
  const list = (values: readonly SqlValue[] = []) => values.map((value) => value);
  return {
    run: async (sql, values) => {
      const { rowsChanged } = await connection.run(sql, list(values));
      await groups?.noted(sql, rowsChanged);
    },
    rows: async (sql, values) => (await connection.runAndReadAll(sql, list(values))).getRowObjectsJS(),
  };
}
