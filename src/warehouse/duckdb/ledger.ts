/** The ledger in a DuckDB file: the schema `early_bridge`. */

import type { DuckDBConnection, DuckDBValue } from "@duckdb/node-api";
import { BridgeError } from "../../core/errors.js";
import { type ColumnType, formatColumnType, parseColumnType } from "../../core/shape/column-type.js";
import { stringifyExact } from "../../core/shape/exact-json.js";
import type { Issue, KnownColumn } from "../../core/shape/shape.js";
import type { ColumnRole, ColumnSchema, TableSchema } from "../../core/shape/table-shape.js";
import type { SavedCursor } from "../../core/track/cursor.js";
import type {
  CheckpointEntry,
  Ledger,
  LoadOptions,
  RunEnd,
  RunOutcome,
  RunRecord,
  RunStart,
  SchemaChange,
  Spent,
  StreamOutcome,
  StreamRecord,
} from "../warehouse.js";
import { COUNTS, LEDGER, LEDGER_FORMAT, LEDGER_SCHEMA, TABLES, upgradeFrom } from "./ledger-schema.js";
import { FILE_DATABASE } from "./types.js";

/** No limit is longer than a day. */
const SPENT_KEPT_MS = 2 * 86_400_000;

type Row = Record<string, unknown>;

export class DuckLedger implements Ledger {
  /** a ledger of format 1 that is only read has none */
  private partColumn = "part";
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
    const found = await this.rows(
      `SELECT 1 FROM information_schema.tables
       WHERE table_catalog = '${FILE_DATABASE}' AND table_schema = $1 AND table_name = 'about'`,
      [LEDGER_SCHEMA],
    );
    if (found.length === 0) {
      if (!readOnly) await this.make();
      return;
    }
    const [about] = await this.rows(`SELECT format FROM ${LEDGER}.about`);
    const format = Number(about?.format ?? 0);
    if (format > LEDGER_FORMAT || format < 1) {
      const message = `The ledger has format ${format}; this version reads up to ${LEDGER_FORMAT}.`;
      throw new BridgeError("WAREHOUSE_NEWER", message);
    }
    if (format === 1 && readOnly) this.partColumn = "''";
    if (readOnly) return;
    for (let old = format; old < LEDGER_FORMAT; old++) await this.transaction(upgradeFrom(old));
  }

  private make(): Promise<void> {
    return this.transaction([
      `CREATE SCHEMA IF NOT EXISTS ${LEDGER}`,
      ...TABLES.map((table) => `CREATE TABLE ${LEDGER}.${table}`),
      `INSERT INTO ${LEDGER}.about VALUES (${LEDGER_FORMAT}, now())`,
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
        `UPDATE ${LEDGER}.runs SET outcome = 'broken off', ended_at = $1::TIMESTAMPTZ
         WHERE bridge = $2 AND outcome = 'running'`,
        [at, bridge],
      );
      await this.connection.run(`DELETE FROM ${LEDGER}.spent WHERE spent_at < $1::TIMESTAMPTZ`, [
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

  private async noteStream(run: number, stream: StreamOutcome): Promise<void> {
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
      `SELECT ${this.partColumn} AS part, cursor FROM ${LEDGER}.cursors WHERE bridge = $1 AND stream = $2`,
      [bridge, stream],
    );
    return new Map(rows.map((row) => [String(row.part), JSON.parse(String(row.cursor)) as SavedCursor]));
  }

  async spentSince(account: string, atMs: number) {
    const rows = await this.read(
      `SELECT epoch_ms(spent_at) AS moment, endpoint_group, sum(cost) AS cost FROM ${LEDGER}.spent
       WHERE account = $1 AND spent_at > $2::TIMESTAMPTZ GROUP BY ALL ORDER BY moment`,
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
      await this.connection.run(`INSERT INTO ${LEDGER}.spent VALUES ($1, $2, $3::TIMESTAMPTZ, $4)`, [
        account,
        group,
        timestamp(atMs),
        BigInt(Math.ceil(cost)),
      ]);
  }

  async readSealed(name: string): Promise<string | undefined> {
    const [row] = await this.read(`SELECT sealed FROM ${LEDGER}.sealed WHERE name = $1`, [name]);
    return row === undefined ? undefined : String(row.sealed);
  }

  writeSealed(name: string, sealed: string | undefined): Promise<void> {
    return this.inTransaction(async () => {
      await this.connection.run(`DELETE FROM ${LEDGER}.sealed WHERE name = $1`, [name]);
      if (sealed !== undefined)
        await this.connection.run(`INSERT INTO ${LEDGER}.sealed VALUES ($1, $2, now())`, [name, sealed]);
    });
  }

  async columns(schema: string, bridge: string, stream: string): Promise<KnownColumn[]> {
    const rows = await this.read(
      `SELECT * FROM ${LEDGER}.columns WHERE table_schema = $1 AND bridge = $2 AND stream = $3 ORDER BY rowid`,
      [schema, bridge, stream],
    );
    return rows.map((row) => ({
      table: String(row.table_name),
      tablePath: String(row.table_path),
      name: String(row.column_name),
      path: String(row.path),
      role: String(row.role) as ColumnRole,
      type: knownType(String(row.type)),
      seen: {
        mask: Number(row.seen_mask),
        intDigits: Number(row.seen_digits),
        scale: Number(row.seen_scale),
      },
    }));
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
    return rows.map((row) => ({
      run: Number(row.run),
      bridge: String(row.bridge),
      outcome: String(row.outcome) as RunOutcome,
      startedAtMs: Number(row.started),
      endedAtMs: row.ended === null ? undefined : Number(row.ended),
      errorCode: textOrNothing(row.error_code),
      errorMessage: textOrNothing(row.error_message),
      streams: streams.filter((stream) => Number(stream.run) === Number(row.run)).map(streamRecord),
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
    if (cursors.size === 0) return;
    const moved = JSON.stringify([...cursors].map(([part, cursor]) => ({ part, cursor })));
    const each = "SELECT unnest(from_json($1::JSON, '[\"JSON\"]')) AS moved";
    await this.connection.run(
      `DELETE FROM ${LEDGER}.cursors WHERE bridge = $2 AND stream = $3 AND part IN (SELECT moved->>'part' FROM (${each}))`,
      [moved, bridge, stream],
    );
    await this.connection.run(
      `INSERT INTO ${LEDGER}.cursors (bridge, stream, part, cursor, run, moved_at)
       SELECT $2, $3, moved->>'part', moved->'cursor', $4, $5::TIMESTAMPTZ FROM (${each})`,
      [moved, bridge, stream, BigInt(run), at],
    );
  }

  /** Keeps what is known of a stream's columns; called inside a checkpoint's transaction. */
  async noteColumns(options: LoadOptions, tables: readonly TableSchema[]): Promise<void> {
    const { run, bridge, stream, schema } = options;
    await this.connection.run(
      `DELETE FROM ${LEDGER}.columns WHERE table_schema = $1 AND bridge = $2 AND stream = $3`,
      [schema, bridge, stream],
    );
    for (const table of tables) {
      for (const column of table.columns) {
        await this.connection.run(
          `INSERT INTO ${LEDGER}.columns VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14)`,
          [bridge, stream, schema, table.name, table.path, ...columnValues(column), BigInt(run)],
        );
      }
    }
  }

  async noteChanges(options: LoadOptions, changes: readonly SchemaChange[], atMs: number): Promise<void> {
    for (const { table, column, change, fromType, toType } of changes) {
      await this.connection.run(
        `INSERT INTO ${LEDGER}.changes VALUES ($1, $2, $3, $4, $5, $6, $7, $8::TIMESTAMPTZ)`,
        [
          BigInt(options.run),
          options.schema,
          table,
          column ?? null,
          change,
          fromType ?? null,
          toType ?? null,
          timestamp(atMs),
        ],
      );
    }
  }

  async noteIssues(options: LoadOptions, issues: readonly Issue[], atMs: number): Promise<void> {
    const { run, bridge, stream } = options;
    for (const { reason, path, message, record } of issues) {
      await this.connection.run(
        `INSERT INTO ${LEDGER}.quarantine VALUES ($1, $2, $3, $4, $5, $6, $7::JSON, $8::TIMESTAMPTZ)`,
        [BigInt(run), bridge, stream, reason, path, message, stringifyExact(record), timestamp(atMs)],
      );
    }
  }

  private async transaction(statements: readonly string[]): Promise<void> {
    await this.inTransaction(async () => {
      for (const statement of statements) await this.connection.run(statement);
    });
  }

  /** In its turn, all of it or nothing. */
  private inTransaction<T>(work: () => Promise<T>): Promise<T> {
    return this.inTurn(async () => {
      await this.connection.run("BEGIN");
      try {
        const result = await work();
        await this.connection.run("COMMIT");
        return result;
      } catch (error) {
        await this.connection.run("ROLLBACK").catch(() => {});
        throw error;
      }
    });
  }

  /** Reads in its turn. */
  private read(sql: string, values: DuckDBValue[] = []): Promise<Row[]> {
    return this.inTurn(() => this.rows(sql, values));
  }

  private async rows(sql: string, values: DuckDBValue[] = []): Promise<Row[]> {
    return (await this.connection.runAndReadAll(sql, values)).getRowObjectsJS() as Row[];
  }
}

function timestamp(ms: number): string {
  return new Date(ms).toISOString();
}

function textOrNothing(value: unknown): string | undefined {
  return value === null || value === undefined ? undefined : String(value);
}

function knownType(text: string): ColumnType {
  return parseColumnType(text) ?? { kind: "text" };
}

function columnValues(column: ColumnSchema): DuckDBValue[] {
  const { name, path, role, type, declared, seen } = column;
  return [name, path, role, formatColumnType(type), declared, seen.mask, seen.intDigits, seen.scale];
}

type Counts = Record<(typeof COUNTS)[number], number>;

function countsOf(stream: StreamRecord): Record<keyof Counts, bigint> {
  const { leftOut, waitedMs, askMs, shapeMs, loadMs } = stream;
  const times = { waited_ms: waitedMs, ask_ms: askMs, shape_ms: shapeMs, load_ms: loadMs };
  const byName: Counts = { ...stream, ...times, left_out: leftOut };
  const counts = COUNTS.map((name) => [name, BigInt(Math.round(byName[name]))] as const);
  return Object.fromEntries(counts) as Record<keyof Counts, bigint>;
}

function streamRecord(row: Row): StreamOutcome {
  // an older ledger has fewer of them
  const count = (name: keyof Counts) => Number(row[name] ?? 0);
  const code = textOrNothing(row.error_code);
  const failure = code && {
    code,
    message: String(row.error_message),
    where: String(row.error_where),
    hint: String(row.error_hint),
  };
  return {
    stream: String(row.stream),
    outcome: String(row.outcome) as RunOutcome,
    received: count("received"),
    leftOut: count("left_out"),
    records: count("records"),
    added: count("added"),
    changed: count("changed"),
    same: count("same"),
    removed: count("removed"),
    quarantined: count("quarantined"),
    doubled: count("doubled"),
    pages: count("pages"),
    checkpoints: count("checkpoints"),
    requests: count("requests"),
    retries: count("retries"),
    waitedMs: count("waited_ms"),
    bytes: count("bytes"),
    askMs: count("ask_ms"),
    shapeMs: count("shape_ms"),
    loadMs: count("load_ms"),
    failure: failure || undefined,
  };
}
