/** One stream's load into a DuckDB file: two stages take turns, one filled while the other is committed. */

import type { DuckDBConnection } from "@duckdb/node-api";
import { BridgeError } from "../../core/errors.js";
import type { TableBatch } from "../../core/shape/batch.js";
import type { Issue } from "../../core/shape/shape.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import {
  type CheckpointEntry,
  type Committed,
  type LoadOptions,
  NO_ROWS,
  type RowCounts,
  type SchemaChange,
  type StreamLoad,
} from "../warehouse.js";
import type { DuckLedger } from "./ledger.js";
import {
  countKeysQuery,
  countMatchesQuery,
  dedupeStatements,
  deleteStatement,
  insertStatement,
  planTable,
  readAs,
  type StandingTable,
} from "./merge-plan.js";
import { StageTable } from "./stage.js";
import { quoteName, schemaName, tableName } from "./types.js";

/** Tables of a stream that is replaced are built under this prefix, and renamed at the end. */
export const NEXT_PREFIX = "eb_next_";

/** What a load needs of the session that it belongs to. */
export interface LoadPorts {
  /** a connection for the stages between two checkpoints: DuckDB runs one query of a connection at a time */
  connect(): Promise<DuckDBConnection>;
  /** for commits: one at a time */
  readonly writing: DuckDBConnection;
  readonly ledger: DuckLedger;
  inTurn<T>(work: () => Promise<T>): Promise<T>;
  /** a name for a stage table that no other load uses */
  stageName(table: string): string;
}

/** What is collected between two checkpoints. */
interface Slot {
  connection: DuckDBConnection | undefined;
  readonly stages: Map<string, StageTable>;
  readonly issues: Issue[];
}

function newSlot(): Slot {
  return { connection: undefined, stages: new Map(), issues: [] };
}

async function dropSlot({ stages, connection }: Slot): Promise<void> {
  for (const stage of stages.values()) await stage.drop();
  connection?.closeSync();
}

type Run = (sql: string) => Promise<void>;

interface Matches {
  readonly matched: number;
  readonly unchanged: number;
}

const NO_MATCHES: Matches = { matched: 0, unchanged: 0 };

export class DuckLoad implements StreamLoad {
  private slot: Slot = newSlot();
  private tables: readonly TableSchema[] = [];
  private nextSeq = 0;
  /** rows of the stream's own table that were built beside the old ones, those that came twice counted */
  private builtRows = 0;
  /** child tables that have lost their parents' table: their rows belong to nobody */
  private orphaned: readonly string[];
  private schemaIsNew = false;
  readonly fresh: boolean;
  readonly missing: readonly string[];

  constructor(
    private readonly options: LoadOptions,
    private readonly ports: LoadPorts,
    /** the stream's tables as they stand in the target schema */
    private standing: Map<string, StandingTable>,
    /** the tables as they stand before `replace` swaps: for the counts, and to be dropped */
    private readonly replaced: Map<string, StandingTable>,
    gone: Pick<StreamLoad, "fresh" | "missing">,
  ) {
    this.fresh = gone.fresh;
    this.missing = gone.missing;
    this.orphaned = gone.fresh ? [...standing.keys()] : [];
  }

  get waitingRows(): number {
    let rows = 0;
    for (const stage of this.slot.stages.values()) rows += stage.rows;
    // what waits for quarantine is held as well
    return rows + this.slot.issues.length;
  }

  async add(
    batches: readonly TableBatch[],
    issues: readonly Issue[],
    schema: readonly TableSchema[] | undefined,
  ): Promise<void> {
    if (schema !== undefined) {
      this.tables = schema;
      this.schemaIsNew = true;
      for (const stage of this.slot.stages.values()) await stage.setSchema(this.tableNamed(stage.table));
    }
    let records = 0;
    for (const batch of batches) {
      const stage = this.slot.stages.get(batch.table) ?? (await this.openStage(batch.table));
      stage.append(batch, this.nextSeq);
      records = Math.max(records, (batch.recordOf[batch.rows - 1] ?? -1) + 1);
    }
    this.nextSeq += records;
    for (const issue of issues) this.slot.issues.push(issue);
  }

  checkpoint(entry: CheckpointEntry): Promise<Committed> {
    return this.commitSlot(entry, false);
  }

  finish(entry: CheckpointEntry): Promise<Committed> {
    return this.commitSlot(entry, true);
  }

  async close(): Promise<void> {
    const { slot } = this;
    this.slot = newSlot();
    await dropSlot(slot);
  }

  private async openStage(table: string): Promise<StageTable> {
    this.slot.connection ??= await this.ports.connect();
    const stage = new StageTable(this.slot.connection, this.ports.stageName(table), table);
    await stage.setSchema(this.tableNamed(table));
    this.slot.stages.set(table, stage);
    return stage;
  }

  private tableNamed(name: string): TableSchema {
    const table = this.tables.find((each) => each.name === name);
    if (table === undefined) throw new BridgeError("INTERNAL", `no schema for table ${name}`);
    return table;
  }

  private target(table: string): string {
    const name = this.options.write.buildsBeside ? NEXT_PREFIX + table : table;
    return tableName(this.options.schema, name);
  }

  private async commitSlot(entry: CheckpointEntry, last: boolean): Promise<Committed> {
    const { slot, tables } = this;
    this.slot = newSlot();
    const swap = last && this.options.write.buildsBeside;
    // what is built beside the old ones becomes known when it is swapped in
    const noteColumns = this.options.write.buildsBeside ? swap : this.schemaIsNew;
    this.schemaIsNew = false;
    for (const stage of slot.stages.values()) stage.flush();
    try {
      return await this.ports.inTurn(() => this.commit(slot, tables, entry, noteColumns, swap));
    } finally {
      await dropSlot(slot);
    }
  }

  private async commit(
    slot: Slot,
    tables: readonly TableSchema[],
    entry: CheckpointEntry,
    noteColumns: boolean,
    swap: boolean,
  ): Promise<Committed> {
    const root = tables[0];
    const rootStage = root && slot.stages.get(root.name);
    const stagedRows = rootStage?.rows ?? 0;
    this.builtRows += stagedRows;
    const doubled = root !== undefined && rootStage !== undefined ? await this.dedupe(slot, root) : 0;
    const standing = new Map(this.standing);
    const { ledger } = this.ports;
    const committed = await this.transaction(async (run) => {
      const changes: SchemaChange[] = [];
      if (tables.length > 0) await run(`CREATE SCHEMA IF NOT EXISTS ${schemaName(this.options.schema)}`);
      for (const table of tables) {
        const needed = swap || slot.stages.has(table.name) || standing.has(table.name);
        if (table.columns.length === 0 || !needed) continue;
        const plan = planTable(this.target(table.name), table, standing.get(table.name));
        for (const statement of plan.statements) await run(statement);
        changes.push(...plan.changes);
        standing.set(table.name, new Map(table.columns.map((column) => [column.name, column.type])));
      }
      for (const table of this.orphaned) await run(`DELETE FROM ${this.target(table)}`);
      const merged = { ...(await this.mergeRows(slot, tables, run)), doubled };
      const counts = swap ? await this.swap(root, standing, run) : merged;
      if (noteColumns) await ledger.noteColumns(this.options, tables);
      const journaled = this.options.write.buildsBeside ? (swap ? this.changesBySwap(tables) : []) : changes;
      await ledger.noteChanges(this.options, journaled, entry.atMs);
      await ledger.noteIssues(this.options, slot.issues, entry.atMs);
      await ledger.noteCheckpoint(this.options, entry, stagedRows);
      return { counts: this.options.write.buildsBeside && !swap ? NO_ROWS : counts, changes: journaled };
    });
    this.standing = standing;
    this.orphaned = [];
    return committed;
  }

  /**
   * Leaves the last of several rows of one record; tells how many went. The stage is in another database: its clean-up
   * is a transaction of its own, before the commit.
   */
  private async dedupe(slot: Slot, root: TableSchema): Promise<number> {
    if (root.recordKey.length === 0 || root.columns.some((column) => column.role === "row_id")) return 0;
    const rootStage = slot.stages.get(root.name)!;
    const [row] = await this.query(countKeysQuery(rootStage.sqlName, root.recordKey));
    const doubled = Number(row?.all_rows) - Number(row?.keys);
    if (doubled === 0) return 0;
    const children = [...slot.stages.values()].filter((stage) => stage !== rootStage);
    const stages = [rootStage, ...children].map((stage) => stage.sqlName);
    for (const statement of dedupeStatements(stages, root.recordKey)) await this.ports.writing.run(statement);
    return doubled;
  }

  private async mergeRows(slot: Slot, tables: readonly TableSchema[], run: Run): Promise<RowCounts> {
    const root = tables[0];
    const rootStage = root && slot.stages.get(root.name);
    if (root === undefined || rootStage === undefined) return NO_ROWS;
    const keyed = !root.columns.some((column) => column.role === "row_id");
    const target = this.target(root.name);
    const { matched, unchanged } = keyed
      ? await this.countMatches(rootStage.sqlName, target, root)
      : NO_MATCHES;
    if (matched > 0) {
      for (const table of tables) {
        const target = this.target(table.name);
        if (table.columns.length > 0)
          await run(deleteStatement(target, table.recordKey, rootStage.sqlName, root.recordKey));
      }
    }
    for (const table of tables) {
      const stage = slot.stages.get(table.name);
      if (stage === undefined) continue;
      await run(
        insertStatement(
          this.target(table.name),
          stage.sqlName,
          table,
          this.options.run,
          this.options.loadedAtMs,
        ),
      );
    }
    return {
      ...NO_ROWS,
      added: (await this.countRows(rootStage.sqlName)) - matched,
      changed: matched - unchanged,
      unchanged,
    };
  }

  /** Puts the tables built beside the old ones in the place of the old ones. */
  private async swap(
    root: TableSchema | undefined,
    building: ReadonlyMap<string, StandingTable>,
    run: Run,
  ): Promise<RowCounts> {
    const { schema } = this.options;
    const counts = root === undefined ? NO_ROWS : await this.countReplaced(root, building.has(root.name));
    for (const table of this.replaced.keys()) await run(`DROP TABLE ${tableName(schema, table)}`);
    for (const table of building.keys())
      await run(`ALTER TABLE ${this.target(table)} RENAME TO ${quoteName(table)}`);
    return counts;
  }

  private async countReplaced(root: TableSchema, built: boolean): Promise<RowCounts> {
    const old = tableName(this.options.schema, root.name);
    const now = built ? await this.countRows(this.target(root.name)) : 0;
    const doubled = this.builtRows - now;
    const before = this.replaced.get(root.name);
    if (before === undefined) return { ...NO_ROWS, added: now, doubled };
    const was = await this.countRows(old);
    if (root.columns.some((column) => column.role === "row_id"))
      return { ...NO_ROWS, added: now, removed: was, doubled };
    const shared = root.columns.filter((column) => before.has(column.name));
    const comparable = built && root.recordKey.every((name) => before.has(name));
    const { matched, unchanged } = comparable
      ? await this.countMatches(this.target(root.name), readAs(old, root, before), {
          ...root,
          columns: shared,
        })
      : NO_MATCHES;
    const stillUnchanged = shared.length < root.columns.length ? 0 : unchanged;
    const changed = matched - stillUnchanged;
    return { added: now - matched, changed, unchanged: stillUnchanged, removed: was - matched, doubled };
  }

  /** For tables that are replaced: what differs from the ones that stood. */
  private changesBySwap(tables: readonly TableSchema[]): SchemaChange[] {
    return tables
      .filter((table) => table.columns.length > 0)
      .flatMap((table) => planTable("", table, this.replaced.get(table.name)).changes);
  }

  /** The keys are compared first: mostly nothing stands there yet, and whole rows need not be read. */
  private async countMatches(stage: string, target: string, schema: TableSchema): Promise<Matches> {
    const [keys] = await this.query(countMatchesQuery(stage, target, { ...schema, columns: [] }));
    if (Number(keys?.matched) === 0) return NO_MATCHES;
    const [row] = await this.query(countMatchesQuery(stage, target, schema));
    return { matched: Number(row?.matched), unchanged: Number(row?.unchanged) };
  }

  private async countRows(table: string): Promise<number> {
    const [row] = await this.query(`SELECT count(*) AS rows FROM ${table}`);
    return Number(row?.rows);
  }

  private async transaction<T>(work: (run: Run) => Promise<T>): Promise<T> {
    const { writing } = this.ports;
    const run: Run = async (sql: string) => {
      await writing.run(sql);
    };
    await run("BEGIN");
    try {
      const result = await work(run);
      await run("COMMIT");
      return result;
    } catch (error) {
      await run("ROLLBACK").catch(() => {});
      const { schema, stream, rootTable } = this.options;
      const message = error instanceof Error ? error.message : String(error);
      throw new BridgeError("WAREHOUSE_FAILED", `DuckDB could not commit: ${message}`, {
        where: { stream, table: `${schema}.${rootTable}` },
        cause: error,
      });
    }
  }

  private async query(sql: string): Promise<Record<string, unknown>[]> {
    return (await this.ports.writing.runAndReadAll(sql)).getRowObjectsJS();
  }
}
