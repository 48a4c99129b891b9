/** On how many threads DuckDB works. */

import { availableParallelism } from "node:os";
import type { SqlConnection } from "../sql/dialect.js";

/** Rows are read and shaped on a thread of ours meanwhile. */
export const usualThreads = (): number => Math.max(1, availableParallelism() - 1);

/** A work that uses all cores, for reading waits for it. */
export async function onAllCores<T>(on: SqlConnection, work: () => Promise<T>): Promise<T> {
  await on.run(`SET threads = ${availableParallelism()}`);
  try {
    return await work();
  } finally {
    // where the transaction has failed it takes no statement, and the run ends
    await on.run(`SET threads = ${usualThreads()}`).catch(() => {});
  }
}
