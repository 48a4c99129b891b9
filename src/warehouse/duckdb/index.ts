/** The DuckDB warehouse: one file, one writer at a time. */

import { basename } from "node:path";
import type { Warehouse, WarehouseSession } from "../warehouse.js";
import { type Lease, leaseFile } from "./open-files.js";
import { type DuckSession, openFile } from "./session.js";

/**
 * A warehouse in a DuckDB file; the file is made where there is none. All openings of one file in a process share a
 * session, whatever path leads there.
 * @throws BridgeError when opened: WAREHOUSE_LOCKED, WAREHOUSE_NOT_OURS, WAREHOUSE_UNREACHABLE, WAREHOUSE_NEWER
 */
export function duckdb(path: string): Warehouse {
  return {
    title: `DuckDB file ${basename(path)}`,
    grants: () =>
      `-- DuckDB has no users: whoever runs the bridge must be able to read and write\n-- the file ${basename(path)} and to make files in its folder.`,
    open: async ({ readOnly = false } = {}) =>
      leaseOf(await leaseFile(path, readOnly, () => openFile(path, readOnly))),
  };
}

/** A session as one of its users sees it. */
function leaseOf({ session, leave }: Lease<DuckSession>): WarehouseSession {
  return {
    names: session.names,
    ledger: session.ledger,
    openLoad: (options) => session.openLoad(options),
    dropStream: (of) => session.dropStream(of),
    about: () => session.about(),
    tryWriting: (schema) => session.tryWriting(schema),
    makeViews: (of, queries, atMs) => session.makeViews(of, queries, atMs),
    checkViews: (of, queries) => session.checkViews(of, queries),
    describeTables: (schema) => session.describeTables(schema),
    sampleRows: (schema, table, limit) => session.sampleRows(schema, table, limit),
    close: leave,
  };
}
