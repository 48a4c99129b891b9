/** Files that may or may not be there. */

import { readFile } from "node:fs/promises";
import { BridgeError, toBridgeError } from "../core/errors.js";
import { systemFault } from "../core/system-fault.js";

/** Undefined for a file that is not there; what cannot be read for another reason is a failure. */
export function unlessMissing<T>(path: string, reading: Promise<T>): Promise<T | undefined> {
  return reading.catch((error: unknown) => {
    if ((error as NodeJS.ErrnoException).code === "ENOENT") return undefined;
    const fault = systemFault(error, path);
    throw fault === undefined
      ? toBridgeError(error)
      : new BridgeError("FILE_FAILED", fault, { cause: error });
  });
}

/**
 * The text of a file; undefined where it is not there.
 * @throws BridgeError FILE_FAILED where it is there and cannot be read
 */
export function readIfThere(path: string): Promise<string | undefined> {
  return unlessMissing(path, readFile(path, "utf8"));
}
