/**
 * What goes with each commit into a store. The stream's tables stand in a DuckDB file for the time of a run; what a
 * commit changes in them is written into files, and that is what counts.
 *
 *   inside of the transaction   files are written and wait aside ─▶ the ledger names them ─▶ its next number is taken
 *   after it                    they take their places ─▶ the manifests name them ─▶ files that they replace go
 *
 * A process that ends before the ledger has its number has written nothing. One that ends after it has left a list of
 * what is to be done, and who opens the store next does it.
 */

import { randomBytes } from "node:crypto";
import { writeFile as writeText } from "node:fs/promises";
import { join } from "node:path";
import type { FilesOptions } from "../../core/define/files-schema.js";
import { BridgeError } from "../../core/errors.js";
import type { Upkeep } from "../duckdb/connections.js";
import type { SqlConnection } from "../sql/dialect.js";
import type { LeftTables } from "../sql/load-ports.js";
import type { SqlWork } from "../sql/work.js";
import type { StreamPlace } from "../warehouse.js";
import {
  addFile,
  filesOf,
  forget,
  gonePaths,
  makeList,
  markGone,
  type TableFile,
  widestRow,
} from "./file-list.js";
import { LedgerFile } from "./ledger-file.js";
import { type Manifest, runManifest, runningRuns, tablesManifest } from "./manifest.js";
import { ASIDE } from "./names.js";
import { dropSchemas } from "./read-back.js";
import type { Store } from "./store.js";
import { TableWriter } from "./table-writer.js";

export class FilesUpkeep implements Upkeep {
  private readonly ledger: LedgerFile;
  readonly writer: TableWriter;
  /** waiting for the commit under way */
  private files: TableFile[] = [];
  private gone: string[] = [];
  private committed: { readonly files: readonly TableFile[]; readonly gone: readonly string[] } | undefined;
  /** removed, and still in the list */
  private forgotten: string[] = [];
  private running = new Set<number>();
  /** a transaction has begun, and was not committed */
  private isOpen = false;

  constructor(
    private readonly store: Store,
    options: FilesOptions,
    /** a folder of this machine that the DuckDB file can write into */
    private readonly scratch: string,
    private readonly readOnly: boolean,
  ) {
    this.ledger = new LedgerFile(store, scratch);
    this.writer = new TableWriter(store, options, scratch);
  }

  /** where the DuckDB file may read */
  get folder(): string {
    return this.store.root ?? this.scratch;
  }

  async bringIn(on: SqlConnection): Promise<void> {
    // what a process has left that was killed
    await dropSchemas(on);
    const isThere = await this.ledger.bringIn(on);
    if (!isThere) await makeList(on);
    else if (!this.readOnly) await this.finishCommit(on);
  }

  widestRow(on: SqlConnection): Promise<number> {
    return widestRow(on);
  }

  willRun(sql: string): void {
    this.ledger.willRun(sql);
  }

  begin(): void {
    if (this.committed !== undefined)
      throw new BridgeError(
        "WAREHOUSE_FAILED",
        "The last commit stands, but it could not be brought to its end here.",
        {
          hint: "Run again: the next run brings it to its end and goes on from there.",
        },
      );
    // what was published of a transaction that was not committed is void
    if (this.isOpen) this.ledger.over(false);
    this.isOpen = true;
    this.files = [];
    this.gone = [];
    this.writer.begin();
  }

  readonly writeOut = async (work: SqlWork, left: LeftTables): Promise<void> => {
    const { files, gone } = await this.writer.write(work.connection, left);
    for (const file of files) {
      await this.store.put(join(this.scratch, file.aside.slice(ASIDE.length)), file.aside);
      await addFile(work.connection, file);
    }
    await markGone(work.connection, gone);
    this.files.push(...files);
    this.gone.push(...gone);
  };

  async dropped(on: SqlConnection, of: StreamPlace): Promise<void> {
    const paths = (await filesOf(on, of)).map(({ path }) => path);
    await markGone(on, paths);
    this.gone.push(...paths);
    this.writer.forget(of);
  }

  async beforeCommit(on: SqlConnection): Promise<void> {
    await forget(on, this.forgotten);
    await this.ledger.publish(on);
    this.committed = { files: this.files, gone: this.gone };
  }

  async afterCommit(on: SqlConnection): Promise<void> {
    this.forgotten = [];
    const { files, gone } = this.committed ?? { files: [], gone: [] };
    const isOther = files.length > 0 || gone.length > 0;
    for (const { aside, path } of files) await this.store.move(aside, path);
    if (isOther) await this.write(await tablesManifest(on));
    if (isOther || this.ledger.hasChanged("runs")) await this.writeRuns(on);
    if (gone.length > 0) await this.removeGone(on);
    await this.ledger.tidy();
    this.ledger.over(true);
    this.writer.committed();
    this.committed = undefined;
    this.isOpen = false;
  }

  /** The manifests of runs that go on, and of those that have just ended. */
  private async writeRuns(on: SqlConnection): Promise<void> {
    const running = await runningRuns(on);
    for (const run of new Set([...this.running, ...running])) await this.write(await runManifest(on, run));
    this.running = new Set(running);
  }

  /** Does what the last process that wrote has left to be done. */
  private async finishCommit(on: SqlConnection): Promise<void> {
    const waiting = await this.store.list(ASIDE);
    const places = new Map((await filesOf(on)).map(({ aside, path }) => [aside, path]));
    for (const { name } of waiting) {
      const path = places.get(name);
      await (path === undefined ? this.store.remove(name) : this.store.move(name, path));
    }
    await this.write(await tablesManifest(on));
    await this.removeGone(on);
    // runs that were broken off: the next one says so of them
    this.running = new Set(await runningRuns(on));
  }

  private async removeGone(on: SqlConnection): Promise<void> {
    const paths = (await gonePaths(on)).filter((path) => !this.forgotten.includes(path));
    for (const path of paths) await this.store.remove(path);
    this.forgotten.push(...paths);
  }

  private async write({ name, document }: Manifest): Promise<void> {
    const path = join(this.scratch, `${randomBytes(6).toString("hex")}.json`);
    await writeText(path, `${JSON.stringify(document, undefined, 2)}\n`);
    await this.store.put(path, name);
  }
}
