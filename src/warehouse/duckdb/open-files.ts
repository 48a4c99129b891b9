/**
 * The DuckDB files that this process has open: one session for each real path.
 *
 * DuckDB's own lock on a file is one of the process: inside of it, two sessions of one file would not see each other,
 * and the one that is closed last would write over the other's tables. So the list is shared by all copies of this
 * package that a process has loaded.
 */

import { realpath } from "node:fs/promises";
import { basename, dirname, join, resolve } from "node:path";
import { BridgeError } from "../../core/errors.js";
import type { LoadOptions, StreamLoad, WarehouseSession } from "../warehouse.js";

interface OpenFile<S> {
  readonly session: Promise<S>;
  readonly readOnly: boolean;
  users: number;
}

/** A session as one of its users has it: leaving twice leaves once. */
export interface Lease<S> {
  readonly session: S;
  leave(): Promise<void>;
}

interface Files {
  readonly open: Map<string, OpenFile<unknown>>;
  /** the last closing of each file: the next opening waits for it */
  readonly closing: Map<string, Promise<void>>;
}

const KEY = Symbol.for("early-bridge.duckdb-files");

function filesOfProcess(): Files {
  const shared = globalThis as { [KEY]?: Files };
  shared[KEY] ??= { open: new Map(), closing: new Map() };
  return shared[KEY];
}

const files = filesOfProcess();

/**
 * Opens a file, or shares the session that is open already.
 * @throws BridgeError WAREHOUSE_LOCKED where it is to be written, and is open for reading
 */
export async function leaseFile<S extends { close(): Promise<void> }>(
  path: string,
  readOnly: boolean,
  open: () => Promise<S>,
): Promise<Lease<S>> {
  const key = await realPathOf(path);
  let file = files.open.get(key) as OpenFile<S> | undefined;
  if (file?.readOnly === true && !readOnly)
    throw new BridgeError("WAREHOUSE_LOCKED", "The DuckDB file is open for reading in this process.", {
      where: { file: path },
      hint: "Close the other session first.",
    });
  if (file === undefined) {
    const session = (files.closing.get(key) ?? Promise.resolve()).then(open);
    file = { session, readOnly, users: 0 };
    files.open.set(key, file);
  }
  const mine = file;
  mine.users++;
  let left: Promise<void> | undefined;
  const leave = async () => {
    if (--mine.users > 0) return;
    if (files.open.get(key) === mine) files.open.delete(key);
    const closed = mine.session.then((session) => session.close());
    files.closing.set(
      key,
      closed.catch(() => {}),
    );
    await closed;
  };
  try {
    const session = await mine.session;
    return {
      session,
      leave: () => {
        left ??= leave();
        return left;
      },
    };
  } catch (error) {
    if (files.open.get(key) === mine) files.open.delete(key);
    throw error;
  }
}

/** A session as one of its users sees it; `openLoad`: how that one loads. */
export function leaseOf<S extends WarehouseSession>(
  { session, leave }: Lease<S>,
  openLoad = (of: S, options: LoadOptions): Promise<StreamLoad> => of.openLoad(options),
): WarehouseSession {
  const { userTable } = session;
  return {
    names: session.names,
    ledger: session.ledger,
    openLoad: (options) => openLoad(session, options),
    ...(userTable && { userTable: (schema, table) => userTable.call(session, schema, table) }),
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

/** The path that a file has, or will have when it is made, whatever links lead there. */
async function realPathOf(path: string): Promise<string> {
  const whole = resolve(path);
  const real = (of: string) => realpath(of).catch(() => undefined);
  const folder = (await real(dirname(whole))) ?? dirname(whole);
  return (await real(whole)) ?? join(folder, basename(whole));
}
