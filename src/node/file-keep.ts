/** What can be asked for again, in files of the user's cache folder: whatever is wrong with them costs time only. */

import { createHash, randomBytes } from "node:crypto";
import { mkdir, readFile, rename, rm, writeFile } from "node:fs/promises";
import { join } from "node:path";
import { deserialize, serialize } from "node:v8";
import envPaths from "env-paths";
import type { Keep } from "../run/ports.js";

/** Bytes of SHA-256 in front of what they are of. */
const CHECK_BYTES = 32;

/** `folder`: default EARLY_BRIDGE_CACHE, or the system's folder for what may be lost. */
export function fileKeep(
  folder = process.env.EARLY_BRIDGE_CACHE ?? envPaths("early-bridge", { suffix: "" }).cache,
): Keep {
  const pathOf = (key: string) => join(folder, `${createHash("sha256").update(key).digest("hex")}.kept`);
  return {
    async read(key) {
      const bytes = await readFile(pathOf(key)).catch(() => undefined);
      if (bytes === undefined) return undefined;
      const held = bytes.subarray(CHECK_BYTES);
      if (!checkOf(held).equals(bytes.subarray(0, CHECK_BYTES))) return undefined;
      try {
        return deserialize(held);
      } catch {
        // another version of Node may have written it
        return undefined;
      }
    },
    async write(key, value) {
      const path = pathOf(key);
      const temporary = `${path}.${process.pid}.${randomBytes(4).toString("hex")}`;
      const held = serialize(value);
      try {
        await mkdir(folder, { recursive: true, mode: 0o700 });
        await writeFile(temporary, Buffer.concat([checkOf(held), held]), { mode: 0o600 });
        await rename(temporary, path);
      } catch {
        await rm(temporary, { force: true }).catch(() => {});
      }
    },
  };
}

function checkOf(bytes: Uint8Array): Buffer {
  return createHash("sha256").update(bytes).digest();
}
