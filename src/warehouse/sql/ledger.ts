/** The ledger in a warehouse that speaks SQL. */

import { BridgeError } from "../../core/errors.js";
import { grouped } from "../../core/grouped.js";
import type { KnownColumn } from "../../core/shape/shaped.js";
import type { SavedCursor } from "../../core/track/cursor.js";
import type {
  JournaledChange,
  Ledger,
  Quarantined,
  QuarantineFault,
  QuarantineFilter,
  RunEnd,
  RunOutcome,
  RunRecord,
  RunStart,
  Settled,
  StreamPlace,
} from "../warehouse.js";
import type { SqlConnection, SqlDialect, SqlRow, SqlValue } from "./dialect.js";
import { changesQuery, journaledChange, schemaChange } from "./ledger-changes.js";
import { knownColumn, ownOrNot } from "./ledger-columns.js";
import { forgetStream, putCursors } from "./ledger-cursors.js";
import { LedgerNotes } from "./ledger-notes.js";
import { openFaults, openRecords, settle } from "./ledger-quarantine.js";
import { streamCells, streamRecord, textOrNothing, timestamp } from "./ledger-rows.js";
import { insertRows, LEDGER_SCHEMA, ledgerSchema, makeTables } from "./ledger-schema.js";
import { LEDGER_VERSION, upgradeFrom, versionQueries } from "./ledger-upgrades.js";
import { makeViews } from "./ledger-views.js";
import { transaction } from "./transaction.js";

/** No limit is longer than a day. */
const SPENT_KEPT_MS = 2 * 86_400_000;

/** Keeps other processes from a bridge while it runs, where the warehouse has several of them at a time. */
export interface BridgeClaims {
  /** false where another process has it */
  claim(bridge: string): Promise<boolean>;
  release(bridge: string): void;
}

export class SqlLedger implements Ledger {
  readonly notes: LedgerNotes;
  /** bridges that this process runs now */
  private readonly running = new Set<string>();

  /** its schema, in full */
  private readonly schema: string;

  constructor(
    private readonly sql: SqlDialect,
    private readonly connection: SqlConnection,
    /**
     * Runs work while nobody else uses the connection. The methods of the interface take their turn by it; what a
     * checkpoint notes has it already.
     */
    private readonly inTurn: <T>(work: () => Promise<T>) => Promise<T>,
    private readonly claims?: BridgeClaims,
  ) {
    this.schema = ledgerSchema(sql);
    this.notes = new LedgerNotes(sql);
  }

  /** Makes the ledger's tables, or checks that this version can read them. */
  async prepare(readOnly: boolean): Promise<void> {
    const version = await this.version();
    if (version === undefined) {
      if (readOnly) throw new BridgeError("WAREHOUSE_EMPTY", "No bridge has run into this warehouse yet.");
      return this.make();
    }
    if (version > LEDGER_VERSION || version < 1) {
      const message = `The ledger has version ${version}; this program reads up to ${LEDGER_VERSION}.`;
      throw new BridgeError("WAREHOUSE_NEWER", message);
    }
    if (version === LEDGER_VERSION) return;
    if (readOnly) {
      const message = `The ledger has version ${version}; this program reads version ${LEDGER_VERSION}.`;
      throw new BridgeError("WAREHOUSE_OLDER", message);
    }
    for (let old = version; old < LEDGER_VERSION; old++)
      await this.transaction([
        ...upgradeFrom(this.sql, old),
        ...(old + 1 === LEDGER_VERSION ? makeViews(this.sql) : []),
      ]);
  }

  /** Undefined where there is no ledger yet. */
  private async version(): Promise<number | undefined> {
    for (const [table, query] of versionQueries(this.sql)) {
      const found = await this.connection.rows(
        `SELECT 1 FROM information_schema.tables
         WHERE table_catalog = ${this.sql.ledger.catalog} AND table_schema = $1 AND table_name = $2`,
        [this.sql.ledger.databaseOf?.(LEDGER_SCHEMA) ?? LEDGER_SCHEMA, table],
      );
      if (found.length > 0) return Number((await this.connection.rows(query))[0]?.version ?? 0);
    }
    return undefined;
  }

  private make(): Promise<void> {
    return this.transaction([...makeTables(this.sql, LEDGER_VERSION), ...makeViews(this.sql)]);
  }

  async startRun({ bridge, startedAtMs }: RunStart): Promise<number> {
    if (this.running.has(bridge))
      throw new BridgeError("BRIDGE_RUNNING", `Bridge ${bridge} is running already, in this process.`, {
        where: { bridge },
      });
    this.running.add(bridge);
    try {
      if ((await this.claims?.claim(bridge)) === false)
        throw new BridgeError("BRIDGE_RUNNING", `Bridge ${bridge} is running already, in another process.`, {
          where: { bridge },
        });
      return await this.noteStart(bridge, startedAtMs);
    } catch (error) {
      this.letGo(bridge);
      throw error;
    }
  }

  letGo(bridge: string): void {
    if (this.running.delete(bridge)) this.claims?.release(bridge);
  }

  private noteStart(bridge: string, startedAtMs: number): Promise<number> {
    const at = timestamp(startedAtMs);
    return this.inTransaction(async () => {
      const { lockRuns, moment } = this.sql.ledger;
      if (lockRuns !== undefined) await this.connection.run(lockRuns(`${this.schema}.runs`));
      // a bridge has one process at a time: a run still noted as running has lost it
      await this.connection.run(
        `UPDATE ${this.schema}.runs SET outcome = 'broken_off', ended_at = ${moment("$1")}
         WHERE bridge = $2 AND outcome = 'running'`,
        [at, bridge],
      );
      await this.connection.run(`DELETE FROM ${this.schema}.rate_usage WHERE used_at < ${moment("$1")}`, [
        timestamp(startedAtMs - SPENT_KEPT_MS),
      ]);
      const [row] = await this.connection.rows(
        `SELECT coalesce(max(run), 0) + 1 AS run FROM ${this.schema}.runs`,
      );
      const run = Number(row?.run);
      await insertRows(this.sql, this.connection, "runs", [[run, bridge, "running", at]]);
      return run;
    });
  }

  endRun(end: RunEnd): Promise<void> {
    return this.inTransaction(async () => {
      await insertRows(
        this.sql,
        this.connection,
        "run_streams",
        end.streams.map((stream) => streamCells(end.run, stream)),
      );
      await this.connection.run(
        `UPDATE ${this.schema}.runs SET outcome = $1, ended_at = ${this.sql.ledger.moment("$2")}, error_code = $3, error_message = $4
         WHERE run = $5`,
        [
          end.outcome,
          timestamp(end.endedAtMs),
          end.errorCode ?? null,
          end.errorMessage ?? null,
          BigInt(end.run),
        ],
      );
      await this.notes.noteSpent(this.connection, end.spent, end.endedAtMs);
    });
  }

  async cursors(bridge: string, stream: string): Promise<Map<string, SavedCursor>> {
    const rows = await this.read(
      `SELECT part, ${this.sql.quoteName("cursor")} FROM ${this.schema}.cursors WHERE bridge = $1 AND stream = $2`,
      [bridge, stream],
    );
    return new Map(rows.map((row) => [String(row.part), JSON.parse(String(row.cursor)) as SavedCursor]));
  }

  async spentSince(account: string, atMs: number) {
    const rows = await this.read(
      `SELECT ${this.sql.ledger.epochMs("used_at")} AS moment, endpoint_group, sum(cost) AS cost FROM ${this.schema}.rate_usage
       WHERE account = $1 AND used_at > ${this.sql.ledger.moment("$2")} GROUP BY used_at, endpoint_group ORDER BY moment`,
      [account, timestamp(atMs)],
    );
    return rows.map(({ moment, endpoint_group, cost }) => ({
      atMs: Number(moment),
      group: String(endpoint_group),
      cost: Number(cost),
    }));
  }

  async readSealed(name: string): Promise<string | undefined> {
    const [row] = await this.read(`SELECT sealed FROM ${this.schema}.tokens WHERE name = $1`, [name]);
    return row === undefined ? undefined : String(row.sealed);
  }

  writeSealed(name: string, sealed: string | undefined): Promise<void> {
    return this.inTransaction(async () => {
      await this.connection.run(`DELETE FROM ${this.schema}.tokens WHERE name = $1`, [name]);
      if (sealed !== undefined)
        await this.connection.run(
          `INSERT INTO ${this.schema}.tokens (name, sealed, written_at) VALUES ($1, $2, now())`,
          [name, sealed],
        );
    });
  }

  async columns(schema: string, bridge: string, stream: string): Promise<KnownColumn[]> {
    const rows = await this.read(
      `SELECT * FROM ${this.schema}.columns
       WHERE table_schema = $1 AND bridge = $2 AND stream = $3 AND ${ownOrNot(false)} ORDER BY rowid`,
      [schema, bridge, stream],
    );
    return rows.map(knownColumn);
  }

  async filledColumns({ schema, bridge, stream }: StreamPlace, rootTable: string): Promise<KnownColumn[]> {
    const rows = await this.read(
      `SELECT * FROM ${this.schema}.columns
       WHERE table_schema = $1 AND bridge = $2 AND stream = $3 AND table_name = $4 AND ${ownOrNot(true)} ORDER BY rowid`,
      [schema, bridge, stream, rootTable],
    );
    return rows.map(knownColumn);
  }

  async otherTables(schema: string, bridge: string, stream: string): Promise<string[]> {
    const rows = await this.read(
      `SELECT DISTINCT table_name FROM ${this.schema}.columns
       WHERE table_schema = $1 AND NOT (bridge = $2 AND stream = $3) AND ${ownOrNot(false)}`,
      [schema, bridge, stream],
    );
    return rows.map((row) => String(row.table_name));
  }

  async runs(filter: {
    bridge?: string | undefined;
    run?: number | undefined;
    limit: number;
  }): Promise<RunRecord[]> {
    const { epochMs } = this.sql.ledger;
    const { bridge, run } = filter;
    const wanted = Object.entries({ bridge, run: run === undefined ? undefined : BigInt(run) }).flatMap(
      ([name, value]) => (value === undefined ? [] : [{ name, value }]),
    );
    const conditions = ["TRUE", ...wanted.map(({ name }, i) => `${name} = $${i + 1}`)].join(" AND ");
    const rows = await this.read(
      `SELECT run, bridge, outcome, ${epochMs("started_at")} AS started, ${epochMs("ended_at")} AS ended, error_code, error_message
       FROM ${this.schema}.runs WHERE ${conditions} ORDER BY run DESC LIMIT ${Math.floor(filter.limit)}`,
      wanted.map(({ value }) => value),
    );
    const numbers = rows.map((row) => Number(row.run)).join(", ");
    const streams =
      rows.length === 0
        ? []
        : await this.read(
            `SELECT * FROM ${this.schema}.run_streams WHERE run IN (${numbers}) ORDER BY stream`,
          );
    const changes =
      rows.length === 0
        ? []
        : await this.read(
            `SELECT * FROM ${this.schema}.schema_changes WHERE run IN (${numbers}) ORDER BY rowid`,
          );
    const changesOf = grouped(changes, ({ run, stream }) => `${run} ${stream}`);
    return rows.map((row) => ({
      run: Number(row.run),
      bridge: String(row.bridge),
      outcome: String(row.outcome) as RunOutcome,
      startedAtMs: Number(row.started),
      endedAtMs: row.ended === null ? undefined : Number(row.ended),
      errorCode: textOrNothing(row.error_code),
      errorMessage: textOrNothing(row.error_message),
      streams: streams
        .filter((stream) => Number(stream.run) === Number(row.run))
        .map((stream) => ({
          ...streamRecord(stream),
          changes: (changesOf.get(`${stream.run} ${stream.stream}`) ?? []).map(schemaChange),
        })),
    }));
  }

  setCursors(
    of: StreamPlace,
    cursors: ReadonlyMap<string, SavedCursor | undefined>,
    atMs: number,
  ): Promise<void> {
    return this.inTransaction(() => putCursors(this.sql, this.connection, of, cursors, { atMs, run: null }));
  }

  /** Forgets where a stream stands; called inside a transaction. */
  forgetStream(of: StreamPlace): Promise<void> {
    return forgetStream(this.sql, this.connection, of);
  }

  async lastSweep(bridge: string, stream: string): Promise<number | undefined> {
    const [row] = await this.read(
      `SELECT ${this.sql.ledger.epochMs("max(swept_at)")} AS at FROM ${this.schema}.sweeps WHERE bridge = $1 AND stream = $2`,
      [bridge, stream],
    );
    return row?.at === null || row === undefined ? undefined : Number(row.at);
  }

  async changes({ bridge }: { readonly bridge?: string | undefined }): Promise<JournaledChange[]> {
    const { query, values } = changesQuery(this.sql, bridge);
    return (await this.read(query, values)).map(journaledChange);
  }

  faults(filter: QuarantineFilter): Promise<QuarantineFault[]> {
    return openFaults(this.sql, (query, values) => this.read(query, values), filter);
  }

  quarantined(filter: QuarantineFilter & { readonly stream: string }): AsyncIterable<readonly Quarantined[]> {
    return openRecords(this.sql, (query, values) => this.read(query, values), filter);
  }

  settle(of: StreamPlace, settled: Settled, atMs: number): Promise<void> {
    return this.inTransaction(() => settle(this.sql, this.connection, of, settled, atMs));
  }

  private async transaction(statements: readonly string[]): Promise<void> {
    await this.inTransaction(async () => {
      for (const statement of statements) await this.connection.run(statement);
    });
  }

  /** In its turn, all of it or nothing. */
  private inTransaction<T>(work: () => Promise<T>): Promise<T> {
    return this.inTurn(() => transaction((statement) => this.connection.run(statement), work));
  }

  /** Reads in its turn. */
  private read(sql: string, values: readonly SqlValue[] = []): Promise<readonly SqlRow[]> {
    return this.inTurn(() => this.connection.rows(sql, values));
  }
}
