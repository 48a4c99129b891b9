/** What a load takes in: pages go into a slot, until a commit takes that away and another one is filled. */

import { BridgeError, isBridgeError, toBridgeError } from "../../core/errors.js";
import type { Shaped } from "../../core/shape/shaped.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { LoadOptions } from "../warehouse.js";
import { Slot } from "./slot.js";
import type { StageSet, StageUse } from "./stage.js";

export class Intake {
  /** as they were last given */
  tables: readonly TableSchema[] = [];
  private slot: Slot;
  private nextSeq = 0;

  /** `useOf`: how the stage of a table is used */
  constructor(
    private readonly openStages: () => Promise<StageSet>,
    private readonly useOf?: (table: TableSchema) => StageUse,
  ) {
    this.slot = new Slot(openStages, useOf);
  }

  get waitingRows(): number {
    return this.slot.waiting;
  }

  get isFull(): boolean {
    return this.slot.misfits.isFull;
  }

  get isHeavy(): boolean {
    return this.slot.isHeavy;
  }

  get byName(): ReadonlyMap<string, TableSchema> {
    return new Map(this.tables.map((table) => [table.name, table]));
  }

  async add(shaped: Shaped, schema: readonly TableSchema[] | undefined): Promise<void> {
    this.tables = schema ?? this.tables;
    const { byName } = this;
    if (schema !== undefined) await this.slot.setSchema(byName, schema[0]!);
    this.nextSeq += await this.slot.add(shaped, byName, this.nextSeq);
  }

  /** What waits; what comes from now on waits elsewhere. */
  take(): Slot {
    const { slot } = this;
    this.slot = new Slot(this.openStages, this.useOf);
    return slot;
  }
}

/** What the warehouse refuses is told with its place. */
export async function told<T>(
  title: string,
  { schema, stream, rootTable }: LoadOptions,
  work: () => Promise<T>,
): Promise<T> {
  const where = { stream, table: `${schema}.${rootTable}` };
  try {
    return await work();
  } catch (cause) {
    const error = toBridgeError(cause, where);
    if (isBridgeError(cause) || error.code !== "INTERNAL") throw error;
    const message = `${title} refused a statement: ${error.message}`;
    throw new BridgeError("WAREHOUSE_FAILED", message, { where, cause });
  }
}
