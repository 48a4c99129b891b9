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
  StreamRecord,
} from "../warehouse.js";
import { FILE_DATABASE, schemaName } from "./types.js";

const SCHEMA = "early_bridge";
const LEDGER = schemaName(SCHEMA);
/** Raised when an older version could not read what a newer one writes. */
export const LEDGER_FORMAT = 2;

const COUNTS = [
  "records", "added", "changed", "same", "removed", "quarantined", "pages", "checkpoints",
  "requests", "retries", "waited_ms", "bytes", "ask_ms", "shape_ms", "load_ms",
] as const; // biome-ignore format: one line per kind

/** Came later than the others, and is made where it is missing. */
const SPENT = "spent (account VARCHAR, endpoint_group VARCHAR, spent_at TIMESTAMPTZ, cost BIGINT)";
/** No limit is longer than a day. */
const SPENT_KEPT_MS = 2 * 86_400_000;

const TABLES = [
  SPENT,
  "sealed (name VARCHAR, sealed VARCHAR, written_at TIMESTAMPTZ)",
  "about (format INTEGER, created_at TIMESTAMPTZ)",
  `runs (run BIGINT, bridge VARCHAR, outcome VARCHAR, started_at TIMESTAMPTZ, ended_at TIMESTAMPTZ,
    error_code VARCHAR, error_message VARCHAR)`,
  `run_streams (run BIGINT, stream VARCHAR, outcome VARCHAR, ${COUNTS.map((name) => `${name} BIGINT`).join(", ")})`,
  `checkpoints (run BIGINT, bridge VARCHAR, stream VARCHAR, number BIGINT, committed_at TIMESTAMPTZ, rows BIGINT,
    cursor JSON)`,
  "cursors (bridge VARCHAR, stream VARCHAR, cursor JSON, run BIGINT, moved_at TIMESTAMPTZ, part VARCHAR)",
  `columns (bridge VARCHAR, stream VARCHAR, table_schema VARCHAR, table_name VARCHAR, table_path VARCHAR,
    column_name VARCHAR, path VARCHAR, role VARCHAR, type VARCHAR, declared BOOLEAN,
    seen_mask INTEGER, seen_digits INTEGER, seen_scale INTEGER, run BIGINT)`,
  `changes (run BIGINT, table_schema VARCHAR, table_name VARCHAR, column_name VARCHAR, change VARCHAR,
    from_type VARCHAR, to_type VARCHAR, changed_at TIMESTAMPTZ)`,
  `quarantine (run BIGINT, bridge VARCHAR, stream VARCHAR, reason VARCHAR, path VARCHAR, message VARCHAR,
    record JSON, put_at TIMESTAMPTZ)`,
];

type Row = Record<string, unknown>;

export class DuckLedger implements Ledger {
  /** a ledger of format 1 that is only read has none */
  private partColumn = "part";

  constructor(
    private readonly connection: DuckDBConnection,
    /** runs work while no load commits: they share the connection */
    private readonly inTurn: <T>(work: () => Promise<T>) => Promise<T>,
  ) {}

  /** Makes the ledger's tables, or checks that this version can read them. */
  async prepare(readOnly: boolean): Promise<void> {
    const found = await this.rows(
      `SELECT 1 FROM information_schema.tables
       WHERE table_catalog = '${FILE_DATABASE}' AND table_schema = $1 AND table_name = 'about'`,
      [SCHEMA],
    );
    if (found.length > 0) {
      const [about] = await this.rows(`SELECT format FROM ${LEDGER}.about`);
      const format = Number(about?.format ?? 0);
      if (format === 1 && readOnly) this.partColumn = "''";
      else if (format === 1) await this.upgradeFromOne();
      if (format <= LEDGER_FORMAT && !readOnly)
        await this.connection.run(`CREATE TABLE IF NOT EXISTS ${LEDGER}.${SPENT}`);
      if (format <= LEDGER_FORMAT) return;
      const message = `The ledger has format ${format}; this version reads up to ${LEDGER_FORMAT}.`;
      throw new BridgeError("WAREHOUSE_NEWER", message);
    }
    if (readOnly) return;
    await this.connection.run("BEGIN");
    await this.connection.run(`CREATE SCHEMA IF NOT EXISTS ${LEDGER}`);
    for (const table of TABLES) await this.connection.run(`CREATE TABLE ${LEDGER}.${table}`);
    await this.connection.run(`INSERT INTO ${LEDGER}.about VALUES (${LEDGER_FORMAT}, now())`);
    await this.connection.run("COMMIT");
  }

  /** Format 1 knew no parts: its cursors are those of whole streams. */
  private async upgradeFromOne(): Promise<void> {
    await this.connection.run("BEGIN");
    await this.connection.run(`ALTER TABLE ${LEDGER}.cursors ADD COLUMN part VARCHAR`);
    await this.connection.run(`UPDATE ${LEDGER}.cursors SET part = ''`);
    await this.connection.run(`UPDATE ${LEDGER}.about SET format = ${LEDGER_FORMAT}`);
    await this.connection.run("COMMIT");
  }

  async startRun({ bridge, startedAtMs }: RunStart): Promise<number> {
    const at = timestamp(startedAtMs);
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
  }

  endRun(end: RunEnd): Promise<void> {
    return this.inTurn(async () => {
      await this.connection.run("BEGIN");
      for (const stream of end.streams) {
        const marks = Array.from({ length: COUNTS.length + 3 }, (_, i) => `$${i + 1}`).join(", ");
        await this.connection.run(`INSERT INTO ${LEDGER}.run_streams VALUES (${marks})`, [
          BigInt(end.run),
          stream.stream,
          stream.outcome,
          ...countsOf(stream),
        ]);
      }
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
      await this.connection.run("COMMIT");
    });
  }

  async cursors(bridge: string, stream: string): Promise<Map<string, SavedCursor>> {
    const rows = await this.rows(
      `SELECT ${this.partColumn} AS part, cursor FROM ${LEDGER}.cursors WHERE bridge = $1 AND stream = $2`,
      [bridge, stream],
    );
    return new Map(rows.map((row) => [String(row.part), JSON.parse(String(row.cursor)) as SavedCursor]));
  }

  async spentSince(account: string, atMs: number) {
    const rows = await this.rows(
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
    const [row] = await this.rows(`SELECT sealed FROM ${LEDGER}.sealed WHERE name = $1`, [name]);
    return row === undefined ? undefined : String(row.sealed);
  }

  writeSealed(name: string, sealed: string | undefined): Promise<void> {
    return this.inTurn(async () => {
      await this.connection.run("BEGIN");
      await this.connection.run(`DELETE FROM ${LEDGER}.sealed WHERE name = $1`, [name]);
      if (sealed !== undefined) {
        await this.connection.run(`INSERT INTO ${LEDGER}.sealed VALUES ($1, $2, now())`, [name, sealed]);
      }
      await this.connection.run("COMMIT");
    });
  }

  async columns(schema: string, bridge: string, stream: string): Promise<KnownColumn[]> {
    const rows = await this.rows(
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
    const rows = await this.rows(
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
    const rows = await this.rows(
      `SELECT run, bridge, outcome, epoch_ms(started_at) AS started, epoch_ms(ended_at) AS ended, error_code, error_message
       FROM ${LEDGER}.runs WHERE ($1 IS NULL OR bridge = $1) AND ($2 IS NULL OR run = $2)
       ORDER BY run DESC LIMIT ${Math.floor(filter.limit)}`,
      [filter.bridge ?? null, filter.run === undefined ? null : BigInt(filter.run)],
    );
    const numbers = rows.map((row) => Number(row.run)).join(", ");
    const streams =
      rows.length === 0
        ? []
        : await this.rows(`SELECT * FROM ${LEDGER}.run_streams WHERE run IN (${numbers}) ORDER BY stream`);
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

function countsOf(stream: StreamRecord): bigint[] {
  const byName: Record<(typeof COUNTS)[number], number> = {
    ...stream,
    waited_ms: stream.waitedMs,
    ask_ms: stream.askMs,
    shape_ms: stream.shapeMs,
    load_ms: stream.loadMs,
  };
  return COUNTS.map((name) => BigInt(Math.round(byName[name])));
}

function streamRecord(row: Row): StreamRecord {
  const count = (name: (typeof COUNTS)[number]) => Number(row[name]);
  return {
    stream: String(row.stream),
    outcome: String(row.outcome) as RunOutcome,
    records: count("records"),
    added: count("added"),
    changed: count("changed"),
    same: count("same"),
    removed: count("removed"),
    quarantined: count("quarantined"),
    pages: count("pages"),
    checkpoints: count("checkpoints"),
    requests: count("requests"),
    retries: count("retries"),
    waitedMs: count("waited_ms"),
    bytes: count("bytes"),
    askMs: count("ask_ms"),
    shapeMs: count("shape_ms"),
    loadMs: count("load_ms"),
  };
}
