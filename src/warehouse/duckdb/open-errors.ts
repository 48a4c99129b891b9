/** What keeps a DuckDB file from being opened, in words. */

import { open } from "node:fs/promises";
import { BridgeError, isBridgeError } from "../../core/errors.js";

/** The error that tells why the file at a path could not be opened. */
export async function openError(error: unknown, path: string): Promise<BridgeError> {
  if (isBridgeError(error)) return error.at({ file: path });
  const message = error instanceof Error ? error.message : String(error);
  const where = { file: path };
  if (/lock on file|being used by another process/i.test(message)) {
    const holder = /held in (.*?)(?: by user|\. See|$)/.exec(message)?.[1];
    const by = holder === undefined ? "" : `: ${holder}`;
    return new BridgeError("WAREHOUSE_LOCKED", `The DuckDB file is open in another program${by}.`, {
      where,
      cause: error,
    });
  }
  if (/not a valid DuckDB database|checksum|corrupt|could not read enough bytes|magic/i.test(message)) {
    const what = (await kindOfFile(path)) ?? "it is of another program, or damaged";
    return new BridgeError(
      "WAREHOUSE_NOT_OURS",
      `The file is there, but it is no DuckDB file that can be read: ${what}.`,
      {
        where,
        hint: "Choose another path, or bring back a copy of the file.",
        cause: error,
      },
    );
  }
  const unknown = /version string '(.*?)' is not a known/.exec(message)?.[1];
  if (unknown !== undefined)
    return new BridgeError("CONFIG_INVALID", `This version of DuckDB knows no storage_version ${unknown}.`, {
      where,
      hint: "Take a version of DuckDB that there is, such as v1.3.0, or latest.",
      cause: error,
    });
  if (/storage version of an existing database cannot be lowered/i.test(message))
    return new BridgeError("CONFIG_INVALID", "The file is of a newer form than its storage_version says.", {
      where,
      hint: "Leave storage_version out: the file stays as it is. There is no way back to an older form.",
      cause: error,
    });
  if (/version number|newer version/i.test(message)) {
    const hint = "Update @duckdb/node-api, or choose another path.";
    return new BridgeError("WAREHOUSE_NEWER", "Another version of DuckDB has written the file.", {
      where,
      hint,
      cause: error,
    });
  }
  const short = message.replace(/^IO Error: /, "");
  return new BridgeError("WAREHOUSE_UNREACHABLE", `The DuckDB file cannot be opened: ${short}`, {
    where,
    cause: error,
  });
}

/** What a file is by its first bytes, in words; undefined where they say nothing. */
async function kindOfFile(path: string): Promise<string | undefined> {
  const file = await open(path, "r").catch(() => undefined);
  if (file === undefined) return undefined;
  const { buffer, bytesRead } = await file.read(Buffer.alloc(16), 0, 16, 0).catch(() => NO_BYTES);
  await file.close();
  const text = buffer.subarray(0, bytesRead).toString("latin1");
  if (bytesRead === 0) return "it is empty";
  if (text.startsWith("SQLite format 3")) return "it is a database of SQLite";
  if (text.startsWith("PAR1")) return "it is a Parquet file";
  if (text.startsWith("PK")) return "it is a zip file or an office document";
  if (text.startsWith("\u001f\u008b")) return "it is packed by gzip";
  return text.slice(8, 12) === "DUCK" ? "it is damaged" : undefined;
}

const NO_BYTES = { buffer: Buffer.alloc(0), bytesRead: 0 };
