/** Files of ours without a name. */

import { randomBytes } from "node:crypto";
import { type FileHandle, open, unlink } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";

/** Opens a file that is gone when it is closed, or when the process ends. */
export async function openUnnamed(): Promise<FileHandle> {
  const path = join(tmpdir(), `early-bridge-${randomBytes(12).toString("hex")}`);
  const file = await open(path, "wx+", 0o600);
  // where an open file cannot be removed, the system's own clean-up does it
  await unlink(path).catch(() => {});
  return file;
}
