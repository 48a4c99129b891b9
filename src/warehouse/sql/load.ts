/**
 * One stream's load into a warehouse that speaks SQL: two slots take turns, one filled while the other is
 * committed.
 */

import type { TableBatch } from "../../core/shape/batch.js";
import { sameType } from "../../core/shape/column-type.js";
import type { Shaped } from "../../core/shape/shaped.js";
import type { ColumnSchema, TableSchema } from "../../core/shape/table-shape.js";
import { addCounts, NO_ROWS } from "../row-counts.js";
import type {
  CheckpointEntry,
  Committed,
  LoadOptions,
  SchemaChange,
  StreamLoad,
  SweepEntry,
} from "../warehouse.js";
import { AheadWay, areAllNew } from "./ahead.js";
import { Intake, told } from "./intake.js";
import type { LoadPorts } from "./load-ports.js";
import { mergeSlot, prepareSlot } from "./merge.js";
import { planTable, type StandingTable } from "./merge-plan.js";
import type { MergeTarget } from "./merge-target.js";
import { Slot } from "./slot.js";
import type { AheadTarget, StageUse } from "./stage.js";
import { StraightWay } from "./straight.js";
import { changesBySwap, NEXT_PREFIX, swapTables } from "./swap.js";
import { findGone, type SweepSlots, takeGone } from "./sweep.js";
import { setViewsAside } from "./views.js";
import { SqlWork } from "./work.js";

/** The stream's tables as they stand when it is opened. */
export interface Standing {
  /** those that are there */
  readonly tables: ReadonlyMap<string, StandingTable>;
  /** those that the ledger knows, and that are gone */
  readonly missing: readonly string[];
}

type MergeTables = ReadonlyMap<string, StandingTable>;

export class SqlLoad implements StreamLoad {
  readonly fresh: boolean;
  readonly missing: readonly string[];
  private readonly intake: Intake;
  private readonly straight: StraightWay;
  private readonly ahead: AheadWay;
  /** keys that a sweep has found */
  private readonly living: Slot;
  private schemaIsNew = false;
  private hasTaken = false;
  /** rows and removals for the stream's own table, those that came twice counted */
  private builtRows = 0;
  /** the tables that rows go into, as they stand now */
  private standing: ReadonlyMap<string, StandingTable>;
  /** the tables that others are built beside */
  private readonly replaced: ReadonlyMap<string, StandingTable>;
  /** child tables that have lost their parents' table: their rows belong to nobody */
  private orphaned: readonly string[];

  constructor(
    private readonly options: LoadOptions,
    private readonly ports: LoadPorts,
    { tables, missing }: Standing,
  ) {
    const { buildsBeside } = options.write;
    this.fresh = !tables.has(options.rootTable);
    this.missing = missing;
    this.standing = buildsBeside ? new Map() : tables;
    this.replaced = buildsBeside ? tables : new Map();
    this.orphaned = this.fresh ? [...this.standing.keys()] : [];
    this.straight = new StraightWay(options, ports.straight);
    const mayGoAhead = ports.goesAhead === true && this.orphaned.length === 0;
    this.ahead = new AheadWay(options, mayGoAhead, !this.standing.has(options.rootTable));
    const openStages = async () => {
      await this.straight.known();
      return ports.openStages();
    };
    this.intake = new Intake(openStages, (table) => this.useOf(table));
    this.living = new Slot(ports.openStages);
  }

  get waitingRows(): number {
    return this.intake.waitingRows;
  }

  get isFull(): boolean {
    return this.intake.isFull;
  }

  get isHeavy(): boolean {
    return this.intake.isHeavy;
  }

  get firstRows(): number | undefined {
    return this.straight.firstRows;
  }

  async add(shaped: Shaped, schema: readonly TableSchema[] | undefined): Promise<void> {
    this.hasTaken ||= shaped.batches.length > 0 || shaped.removed !== undefined;
    this.schemaIsNew ||= schema !== undefined;
    await this.told(() => this.intake.add(shaped, schema));
  }

  checkpoint(entry: CheckpointEntry): Promise<Committed> {
    return this.commitSlot(entry, false);
  }

  finish(entry: CheckpointEntry): Promise<Committed> {
    return this.commitSlot(entry, true);
  }

  async addLiving(keys: TableBatch): Promise<void> {
    const { byName } = this.intake;
    await this.told(() => this.living.add({ batches: [], removed: keys, issues: [] }, byName, 0));
  }

  async sweep(entry: SweepEntry): Promise<Committed> {
    const slots = { living: this.living, gone: this.living.beside() };
    try {
      return await this.told(() => this.commitSweep(slots, entry));
    } finally {
      await slots.gone.drop();
    }
  }

  async close(): Promise<void> {
    await this.intake.take().drop();
    await this.living.drop();
  }

  private mergeTarget(
    tables: readonly TableSchema[],
    standing: MergeTables,
  ): MergeTarget & { readonly become: Set<string> } {
    const nameOf = (table: string) => this.target(table);
    const isThere = (table: string) => standing.has(table);
    return { ...this.options, tables, nameOf, isThere, become: new Set() };
  }

  /** What waits is committed by the connection that holds it. */
  private workOn(slot: Slot): SqlWork {
    return new SqlWork(this.ports.sql, slot.connection ?? this.ports.writing);
  }

  private async commitSlot(entry: CheckpointEntry, last: boolean): Promise<Committed> {
    const { tables } = this.intake;
    const { buildsBeside } = this.options.write;
    const slot = this.intake.take();
    // what is built beside the old ones becomes known when it is swapped in
    const isDue = last || (!buildsBeside && this.schemaIsNew);
    const noteColumns = isDue && tables.length > 0 && (buildsBeside || this.knowsMore(tables));
    this.schemaIsNew = false;
    try {
      const flushed = slot.flush();
      const committed = this.told(async () => {
        await flushed;
        return this.ports.inTurn(() => this.commit(slot, tables, entry, { noteColumns, last }));
      });
      const [root] = tables;
      if (root !== undefined && slot.rows.size > 0) {
        this.straight.learn(slot, { flushed, committed }, this.nameOf(root.name), root);
        this.ahead.learn(committed);
      }
      return await committed;
    } finally {
      await slot.drop();
    }
  }

  /** Whether the ledger is to be told of the columns: rows came, or a column is not as it stands. */
  private knowsMore(tables: readonly TableSchema[]): boolean {
    const isAsItStands = (table: string, { name, type }: ColumnSchema) => {
      const old = this.standing.get(table)?.get(name);
      return old !== undefined && sameType(old, type);
    };
    return (
      this.hasTaken || tables.some(({ name, columns }) => !columns.every((each) => isAsItStands(name, each)))
    );
  }

  private async commitSweep(slots: SweepSlots, entry: SweepEntry): Promise<Committed> {
    const { tables } = this.intake;
    const [root] = tables;
    // an API that lists nothing has left no key
    if (root !== undefined) await slots.living.openRemoved(root);
    await slots.living.flush();
    return this.ports.inTurn(async () => {
      const work = this.workOn(slots.living);
      const target = this.mergeTarget(tables, this.standing);
      const stands = root !== undefined && this.standing.has(root.name);
      const living = slots.living.waiting;
      if (stands) await findGone(work, slots, target, entry);
      return work.transaction(async () => {
        const counts = stands ? await takeGone(work, slots, target) : NO_ROWS;
        if (entry.isPartial !== true) {
          const note = { ...entry, living, gone: counts.removed };
          await this.ports.notes.noteSweep(work.connection, this.options, note);
        }
        const left = { options: this.options, tables: this.standing, counts, changed: new Set<string>() };
        await this.ports.writeOut?.(work, left);
        return { counts, changes: [] };
      });
    });
  }

  private async commit(
    slot: Slot,
    tables: readonly TableSchema[],
    entry: CheckpointEntry,
    { noteColumns, last }: { readonly noteColumns: boolean; readonly last: boolean },
  ): Promise<Committed> {
    const { options, replaced } = this;
    const { notes, places } = this.ports;
    const { buildsBeside } = options.write;
    const swaps = buildsBeside && last;
    const [root] = tables;
    const staged = (root && slot.rows.get(root.name)?.rows) ?? 0;
    this.builtRows += staged + (slot.removed?.rows ?? 0);
    const standing = new Map(this.standing);
    const target = this.mergeTarget(tables, standing);
    // a record in quarantine may be older than what came again: then that is written, so that a mend can tell
    const preparing = this.workOn(slot);
    const mayKeep = async () => !(await notes.hasQuarantined(preparing.connection, options));
    const prepared = await prepareSlot(preparing, slot, target, this.standing, mayKeep);
    const { doubled, unchanged, matches } = prepared;
    const stands = root !== undefined && this.standing.has(root.name);
    await slot.settleAhead(root !== undefined && areAllNew(slot, root, stands, prepared));
    const work = this.workOn(slot);
    const on = work.connection;
    const isApart = work.sql.tablesApart === true;
    // rows that are in their tables have found them as they need them
    const makeTables = async () =>
      slot.isStraight ? [] : await this.makeTables(work, slot, target, standing, last);
    // tables that another process has in hand are not touched
    if (isApart) await notes.checkOwner(on, options);
    const madeBefore = isApart ? await makeTables() : undefined;
    const carry = async () => {
      const putViewsBack = await this.viewsAside(work, tables, standing, last);
      const made = madeBefore ?? (await makeTables());
      await work.run(this.orphaned.map((table) => `DELETE FROM ${this.target(table)}`));
      const merged = addCounts(await mergeSlot(work, slot, target, matches), {
        ...NO_ROWS,
        doubled,
        unchanged,
      });
      // made of many rows at once, they take less time than row by row
      if (!isApart) await work.run(this.indexesOf(work, tables, made));
      const built = [...standing.keys()];
      const { builtRows } = this;
      const swap = { schema: options.schema, tables, built, replaced, builtRows };
      const swapped = swaps ? await swapTables(work, swap) : NO_ROWS;
      if (swaps) await places?.note(on, options, swap);
      await putViewsBack();
      const own = !buildsBeside ? made : last ? changesBySwap(work, tables, replaced) : [];
      const changes = [...own, ...slot.drift];
      // a table that nothing has come for is not there, and has no columns
      const there = tables.filter(({ name }) => standing.has(name));
      if (noteColumns) await notes.noteColumns(on, options, there, entry.atMs);
      await notes.noteChanges(on, options, changes, entry.atMs);
      await notes.noteMisfits(on, options, slot.misfits, entry.atMs);
      await notes.noteCheckpoint(on, options, entry, staged);
      const counts = buildsBeside ? swapped : merged;
      const changed = new Set(own.map(({ table }) => table));
      if (!buildsBeside || last)
        await this.ports.writeOut?.(work, { options, tables: standing, counts, changed });
      await slot.settle();
      return { counts, changes };
    };
    const committed = await work.transaction(carry, () => this.ports.hasCommitted?.(options, entry.number));
    if (swaps) await places?.take(on, options);
    this.standing = standing;
    this.orphaned = [];
    return committed;
  }

  /** Makes the tables that are needed, or brings them to their schema; `standing` is brought up to date. */
  private async makeTables(
    work: SqlWork,
    slot: Slot,
    { tables, become }: MergeTarget & { readonly become: Set<string> },
    standing: Map<string, StandingTable>,
    last: boolean,
  ): Promise<SchemaChange[]> {
    const changes: SchemaChange[] = [];
    if (tables.some(({ name }) => !standing.has(name)))
      await work.run([work.sql.makeSchema(this.options.schema)]);
    for (const table of tables) {
      const isKnown = slot.rows.has(table.name) || standing.has(table.name);
      // a table whose key is declared is there before its first row
      if (table.columns.length === 0 || !(isKnown || (last && hasKey(table)))) continue;
      const target = this.target(table.name);
      const { write, schema } = this.options;
      const place = { schema, name: this.nameOf(table.name) };
      const at = { ...place, table, isNoted: !write.buildsBeside };
      const isThere = standing.has(table.name);
      const made = isThere ? undefined : slot.rows.get(table.name)?.become?.(place, table, this.options);
      if (made !== undefined) become.add(table.name);
      const plan = planTable(work.sql, target, table, standing.get(table.name), { at, made });
      // a run that broke off may have left it
      const isNew = this.options.write.buildsBeside && !standing.has(table.name);
      await work.run([...(isNew ? [`DROP TABLE IF EXISTS ${target}`] : []), ...plan.statements]);
      changes.push(...plan.changes);
      standing.set(table.name, new Map(table.columns.map((column) => [column.name, column.type])));
    }
    if (work.sql.tablesApart === true) await work.run(this.indexesOf(work, tables, changes));
    return changes;
  }

  /** Where a view holds the types of what it reads, it goes for as long as they change. */
  private async viewsAside(
    work: SqlWork,
    tables: readonly TableSchema[],
    standing: MergeTables,
    last: boolean,
  ): Promise<() => Promise<void>> {
    const before = last && this.options.write.buildsBeside ? this.replaced : standing;
    const isOther = ({ name, columns }: TableSchema) =>
      columns.some((column) => {
        const old = before.get(name)?.get(column.name);
        return old !== undefined && !sameType(old, column.type);
      });
    if (work.sql.viewsHoldTypes !== true || !tables.some(isOther)) return async () => {};
    return setViewsAside(work);
  }

  private indexesOf(
    { sql }: SqlWork,
    tables: readonly TableSchema[],
    made: readonly SchemaChange[],
  ): string[] {
    const isNew = new Set(made.flatMap(({ table, change }) => (change === "table_added" ? [table] : [])));
    const newTables = tables.filter(({ name }) => isNew.has(name));
    return newTables.flatMap((table) => sql.indexes?.(this.target(table.name), table) ?? []);
  }

  private target(table: string): string {
    return this.ports.sql.tableName(this.options.schema, this.nameOf(table));
  }

  private nameOf(table: string): string {
    return this.options.write.buildsBeside ? NEXT_PREFIX + table : table;
  }

  private useOf(table: TableSchema): StageUse {
    const { write, rootTable } = this.options;
    const { standing } = this;
    // of a stream that has no table yet, whose rows are found again by their key or not at all
    const mayBecome = write.standing === "replaced" && !standing.has(rootTable) && !standing.has(table.name);
    return {
      mayBecome,
      ...this.straight.useOf(table, standing, this.aheadTarget(table)),
      ...this.ahead.use(
        () => this.standing,
        (each) => this.aheadTarget(each),
      ),
    };
  }

  private aheadTarget(table: TableSchema): AheadTarget {
    const { run, loadedAtMs, schema } = this.options;
    const { sql } = this.ports;
    const sqlName = this.target(table.name);
    const statements = () => planTable(sql, sqlName, table, undefined).statements;
    return { sqlName, run, loadedAtMs, make: { schema: sql.makeSchema(schema), statements } };
  }

  private told<T>(work: () => Promise<T>): Promise<T> {
    return told(this.ports.sql.title, this.options, work);
  }
}

/** Whether the columns that identify a row's record have a type by now. */
function hasKey({ recordKey, columns }: TableSchema): boolean {
  return recordKey.every((name) => columns.some((column) => column.name === name));
}
