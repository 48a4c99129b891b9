/**
 * The blocks of the file that DuckDB keeps in memory: it gives none back before its limit, which is most of the
 * machine's. Between two checkpoints few are needed, so they are given back then: memory stays flat, however long the
 * stream. A limit that is always low would not do: a group of rows is held whole, and one of 400 columns is large.
 */

import { totalmem } from "node:os";
import type { DuckDBConnection } from "@duckdb/node-api";
import { quoteText } from "./types.js";

/** So much of the file may stay. */
const KEPT_BYTES = 8_000_000;

/** Blocks, and what else stands in memory: rows that wait, above all, are not to be written to the disk for them. */
const HELD = `SELECT coalesce(sum(memory_usage_bytes) FILTER (tag = 'BASE_TABLE'), 0)::DOUBLE AS blocks,
  coalesce(sum(memory_usage_bytes) FILTER (tag <> 'BASE_TABLE'), 0)::DOUBLE AS others FROM duckdb_memory()`;

export class BlockCache {
  /** works under way that use DuckDB's memory beside a checkpoint */
  private working = 0;
  private trimming: Promise<void> | undefined;
  /** what DuckDB has chosen by the machine */
  private usual: string | undefined;

  constructor(private readonly connection: DuckDBConnection) {}

  /** A work that uses DuckDB's memory: the limit is not lowered meanwhile. */
  async during<T>(work: () => Promise<T>): Promise<T> {
    while (this.trimming !== undefined) await this.trimming;
    this.working++;
    try {
      return await work();
    } finally {
      this.working--;
    }
  }

  /** Gives blocks back, unless DuckDB is at work; the next checkpoint does it then. */
  async trim(): Promise<void> {
    if (this.working > 0) return;
    this.trimming = this.lowerLimit().finally(() => {
      this.trimming = undefined;
    });
    await this.trimming;
  }

  /** Gives back what the allocator keeps for later: DuckDB has it do so whenever a limit is set, be it the same. */
  async release(): Promise<void> {
    this.usual ??= await memoryLimit(this.connection);
    // RESET would change what the setting says, and leave the limit that holds as low as it is
    await this.connection.run(`SET memory_limit = ${quoteText(this.usual)}`);
  }

  private async lowerLimit(): Promise<void> {
    const { connection } = this;
    const [held] = (await connection.runAndReadAll(HELD)).getRowObjects();
    if (Number(held?.blocks) <= KEPT_BYTES) return;
    this.usual ??= await memoryLimit(connection);
    try {
      await connection.run(`SET memory_limit = '${KEPT_BYTES + Number(held?.others)}B'`);
    } catch {
      // more than that is in use: what could be given back is
    } finally {
      await this.release();
    }
  }
}

/**
 * Bytes that DuckDB may take: half of what this process has, be it the machine's or a container's. By itself it takes
 * four fifths, and with what pages and rows need a small container would be stopped; beyond the limit it uses the disk.
 */
export function memoryShare(): number {
  // 0, or more than there is: nothing is set
  const limit = process.constrainedMemory() ?? 0;
  const all = limit > 0 ? Math.min(limit, totalmem()) : totalmem();
  return Math.floor(all / 2);
}

/** The limit that holds. */
export async function memoryLimit(connection: DuckDBConnection): Promise<string> {
  const [row] = (await connection.runAndReadAll("CALL pragma_database_size()")).getRowObjects();
  return String(row?.memory_limit);
}
