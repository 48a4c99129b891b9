/** The DuckDB warehouse: one file, one writer at a time. */

import { basename } from "node:path";
import type { Warehouse } from "../warehouse.js";
import { leaseFile, leaseOf } from "./open-files.js";
import { openFile } from "./session.js";

/** What a DuckDB file's owner may choose. */
export interface DuckdbChoices {
  /**
   * whether the stream's own table has its records' key as its primary key, where it has one row for each record;
   * default: no, for its index takes time and memory
   */
  readonly declareKeys?: boolean | undefined;
  /**
   * the form that the file is written in, as DuckDB names them: `v1.3.0`, `latest`. Programs of an older version cannot
   * read it. A file that is there is brought to it, and stays so; default: what every version since 1.0 reads
   */
  readonly storageVersion?: string | undefined;
}

/**
 * A warehouse in a DuckDB file; the file is made where there is none. All openings of one file in a process share a
 * session, whatever path leads there.
 * @throws BridgeError when opened: WAREHOUSE_LOCKED, WAREHOUSE_NOT_OURS, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER
 */
export function duckdb(path: string, choices: DuckdbChoices = {}): Warehouse {
  const { declareKeys = false, storageVersion } = choices;
  return {
    title: `DuckDB file ${basename(path)}`,
    grants: () =>
      `-- DuckDB has no users: whoever runs the bridge must be able to read and write\n-- the file ${basename(path)} and to make files in its folder.`,
    open: async (options = {}) => {
      const open = () => openFile(path, { ...options, storageVersion });
      // what has no ledger is no session for others
      if (options.withoutLedger === true) return open();
      const lease = await leaseFile(path, options.readOnly === true, open);
      return leaseOf(lease, (session, load) => session.openLoad(load, declareKeys));
    },
  };
}
