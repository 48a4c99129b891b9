/** A folder of this machine, or one that is mounted there. */

import {
  copyFile,
  type FileHandle,
  link,
  mkdir,
  open,
  readdir,
  rename,
  rm,
  rmdir,
  stat,
} from "node:fs/promises";
import { basename, dirname, join, relative, resolve, sep } from "node:path";
import { BridgeError } from "../../core/errors.js";
import type { Store, StoredFile, StorePlace } from "./store.js";

/** A folder as a place for files; it is made when the first file comes. */
export function localFolder(path: string): StorePlace {
  const root = resolve(path);
  return {
    title: `folder ${basename(root)}`,
    id: root,
    root,
    way: "file",
    grants: `-- Whoever runs the bridge must be able to read and write the folder\n-- ${path}\n-- and to make files and folders in it.`,
    open: async () => new LocalFolder(root),
  };
}

/** File systems that have no links say so by one of these. */
const NO_LINKS = new Set(["EPERM", "ENOTSUP", "EOPNOTSUPP", "ENOSYS", "EMLINK"]);

class LocalFolder implements Store {
  constructor(readonly root: string) {}

  async list(prefix: string): Promise<StoredFile[]> {
    const folder = join(this.root, prefix.slice(0, prefix.lastIndexOf("/") + 1));
    const entries = await readdir(folder, { recursive: true, withFileTypes: true }).catch(nothingIfMissing);
    const names = entries
      .filter((entry) => entry.isFile())
      .map((entry) => relative(this.root, join(entry.parentPath, entry.name)).split(sep).join("/"));
    const files: StoredFile[] = [];
    for (const name of names.filter((each) => each.startsWith(prefix))) {
      // another process may have removed it just now
      const info = await stat(this.path(name)).catch(() => undefined);
      if (info !== undefined) files.push({ name, bytes: info.size });
    }
    return files;
  }

  async has(name: string): Promise<boolean> {
    return stat(this.path(name)).then(
      () => true,
      () => false,
    );
  }

  async fetch(name: string, path: string): Promise<void> {
    await this.told(() => copyFile(this.path(name), path));
  }

  async put(path: string, name: string): Promise<void> {
    await this.told(async () => {
      await toDisk(path);
      await this.makeFolderOf(name);
      await rename(path, this.path(name));
      await this.folderToDisk(name);
    });
  }

  async putNew(path: string, name: string): Promise<boolean> {
    return this.told(async () => {
      await toDisk(path);
      await this.makeFolderOf(name);
      try {
        await link(path, this.path(name));
      } catch (error) {
        const { code } = error as NodeJS.ErrnoException;
        if (code === "EEXIST") return false;
        if (!NO_LINKS.has(String(code))) throw error;
        if (await this.has(name)) return false;
        await rename(path, this.path(name));
      }
      await rm(path, { force: true });
      await this.folderToDisk(name);
      return true;
    });
  }

  async move(from: string, to: string): Promise<void> {
    await this.told(async () => {
      await this.makeFolderOf(to);
      await rename(this.path(from), this.path(to));
      await this.folderToDisk(to);
    });
  }

  async remove(name: string): Promise<void> {
    await this.told(() => rm(this.path(name), { force: true }));
    // a folder that is empty now is of no use; any other stays
    if (name.includes("/")) await rmdir(dirname(this.path(name))).catch(() => {});
  }

  async close(): Promise<void> {}

  private path(name: string): string {
    return join(this.root, name);
  }

  private makeFolderOf(name: string): Promise<unknown> {
    return mkdir(dirname(this.path(name)), { recursive: true });
  }

  /** The names in a folder outlive a loss of power. */
  private async folderToDisk(name: string): Promise<void> {
    await toDisk(dirname(this.path(name))).catch(() => {});
  }

  private async told<T>(work: () => Promise<T>): Promise<T> {
    try {
      return await work();
    } catch (cause) {
      const { code, message } = cause as NodeJS.ErrnoException;
      const why = code === "ENOSPC" ? "the disk is full" : message;
      throw new BridgeError("FILE_UNWRITABLE", `The folder ${this.root} cannot be used: ${why}.`, {
        hint: "Make room there, or see who may write. What was committed stands, and the next run goes on from there.",
        cause,
      });
    }
  }
}

async function toDisk(path: string): Promise<void> {
  const file: FileHandle = await open(path, "r");
  try {
    await file.sync();
  } finally {
    await file.close();
  }
}

function nothingIfMissing(error: NodeJS.ErrnoException): [] {
  if (error.code === "ENOENT") return [];
  throw error;
}
