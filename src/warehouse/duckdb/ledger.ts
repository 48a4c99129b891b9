/** The ledger in a DuckDB file: the schema `early_bridge`. */

import type { DuckDBConnection, DuckDBValue } from "@duckdb/node-api";
import { BridgeError } from "../../core/errors.js";
import { grouped } from "../../core/grouped.js";
import type { Issue, KnownColumn } from "../../core/shape/shaped.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { SavedCursor } from "../../core/track/cursor.js";
import type { LoadNotes, SweepNote } from "../sql/load.js";
import { transaction } from "../sql/transaction.js";
import type {
  CheckpointEntry,
  JournaledChange,
  Ledger,
  LoadOptions,
  Quarantined,
  QuarantineFilter,
  RunEnd,
  RunOutcome,
  RunRecord,
  RunStart,
  SchemaChange,
  Settled,
  Spent,
  StreamEnd,
  StreamPlace,
} from "../warehouse.js";
import { changeRows, changesQuery, journaledChange, schemaChange } from "./ledger-changes.js";
import { columnRows, knownColumn, SEEN_QUERY, seenTimes } from "./ledger-columns.js";
import { forgetStream, putCursors } from "./ledger-cursors.js";
import { openQuery, quarantinedOf, quarantineRows, settle, withoutKnown } from "./ledger-quarantine.js";
import { type Cell, countsOf, type Row, streamRecord, textOrNothing, timestamp } from "./ledger-rows.js";
import {
  LEDGER,
  LEDGER_SCHEMA,
  LEDGER_VERSION,
  TABLES,
  upgradeFrom,
  VERSION_TABLES,
} from "./ledger-schema.js";
import { MAKE_VIEWS } from "./ledger-views.js";
import { FILE_DATABASE } from "./types.js";

/** No limit is longer than a day. */
const SPENT_KEPT_MS = 2 * 86_400_000;

export class DuckLedger implements Ledger, LoadNotes {
  /** bridges that this process runs now */
  private readonly running = new Set<string>();

  constructor(
    private readonly connection: DuckDBConnection,
    /**
     * Runs work while nobody else uses the connection. The methods of the interface take their turn by it; those that
     * a checkpoint calls inside its transaction (`note…`) have it already.
     */
    private readonly inTurn: <T>(work: () => Promise<T>) => Promise<T>,
  ) {}

  /** Makes the ledger's tables, or checks that this version can read them. */
  async prepare(readOnly: boolean): Promise<void> {
    const version = await this.version();
    if (version === undefined) {
      if (!readOnly) await this.make();
      return;
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
      await this.transaction([...upgradeFrom(old), ...(old + 1 === LEDGER_VERSION ? MAKE_VIEWS : [])]);
  }

  /** Undefined where there is no ledger yet. */
  private async version(): Promise<number | undefined> {
    for (const [table, query] of Object.entries(VERSION_TABLES)) {
      const found = await this.rows(
        `SELECT 1 FROM information_schema.tables
         WHERE table_catalog = '${FILE_DATABASE}' AND table_schema = $1 AND table_name = $2`,
        [LEDGER_SCHEMA, table],
      );
      if (found.length > 0) return Number((await this.rows(query))[0]?.version ?? 0);
    }
    return undefined;
  }

  private make(): Promise<void> {
    return this.transaction([
      `CREATE SCHEMA IF NOT EXISTS ${LEDGER}`,
      ...TABLES.map((table) => `CREATE TABLE ${LEDGER}.${table}`),
      `INSERT INTO ${LEDGER}.ledger_version VALUES (${LEDGER_VERSION}, now())`,
      ...MAKE_VIEWS,
    ]);
  }

  async startRun({ bridge, startedAtMs }: RunStart): Promise<number> {
    if (this.running.has(bridge))
      throw new BridgeError("BRIDGE_RUNNING", `Bridge ${bridge} is running already, in this process.`, {
        where: { bridge },
      });
    this.running.add(bridge);
    try {
      return await this.noteStart(bridge, startedAtMs);
    } catch (error) {
      this.letGo(bridge);
      throw error;
    }
  }

  letGo(bridge: string): void {
    this.running.delete(bridge);
  }

  private noteStart(bridge: string, startedAtMs: number): Promise<number> {
    const at = timestamp(startedAtMs);
    return this.inTransaction(async () => {
      // the file has one writer at a time: a run still noted as running has lost its process
      await this.connection.run(
        `UPDATE ${LEDGER}.runs SET outcome = 'broken_off', ended_at = $1::TIMESTAMPTZ
         WHERE bridge = $2 AND outcome = 'running'`,
        [at, bridge],
      );
      await this.connection.run(`DELETE FROM ${LEDGER}.rate_usage WHERE used_at < $1::TIMESTAMPTZ`, [
        timestamp(startedAtMs - SPENT_KEPT_MS),
      ]);
      const [row] = await this.rows(
        `INSERT INTO ${LEDGER}.runs (run, bridge, outcome, started_at)
         SELECT coalesce(max(run), 0) + 1, $1, 'running', $2::TIMESTAMPTZ FROM ${LEDGER}.runs RETURNING run`,
        [bridge, at],
      );
      return Number(row?.run);
    });
  }

  endRun(end: RunEnd): Promise<void> {
    return this.inTransaction(async () => {
      for (const stream of end.streams) await this.noteStream(end.run, stream);
      await this.connection.run(
        `UPDATE ${LEDGER}.runs SET outcome = $1, ended_at = $2::TIMESTAMPTZ, error_code = $3, error_message = $4
         WHERE run = $5`,
        [
          end.outcome,
          timestamp(end.endedAtMs),
          end.errorCode ?? null,
          end.errorMessage ?? null,
          BigInt(end.run),
        ],
      );
      await this.noteSpent(end.spent, end.endedAtMs);
    });
  }

  private async noteStream(run: number, stream: StreamEnd): Promise<void> {
    const { failure } = stream;
    const values = {
      run: BigInt(run),
      stream: stream.stream,
      outcome: stream.outcome,
      ...countsOf(stream),
      error_code: failure?.code ?? null,
      error_message: failure?.message ?? null,
      error_where: failure?.where ?? null,
      error_hint: failure?.hint ?? null,
    };
    const marks = Object.keys(values).map((_, i) => `$${i + 1}`);
    await this.connection.run(
      `INSERT INTO ${LEDGER}.run_streams (${Object.keys(values).join(", ")}) VALUES (${marks.join(", ")})`,
      Object.values(values),
    );
  }

  async cursors(bridge: string, stream: string): Promise<Map<string, SavedCursor>> {
    const rows = await this.read(
      `SELECT part, cursor FROM ${LEDGER}.cursors WHERE bridge = $1 AND stream = $2`,
      [bridge, stream],
    );
    return new Map(rows.map((row) => [String(row.part), JSON.parse(String(row.cursor)) as SavedCursor]));
  }

  async spentSince(account: string, atMs: number) {
    const rows = await this.read(
      `SELECT epoch_ms(used_at) AS moment, endpoint_group, sum(cost) AS cost FROM ${LEDGER}.rate_usage
       WHERE account = $1 AND used_at > $2::TIMESTAMPTZ GROUP BY ALL ORDER BY moment`,
      [account, timestamp(atMs)],
    );
    return rows.map(({ moment, endpoint_group, cost }) => ({
      atMs: Number(moment),
      group: String(endpoint_group),
      cost: Number(cost),
    }));
  }

  private async noteSpent({ account, byGroup }: Spent, atMs: number): Promise<void> {
    for (const [group, cost] of byGroup)
      await this.connection.run(`INSERT INTO ${LEDGER}.rate_usage VALUES ($1, $2, $3::TIMESTAMPTZ, $4)`, [
        account,
        group,
        timestamp(atMs),
        BigInt(Math.ceil(cost)),
      ]);
  }

  async readSealed(name: string): Promise<string | undefined> {
    const [row] = await this.read(`SELECT sealed FROM ${LEDGER}.tokens WHERE name = $1`, [name]);
    return row === undefined ? undefined : String(row.sealed);
  }

  writeSealed(name: string, sealed: string | undefined): Promise<void> {
    return this.inTransaction(async () => {
      await this.connection.run(`DELETE FROM ${LEDGER}.tokens WHERE name = $1`, [name]);
      if (sealed !== undefined)
        await this.connection.run(`INSERT INTO ${LEDGER}.tokens VALUES ($1, $2, now())`, [name, sealed]);
    });
  }

  async columns(schema: string, bridge: string, stream: string): Promise<KnownColumn[]> {
    const rows = await this.read(
      `SELECT * FROM ${LEDGER}.columns WHERE table_schema = $1 AND bridge = $2 AND stream = $3 ORDER BY rowid`,
      [schema, bridge, stream],
    );
    return rows.map(knownColumn);
  }

  async otherTables(schema: string, bridge: string, stream: string): Promise<string[]> {
    const rows = await this.read(
      `SELECT DISTINCT table_name FROM ${LEDGER}.columns
       WHERE table_schema = $1 AND NOT (bridge = $2 AND stream = $3)`,
      [schema, bridge, stream],
    );
    return rows.map((row) => String(row.table_name));
  }

  async runs(filter: {
    bridge?: string | undefined;
    run?: number | undefined;
    limit: number;
  }): Promise<RunRecord[]> {
    const rows = await this.read(
      `SELECT run, bridge, outcome, epoch_ms(started_at) AS started, epoch_ms(ended_at) AS ended, error_code, error_message
       FROM ${LEDGER}.runs WHERE ($1 IS NULL OR bridge = $1) AND ($2 IS NULL OR run = $2)
       ORDER BY run DESC LIMIT ${Math.floor(filter.limit)}`,
      [filter.bridge ?? null, filter.run === undefined ? null : BigInt(filter.run)],
    );
    const numbers = rows.map((row) => Number(row.run)).join(", ");
    const streams =
      rows.length === 0
        ? []
        : await this.read(`SELECT * FROM ${LEDGER}.run_streams WHERE run IN (${numbers}) ORDER BY stream`);
    const changes =
      rows.length === 0
        ? []
        : await this.read(`SELECT * FROM ${LEDGER}.schema_changes WHERE run IN (${numbers}) ORDER BY rowid`);
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

  /** Notes a checkpoint; called inside its transaction. */
  async noteCheckpoint(options: LoadOptions, entry: CheckpointEntry, rows: number): Promise<void> {
    const { run, bridge, stream } = options;
    const { cursors } = entry;
    const at = timestamp(entry.atMs);
    const whole = cursors.size === 1 ? cursors.get("") : undefined;
    const noted = cursors.size === 0 ? null : JSON.stringify(whole ?? Object.fromEntries(cursors));
    await this.connection.run(
      `INSERT INTO ${LEDGER}.checkpoints VALUES ($1, $2, $3, $4, $5::TIMESTAMPTZ, $6, $7::JSON)`,
      [BigInt(run), bridge, stream, BigInt(entry.number), at, BigInt(rows), noted],
    );
    await this.noteSpent(entry.spent, entry.atMs);
    for (const settled of entry.settled ?? []) await settle(this.connection, options, settled, entry.atMs);
    await putCursors(this.connection, options, cursors, { atMs: entry.atMs, run: BigInt(run) });
  }

  setCursors(
    of: StreamPlace,
    cursors: ReadonlyMap<string, SavedCursor | undefined>,
    atMs: number,
  ): Promise<void> {
    return this.inTransaction(() => putCursors(this.connection, of, cursors, { atMs, run: null }));
  }

  /** Forgets where a stream stands; called inside a transaction. */
  forgetStream(of: StreamPlace): Promise<void> {
    return forgetStream(this.connection, of);
  }

  /** Keeps what is known of a stream's columns; called inside a checkpoint's transaction. */
  async noteColumns(options: LoadOptions, tables: readonly TableSchema[], atMs: number): Promise<void> {
    const { bridge, stream, schema } = options;
    const of = [schema, bridge, stream];
    const times = seenTimes(await this.rows(SEEN_QUERY, of));
    await this.connection.run(
      `DELETE FROM ${LEDGER}.columns WHERE table_schema = $1 AND bridge = $2 AND stream = $3`,
      of,
    );
    await this.insert("columns", columnRows(options, tables, times, atMs));
  }

  async noteSweep({ run, bridge, stream }: LoadOptions, { atMs, living, gone }: SweepNote): Promise<void> {
    await this.insert("sweeps", [[run, bridge, stream, timestamp(atMs), living, gone]]);
  }

  async lastSweep(bridge: string, stream: string): Promise<number | undefined> {
    const [row] = await this.read(
      `SELECT epoch_ms(max(swept_at))::BIGINT AS at FROM ${LEDGER}.sweeps WHERE bridge = $1 AND stream = $2`,
      [bridge, stream],
    );
    return row?.at === null || row === undefined ? undefined : Number(row.at);
  }

  async noteChanges(options: LoadOptions, changes: readonly SchemaChange[], atMs: number): Promise<void> {
    await this.insert("schema_changes", changeRows(options, changes, atMs));
  }

  async changes({ bridge }: { readonly bridge?: string | undefined }): Promise<JournaledChange[]> {
    const { sql, values } = changesQuery(bridge);
    return (await this.read(sql, values)).map(journaledChange);
  }

  async noteIssues(options: LoadOptions, issues: readonly Issue[], atMs: number): Promise<void> {
    const rows = quarantineRows(options, issues, atMs);
    await this.insert("quarantine", await withoutKnown(this.connection, options, rows));
  }

  async quarantined(filter: QuarantineFilter): Promise<Quarantined[]> {
    const { sql, values } = openQuery(filter);
    return (await this.read(sql, values)).map(quarantinedOf);
  }

  settle(of: StreamPlace, settled: Settled, atMs: number): Promise<void> {
    return this.inTransaction(() => settle(this.connection, of, settled, atMs));
  }

  /** Inserts rows into all of a table's columns, in one statement: they travel as texts in JSON. */
  private async insert(table: string, rows: readonly (readonly Cell[])[]): Promise<void> {
    if (rows.length === 0) return;
    const texts = rows.map((row) => row.map((cell) => (cell === null ? null : String(cell))));
    const cells = rows[0]!.map((_, i) => `each[${i + 1}]`).join(", ");
    await this.connection.run(
      `INSERT INTO ${LEDGER}.${table} SELECT ${cells}
       FROM (SELECT unnest(from_json($1::JSON, '[["VARCHAR"]]')) AS each)`,
      [JSON.stringify(texts)],
    );
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
  private read(sql: string, values: DuckDBValue[] = []): Promise<Row[]> {
    return this.inTurn(() => this.rows(sql, values));
  }

  private async rows(sql: string, values: DuckDBValue[] = []): Promise<Row[]> {
    return (await this.connection.runAndReadAll(sql, values)).getRowObjectsJS() as Row[];
  }
}
