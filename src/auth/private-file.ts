/** Files that hold secrets: read only where nobody else can read them. */

import { open } from "node:fs/promises";
import { BridgeError } from "../core/errors.js";

/**
 * The file's text.
 * @throws BridgeError SECRET_FILE_OPEN where the group or others may read it (on systems that have such modes)
 */
export async function readPrivateFile(path: string): Promise<string> {
  const file = await open(path, "r");
  try {
    const { mode } = await file.stat();
    if (process.platform !== "win32" && (mode & 0o077) !== 0) {
      throw new BridgeError(
        "SECRET_FILE_OPEN",
        `Others may read this file, and it holds secrets (mode ${(mode & 0o777).toString(8)}).`,
        {
          where: { file: path },
          hint: `Run: chmod 600 ${path}`,
        },
      );
    }
    return await file.readFile("utf8");
  } finally {
    await file.close();
  }
}
