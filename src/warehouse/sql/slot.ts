/** What a load collects between two checkpoints: stages of rows, keys of records that are gone, and misfits. */

import type { TableBatch } from "../../core/shape/batch.js";
import type { SchemaChange, Shaped } from "../../core/shape/shaped.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { SqlConnection } from "./dialect.js";
import { Misfits } from "./ledger-quarantine.js";
import type { Stage, StageSet, StageUse } from "./stage.js";
import { keyColumns } from "./work.js";

export class Slot {
  /** by table */
  readonly rows = new Map<string, Stage>();
  /** the schema of each, as it was last given */
  tables: ReadonlyMap<string, TableSchema> = new Map();
  /** records for quarantine */
  readonly misfits = new Misfits();
  /** what was new and was left out */
  readonly drift: SchemaChange[] = [];
  /** keys of records that are gone */
  removed: Stage | undefined;
  private set: StageSet | undefined;

  constructor(
    private readonly openStages: () => Promise<StageSet>,
    /** how the stage of a table's rows is used */
    private readonly useOf: (table: TableSchema) => StageUse = () => ({}),
    /** another slot opens the stages for this one as well, and closes them */
    private readonly isBeside = false,
  ) {}

  /** A slot whose stages are held by the same connection. */
  beside(): Slot {
    const openStages = async () => {
      this.set ??= await this.openStages();
      return this.set;
    };
    return new Slot(openStages, undefined, true);
  }

  /** what commits the stages; undefined: there are none yet */
  get connection(): SqlConnection | undefined {
    return this.set?.connection;
  }

  /** what waits takes much room while it is committed */
  get isHeavy(): boolean {
    return this.set?.isHeavy === true;
  }

  /** the rows are in their tables, and wait for the commit */
  get isStraight(): boolean {
    return [...this.rows.values()].some((stage) => stage.isStraight === true);
  }

  /** rows waiting, and records for quarantine */
  get waiting(): number {
    return this.stages().reduce((sum, { rows }) => sum + rows, this.misfits.count);
  }

  async setSchema(tables: ReadonlyMap<string, TableSchema>, root: TableSchema): Promise<void> {
    this.tables = tables;
    for (const stage of this.rows.values()) await stage.setSchema(tables.get(stage.table)!);
    await this.removed?.setSchema(keysOf(root));
  }

  /** Copies a page in; tells how many of its records were counted by number. */
  async add(
    { batches, removed, issues, drift = [] }: Shaped,
    tables: ReadonlyMap<string, TableSchema>,
    firstSeq: number,
  ): Promise<number> {
    let records = 0;
    this.tables = tables;
    const append = async (stage: Stage, batch: TableBatch) => {
      await stage.append(batch, firstSeq);
      records = Math.max(records, (batch.recordOf[batch.rows - 1] ?? -1) + 1);
    };
    for (const batch of batches) {
      const stage = this.rows.get(batch.table) ?? (await this.open(tables.get(batch.table)!, this.useOf));
      this.rows.set(batch.table, stage);
      await append(stage, batch);
    }
    if (removed !== undefined) await append(await this.openRemoved(tables.get(removed.table)!), removed);
    for (const issue of issues) this.misfits.add(issue);
    this.drift.push(...drift);
    return records;
  }

  /** The stage for keys of records that are gone. */
  async openRemoved(root: TableSchema): Promise<Stage> {
    this.removed ??= await this.open(keysOf(root));
    return this.removed;
  }

  async flush(): Promise<void> {
    for (const stage of this.stages()) await stage.flush();
  }

  /** Makes all that waits open to statements that change it. */
  async writable(): Promise<void> {
    for (const stage of this.stages()) await stage.writable();
  }

  /** Decides on rows that are in their tables ahead of the commit; `connection` may be another one then. */
  async settleAhead(areNew: boolean): Promise<void> {
    await this.set?.settleAhead?.(areNew);
  }

  /** At the end of a commit, inside of it. */
  async settle(): Promise<void> {
    for (const stage of this.stages()) await stage.settle?.();
  }

  async drop(): Promise<void> {
    for (const stage of this.stages()) await stage.drop();
    if (!this.isBeside) await this.set?.close();
  }

  private stages(): Stage[] {
    return this.removed === undefined ? [...this.rows.values()] : [...this.rows.values(), this.removed];
  }

  private async open(schema: TableSchema, useOf?: (table: TableSchema) => StageUse): Promise<Stage> {
    this.set ??= await this.openStages();
    const stage = this.set.stage(schema.name, useOf?.(schema) ?? {});
    await stage.setSchema(schema);
    return stage;
  }
}

/** A table of the key alone. */
function keysOf(root: TableSchema): TableSchema {
  return { ...root, columns: keyColumns(root) };
}
