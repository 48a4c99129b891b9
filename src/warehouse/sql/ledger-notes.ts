/** What a load notes in the ledger, inside the transaction of its checkpoint and on the connection that it uses. */

import { BridgeError } from "../../core/errors.js";
import { nameOfTable } from "../../core/into/user-table.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { CheckpointEntry, LoadOptions, SchemaChange, Spent } from "../warehouse.js";
import type { SqlConnection, SqlDialect } from "./dialect.js";
import { changeRows } from "./ledger-changes.js";
import { columnRows, ownOrNot, seenQuery, seenTimes } from "./ledger-columns.js";
import { putCursors } from "./ledger-cursors.js";
import { anyOpenQuery, behindThoseOf, type Misfits, settle, withoutKnown } from "./ledger-quarantine.js";
import { timestamp } from "./ledger-rows.js";
import { insertRows, ledgerSchema } from "./ledger-schema.js";
import type { LoadNotes, SweepNote } from "./load-ports.js";

export class LedgerNotes implements LoadNotes {
  constructor(private readonly sql: SqlDialect) {}

  /** @throws BridgeError BRIDGE_RUNNING where another process has taken the bridge over */
  async noteCheckpoint(
    on: SqlConnection,
    options: LoadOptions,
    entry: CheckpointEntry,
    rows: number,
  ): Promise<void> {
    const { run, bridge, stream } = options;
    const { cursors } = entry;
    await this.checkOwner(on, options);
    const whole = cursors.size === 1 ? cursors.get("") : undefined;
    const noted = cursors.size === 0 ? null : JSON.stringify(whole ?? Object.fromEntries(cursors));
    const checkpoint = [run, bridge, stream, entry.number, timestamp(entry.atMs), rows, noted];
    await insertRows(this.sql, on, "checkpoints", [checkpoint]);
    await this.noteSpent(on, entry.spent, entry.atMs);
    for (const settled of entry.settled ?? []) await settle(this.sql, on, options, settled, entry.atMs);
    const into = options.into && nameOfTable(options.into.match.table);
    const placed = [...cursors].map(([part, cursor]) => [part, { ...cursor, into }] as const);
    await putCursors(this.sql, on, options, new Map(placed), { atMs: entry.atMs, run });
  }

  /** Whoever starts a run of a bridge marks those that have lost their process, or their connection alone. */
  async checkOwner(on: SqlConnection, { run, bridge }: LoadOptions): Promise<void> {
    if (this.sql.ledger.lockRuns === undefined) return;
    const [own] = await on.rows(
      `SELECT outcome FROM ${ledgerSchema(this.sql)}.runs WHERE run = $1 AND outcome = 'broken_off' FOR UPDATE`,
      [run],
    );
    if (own !== undefined)
      throw new BridgeError("BRIDGE_RUNNING", `Another process has taken over bridge ${bridge}.`, {
        where: { bridge },
      });
  }

  async noteSpent(on: SqlConnection, { account, byGroup }: Spent, atMs: number): Promise<void> {
    const at = timestamp(atMs);
    const rows = [...byGroup].map(([group, cost]) => [account, group, at, Math.ceil(cost)]);
    await insertRows(this.sql, on, "rate_usage", rows);
  }

  /** Keeps what is known of a stream's columns. */
  async noteColumns(
    on: SqlConnection,
    options: LoadOptions,
    tables: readonly TableSchema[],
    atMs: number,
  ): Promise<void> {
    const { bridge, stream, schema } = options;
    const of = [schema, bridge, stream];
    const own = ownOrNot(options.into !== undefined);
    const times = seenTimes(await on.rows(`${seenQuery(this.sql)} AND ${own}`, of));
    await on.run(
      `DELETE FROM ${ledgerSchema(this.sql)}.columns
       WHERE table_schema = $1 AND bridge = $2 AND stream = $3 AND ${own}`,
      of,
    );
    await insertRows(this.sql, on, "columns", columnRows(options, tables, times, atMs));
  }

  async noteSweep(on: SqlConnection, options: LoadOptions, { atMs, living, gone }: SweepNote): Promise<void> {
    const { run, bridge, stream } = options;
    await insertRows(this.sql, on, "sweeps", [[run, bridge, stream, timestamp(atMs), living, gone]]);
  }

  async noteChanges(
    on: SqlConnection,
    options: LoadOptions,
    changes: readonly SchemaChange[],
    atMs: number,
  ): Promise<void> {
    await insertRows(this.sql, on, "schema_changes", changeRows(options, changes, atMs));
  }

  async hasQuarantined(on: SqlConnection, { bridge, stream }: LoadOptions): Promise<boolean> {
    return (await on.rows(anyOpenQuery(this.sql), [bridge, stream])).length > 0;
  }

  async noteMisfits(on: SqlConnection, options: LoadOptions, misfits: Misfits, atMs: number): Promise<void> {
    if (misfits.count === 0) return;
    const fromMicros = await behindThoseOf(this.sql, on, options, atMs);
    const rows = await withoutKnown(this.sql, on, options, misfits.rows(options, fromMicros));
    await insertRows(this.sql, on, "quarantine", rows);
  }
}
