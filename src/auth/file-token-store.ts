/**
 * The default token store: a file per account in the user's config folder, mode 0600, encrypted by AES-256-GCM.
 *
 * The key comes from EARLY_BRIDGE_KEY, or is generated beside the files: that keeps tokens out of backups of single
 * files and from casual eyes, and no more; a warning says so.
 */

import { createHash, randomBytes } from "node:crypto";
import { link, mkdir, open, readFile, rename, rm, writeFile } from "node:fs/promises";
import { join } from "node:path";
import envPaths from "env-paths";
import lockfile from "proper-lockfile";
import { readPrivateFile } from "./private-file.js";
import { Seal } from "./sealed.js";
import type { StoredTokens, TokenStore } from "./token-store.js";
import { openTokens } from "./warehouse-token-store.js";

/** Where the files are, and who hears of what is odd with them. */
export interface FileTokenStoreOptions {
  /** default: EARLY_BRIDGE_CONFIG, or the system's folder for settings */
  readonly folder?: string | undefined;
  /** default: EARLY_BRIDGE_KEY; any text, the longer the better */
  readonly key?: string | undefined;
  /** told once when a key had to be generated */
  readonly onWarning?: ((message: string) => void) | undefined;
}

/** How long a lock is held without a sign of life before others take it, in ms. */
const STALE_LOCK_MS = 15_000;
const LOCK_RETRIES = { retries: 400, factor: 1, minTimeout: 50, maxTimeout: 100, randomize: true };

/** Refresh tokens in files of the user's config folder, readable by nobody else; several processes may share them. */
export function fileTokenStore(options: FileTokenStoreOptions = {}): TokenStore {
  const folder =
    options.folder ?? process.env.EARLY_BRIDGE_CONFIG ?? envPaths("early-bridge", { suffix: "" }).config;
  return new FileTokenStore(
    folder,
    options.key ?? process.env.EARLY_BRIDGE_KEY,
    options.onWarning ?? (() => {}),
  );
}

class FileTokenStore implements TokenStore {
  readonly title: string;
  private found: Promise<Seal> | undefined;

  constructor(
    private readonly folder: string,
    private readonly givenKey: string | undefined,
    private readonly onWarning: (message: string) => void,
  ) {
    this.title = `token files in ${folder}`;
  }

  async read(key: string): Promise<StoredTokens | undefined> {
    const path = this.path(key);
    const text = await readPrivateFile(path).catch((error: unknown) => {
      if ((error as { code?: string }).code === "ENOENT") return undefined;
      throw error;
    });
    return text === undefined ? undefined : this.open(text, key, path);
  }

  /**
   * Written to a temporary file, forced to the disk, then renamed: a crash leaves the old file or the new one,
   * whole.
   */
  async write(key: string, tokens: StoredTokens): Promise<void> {
    const path = this.path(key);
    const temporary = `${path}.${process.pid}.${randomBytes(4).toString("hex")}`;
    const sealed = `${(await this.seal()).close(JSON.stringify(tokens), key)}\n`;
    await this.makeFolder();
    const file = await open(temporary, "wx", 0o600);
    try {
      await file.writeFile(sealed);
      await file.sync();
    } finally {
      await file.close();
    }
    await rename(temporary, path);
    await syncFolder(this.folder);
  }

  async remove(key: string): Promise<void> {
    await rm(this.path(key), { force: true });
  }

  async locked<T>(key: string, work: () => Promise<T>): Promise<T> {
    await this.makeFolder();
    let lost: Error | undefined;
    const release = await lockfile.lock(this.path(key), {
      realpath: false,
      stale: STALE_LOCK_MS,
      retries: LOCK_RETRIES,
      // the machine slept, say, and another process has taken the lock since
      onCompromised: (error) => {
        lost = error;
      },
    });
    try {
      return await work();
    } finally {
      // one that is lost is not ours to give back
      if (lost === undefined) await release();
    }
  }

  private path(key: string): string {
    return join(this.folder, `${createHash("sha256").update(key).digest("hex").slice(0, 32)}.token`);
  }

  private async makeFolder(): Promise<void> {
    await mkdir(this.folder, { recursive: true, mode: 0o700 });
  }

  private async open(text: string, key: string, path: string): Promise<StoredTokens> {
    return openTokens(text, await this.seal(), key, path);
  }

  private seal(): Promise<Seal> {
    this.found ??= this.findKey().then((secret) => new Seal(secret));
    return this.found;
  }

  /**
   * The key that is given, or the generated one: written to a temporary file, then linked, so that nobody reads
   * half of it.
   */
  private async findKey(): Promise<string> {
    if (this.givenKey !== undefined && this.givenKey !== "") return this.givenKey;
    const path = join(this.folder, "key");
    await this.makeFolder();
    const temporary = `${path}.${randomBytes(4).toString("hex")}`;
    try {
      const known = await readFile(path, "utf8").catch(() => "");
      if (known !== "") return known;
      await writeFile(temporary, randomBytes(32).toString("hex"), { flag: "wx", mode: 0o600 });
      await link(temporary, path);
      this.onWarning(
        `Tokens are sealed by a key generated at ${path}: who can read that file can read them. Set EARLY_BRIDGE_KEY to keep the key elsewhere.`,
      );
    } catch (error) {
      if ((error as { code?: string }).code !== "EEXIST") throw error;
    } finally {
      await rm(temporary, { force: true });
    }
    return readFile(path, "utf8");
  }
}

/** Makes a rename durable; where folders cannot be opened (Windows), the system does it. */
async function syncFolder(folder: string): Promise<void> {
  const handle = await open(folder, "r").catch(() => undefined);
  if (handle === undefined) return;
  await handle.sync().catch(() => {});
  await handle.close();
}
