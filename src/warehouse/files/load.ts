/** A stream's load into files: rows that stand are read back when the first rows come that are compared with them. */

import type { TableBatch } from "../../core/shape/batch.js";
import type { Shaped } from "../../core/shape/shaped.js";
import type { TableSchema } from "../../core/shape/table-shape.js";
import type { CheckpointEntry, Committed, LoadOptions, StreamLoad, SweepEntry } from "../warehouse.js";
import { comesBeside } from "./table-writer.js";

export class FilesLoad implements StreamLoad {
  private filling: Promise<void> | undefined;

  constructor(
    private readonly inner: StreamLoad,
    private readonly options: LoadOptions,
    /** rows in the stream's files */
    private readonly standingRows: () => number,
    private readonly fill: () => Promise<void>,
  ) {}

  get fresh(): boolean {
    return this.inner.fresh;
  }

  get missing(): readonly string[] {
    return this.inner.missing;
  }

  get waitingRows(): number {
    return this.inner.waitingRows;
  }

  get isFull(): boolean | undefined {
    return this.inner.isFull;
  }

  get isHeavy(): boolean | undefined {
    return this.inner.isHeavy;
  }

  /** Tables that are written whole are written when as much has come as stands: the work stays in proportion. */
  get mayWait(): boolean {
    return !comesBeside(this.options) && this.inner.waitingRows < this.standingRows();
  }

  async add(shaped: Shaped, schema: readonly TableSchema[] | undefined): Promise<void> {
    if (shaped.batches.some(({ rows }) => rows > 0) || (shaped.removed?.rows ?? 0) > 0) await this.filled();
    await this.inner.add(shaped, schema);
  }

  checkpoint(entry: CheckpointEntry): Promise<Committed> {
    return this.inner.checkpoint(entry);
  }

  async finish(entry: CheckpointEntry): Promise<Committed> {
    if (this.options.write.buildsBeside) await this.filled();
    return this.inner.finish(entry);
  }

  addLiving(keys: TableBatch): Promise<void> {
    return this.inner.addLiving(keys);
  }

  async sweep(entry: SweepEntry): Promise<Committed> {
    await this.filled();
    return this.inner.sweep(entry);
  }

  close(): Promise<void> {
    return this.inner.close();
  }

  private filled(): Promise<void> {
    this.filling ??= this.fill();
    return this.filling;
  }
}
