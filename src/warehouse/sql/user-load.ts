/**
 * A stream's load into a table that stands already and is not ours: nothing of it is altered, rows are inserted,
 * updated or deleted by their key, and the cursor is committed with them as everywhere.
 */

import { BridgeError } from "../../core/errors.js";
import type { UserColumn } from "../../core/into/user-table.js";
import type { Shaped } from "../../core/shape/shaped.js";
import type { ColumnSchema, TableSchema } from "../../core/shape/table-shape.js";
import { addCounts, NO_ROWS, type RowCounts } from "../row-counts.js";
import type { CheckpointEntry, Committed, LoadInto, LoadOptions, StreamLoad } from "../warehouse.js";
import { Intake, told } from "./intake.js";
import type { LoadPorts } from "./load-ports.js";
import { prepareSlot } from "./merge.js";
import type { Slot } from "./slot.js";
import { deleteRows, type Filled, insertRows, matchesOf, updateRows } from "./user-merge.js";
import { SqlWork } from "./work.js";

/** What goes into a table that is not ours. */
export type IntoOptions = LoadOptions & { readonly into: LoadInto };

export class UserLoad implements StreamLoad {
  readonly missing: readonly string[] = [];
  private readonly intake: Intake;
  /** columns that are noted as filled, by name */
  private readonly noted: Set<string>;

  constructor(
    private readonly options: IntoOptions,
    private readonly ports: LoadPorts,
  ) {
    this.intake = new Intake(ports.openStages);
    this.noted = new Set(options.into.filled.map(({ name }) => name));
  }

  /** nothing of the stream has gone into the table */
  get fresh(): boolean {
    return this.options.into.filled.length === 0;
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

  add(shaped: Shaped, schema: readonly TableSchema[] | undefined): Promise<void> {
    return this.told(() => this.intake.add(shaped, schema));
  }

  checkpoint(entry: CheckpointEntry): Promise<Committed> {
    return this.commitSlot(entry);
  }

  finish(entry: CheckpointEntry): Promise<Committed> {
    return this.commitSlot(entry);
  }

  async addLiving(): Promise<void> {
    throw notSwept();
  }

  async sweep(): Promise<Committed> {
    throw notSwept();
  }

  async close(): Promise<void> {
    await this.intake.take().drop();
  }

  private told<T>(work: () => Promise<T>): Promise<T> {
    return told(this.ports.sql.title, this.options, work);
  }

  private async commitSlot(entry: CheckpointEntry): Promise<Committed> {
    const [root] = this.intake.tables;
    const slot = this.intake.take();
    try {
      return await this.told(async () => {
        await slot.flush();
        return this.ports.inTurn(() => this.commit(slot, root, entry));
      });
    } finally {
      await slot.drop();
    }
  }

  private async commit(
    slot: Slot,
    root: TableSchema | undefined,
    entry: CheckpointEntry,
  ): Promise<Committed> {
    const { options, ports } = this;
    const { notes, sql } = ports;
    const work = new SqlWork(sql, slot.connection ?? ports.writing);
    const on = work.connection;
    const target = {
      ...options,
      notOver: undefined,
      tables: root === undefined ? [] : [root],
      nameOf: () => sql.tableName(options.schema, options.rootTable),
      isThere: () => true,
      become: new Set<string>(),
    };
    const { doubled } = await prepareSlot(work, slot, target, new Map(), async () => false);
    if (sql.tablesApart === true) await notes.checkOwner(on, options);
    const filled = root === undefined ? [] : this.filledBy(root);
    const isNew = filled.some(({ column }) => !this.noted.has(column.name));
    const carry = async () => {
      const counts = root === undefined ? NO_ROWS : await this.merge(work, slot, root, filled);
      if (isNew) await notes.noteColumns(on, options, [this.tableOf(filled)], entry.atMs);
      await notes.noteMisfits(on, options, slot.misfits, entry.atMs);
      const staged = root === undefined ? 0 : (slot.rows.get(root.name)?.rows ?? 0);
      await notes.noteCheckpoint(on, options, entry, staged);
      return { counts: addCounts(counts, { ...NO_ROWS, doubled }), changes: [] };
    };
    const committed = await work.transaction(carry, () => ports.hasCommitted?.(options, entry.number));
    for (const { column } of filled) this.noted.add(column.name);
    return committed;
  }

  /** The columns that fields go into by now. */
  private filledBy({ columns, entityKey }: TableSchema): Filled[] {
    const { match } = this.options.into;
    return columns.flatMap((field) => {
      const column = field.role === "data" ? match.columnAt(field.path) : undefined;
      return column === undefined ? [] : [{ field, column, isKey: entityKey.includes(field.name) }];
    });
  }

  /** As the ledger has it. */
  private tableOf(filled: readonly Filled[]): TableSchema {
    const columns = filled.map(
      ({ field, column }): ColumnSchema => ({ ...field, name: column.name, role: "into" }),
    );
    const keys = filled.filter(({ isKey }) => isKey).map(({ column }) => column.name);
    return { name: this.options.rootTable, path: "", columns, recordKey: keys, entityKey: keys };
  }

  private async merge(
    work: SqlWork,
    slot: Slot,
    root: TableSchema,
    filled: readonly Filled[],
  ): Promise<RowCounts> {
    const staged = slot.rows.get(root.name);
    const came =
      staged === undefined ? NO_ROWS : await this.mergeRows(work, staged.sqlName, staged.rows, filled);
    if (slot.removed === undefined) return came;
    const { sqlName } = slot.removed;
    const told = await work.countRows(sqlName);
    const removed = this.options.into.removes ? await this.remove(work, sqlName, filled) : 0;
    return addCounts(came, { ...NO_ROWS, removed, passedOver: told - removed });
  }

  private async mergeRows(
    work: SqlWork,
    stage: string,
    came: number,
    filled: readonly Filled[],
  ): Promise<RowCounts> {
    const { write, notOver } = this.options;
    const target = this.name(work);
    const isKeyed = filled.some(({ isKey }) => isKey);
    const staged = isKeyed ? await work.countRows(stage) : came;
    if (write.mode === "delete") {
      const removed = await this.remove(work, stage, filled);
      return { ...NO_ROWS, removed, passedOver: staged - removed };
    }
    const { matched, unchanged } = isKeyed
      ? await matchesOf(work, target, stage, filled)
      : { matched: 0, unchanged: 0 };
    // what stands may be newer than a record that is mended
    const updates = write.mode !== "insert" && notOver === undefined;
    const changed = updates ? matched - unchanged : 0;
    if (changed > 0) await work.run([updateRows(work.sql, target, stage, filled)]);
    const added = write.mode === "update" ? 0 : staged - matched;
    if (added > 0) {
      this.checkNeeded(filled);
      await work.run([insertRows(work.sql, target, stage, filled)]);
    }
    const same = updates ? unchanged : 0;
    return { ...NO_ROWS, added, changed, unchanged: same, passedOver: staged - added - changed - same };
  }

  private async remove(work: SqlWork, stage: string, filled: readonly Filled[]): Promise<number> {
    const keys = filled.filter(({ isKey }) => isKey);
    const { matched } = await matchesOf(work, this.name(work), stage, keys);
    if (matched > 0) await work.run([deleteRows(work.sql, this.name(work), stage, filled)]);
    return matched;
  }

  /** Before the first row goes in. @throws BridgeError TABLE_MISMATCH where a column takes no NULL and gets nothing */
  private checkNeeded(filled: readonly Filled[]): void {
    const { schema, rootTable, stream, into } = this.options;
    const given = new Set<UserColumn>(filled.map(({ column }) => column));
    const empty = into.match.table.columns.filter(
      (column) => column.isNeeded && !column.hasDefault && !column.isGenerated && !given.has(column),
    );
    if (empty.length === 0) return;
    const names = empty.map(({ name }) => name);
    throw new BridgeError(
      "TABLE_MISMATCH",
      `Rows cannot be inserted into ${schema}.${rootTable}: no field goes into ${names.join(", ")}, which ${names.length === 1 ? "takes" : "take"} no NULL and ${names.length === 1 ? "has" : "have"} no default.`,
      {
        where: { stream, table: `${schema}.${rootTable}` },
        hint: `Name a field for ${names.length === 1 ? "it" : "each"}: into: { columns: { <field>: ${names[0]} } }; or write: update, which inserts none.`,
      },
    );
  }

  private name({ sql }: SqlWork): string {
    return sql.tableName(this.options.schema, this.options.rootTable);
  }
}

function notSwept(): BridgeError {
  return new BridgeError("INTERNAL", "a table that is not ours is not swept");
}
