/**
 * Files of rows on their way into a DuckDB file, in a folder beside it that only its owner can read. They are removed
 * when they were read; what a process that was killed has left goes when the same DuckDB file is opened next.
 */

import { randomBytes } from "node:crypto";
import { type FileHandle, mkdir, open, readdir, rm, rmdir } from "node:fs/promises";
import { basename, dirname, join, resolve } from "node:path";
import { BridgeError } from "../../core/errors.js";
import { type Bytes, type ParquetColumn, ParquetFile, type RowGroup } from "../parquet/parquet.js";

/** A file of rows: written, then read, then removed. */
export class StageFile {
  rows = 0;
  private isWhole = false;

  constructor(
    readonly path: string,
    private readonly handle: FileHandle,
    private readonly form: ParquetFile,
  ) {}

  /** @throws BridgeError FILE_UNWRITABLE */
  async add(groups: readonly RowGroup[]): Promise<void> {
    await this.write(groups.flatMap((group) => this.form.group(group)));
    for (const { rows } of groups) this.rows += rows;
  }

  /** From here on it can be read, and no rows come any more. @throws BridgeError FILE_UNWRITABLE */
  async finish(): Promise<void> {
    if (this.isWhole) return;
    await this.write(this.form.end());
    await this.handle.close();
    this.isWhole = true;
  }

  async remove(): Promise<void> {
    if (!this.isWhole) await this.handle.close();
    await rm(this.path, { force: true });
  }

  private async write(parts: readonly Bytes[]): Promise<void> {
    try {
      const { bytesWritten } = await this.handle.writev(parts);
      // where the disk fills up on the way, what has room is written, and no error given
      if (bytesWritten < parts.reduce((sum, { length }) => sum + length, 0))
        throw Object.assign(new Error("no space left"), { code: "ENOSPC" });
    } catch (cause) {
      throw unwritable(this.path, cause);
    }
  }
}

function unwritable(path: string, cause: unknown): BridgeError {
  const { code, message } = cause as NodeJS.ErrnoException;
  const why = code === "ENOSPC" ? "it is full" : message;
  return new BridgeError("FILE_UNWRITABLE", `Rows cannot be kept in the folder ${dirname(path)}: ${why}.`, {
    hint: "Make room there. What was committed stands, and the next run goes on from there.",
    cause,
  });
}

export class StageFolder {
  readonly folder: string;
  /**
   * Where DuckDB itself puts what has no room in memory. It would make the folder for everybody to read, as its files
   * are: who writes has it made before, within ours.
   */
  readonly spilled: string;
  /** other DuckDB files beside this one share the folder */
  private readonly prefix: string;

  constructor(database: string) {
    this.folder = join(dirname(resolve(database)), ".early-bridge-temporary");
    this.spilled = join(this.folder, `${basename(database)}-spilled`);
    this.prefix = `${basename(database)}-rows-`;
  }

  /** A new file for rows of some columns. @throws BridgeError FILE_UNWRITABLE */
  async create(columns: readonly ParquetColumn[]): Promise<StageFile> {
    const path = join(this.folder, `${this.prefix}${randomBytes(8).toString("hex")}.parquet`);
    const handle = await this.openNew(path).catch((cause) => {
      throw unwritable(path, cause);
    });
    return new StageFile(path, handle, new ParquetFile(columns));
  }

  private async openNew(path: string): Promise<FileHandle> {
    for (let again = false; ; again = true) {
      await mkdir(this.folder, { recursive: true, mode: 0o700 });
      try {
        return await open(path, "wx", 0o600);
      } catch (error) {
        // another process has just removed the folder, for it was empty
        if (again || (error as NodeJS.ErrnoException).code !== "ENOENT") throw error;
      }
    }
  }

  /** Removes the folder where nobody has anything in it. */
  async close(): Promise<void> {
    await rmdir(this.spilled).catch(() => {});
    await rmdir(this.folder).catch(() => {});
  }

  /**
   * Makes the folder anew, without what is left of a process that was killed. To be called by who has the DuckDB file
   * for writing.
   */
  async prepare(): Promise<void> {
    await rm(this.spilled, { recursive: true, force: true });
    await mkdir(this.spilled, { recursive: true, mode: 0o700 });
    const names = await readdir(this.folder).catch(() => []);
    for (const name of names)
      if (name.startsWith(this.prefix)) await rm(join(this.folder, name), { force: true });
  }
}
