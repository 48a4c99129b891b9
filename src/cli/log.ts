/** `--log FILE`: what a command does, as structured lines for those who keep logs; added to what the file holds. */

import { closeSync, openSync } from "node:fs";
import type { DestinationStream, Logger } from "pino";
import { BridgeError, toBridgeError } from "../core/errors.js";
import { systemFault } from "../core/system-fault.js";
import type { RunEvent } from "../run/events.js";
import { namedEvents, plainObject } from "./json-lines.js";
import type { Log } from "./no-log.js";

/** Events that somebody should look at, and those of which there are many. */
const LEVELS: Readonly<Partial<Record<RunEvent["type"], "debug" | "warn">>> = {
  page: "debug",
  waiting: "debug",
  retry: "warn",
  notice: "warn",
  quarantined: "warn",
};

/**
 * Opens a log. Lines are written as they come: what happened before a crash is there.
 * @throws BridgeError FILE_UNWRITABLE
 */
export async function openLog(path: string, onTrouble: (message: string) => void): Promise<Log> {
  const { destination, pino, stdTimeFunctions } = (await import("pino")).default;
  // else the first line would find out
  writable(path);
  const file = destination({ dest: path, append: true, sync: true });
  const logger = pino(
    {
      level: "debug",
      base: { pid: process.pid },
      timestamp: stdTimeFunctions.isoTime,
      formatters: { level: (label) => ({ level: label }) },
    },
    file,
  );
  return logOf(logger, file, path, onTrouble);
}

function logOf(
  logger: Logger,
  file: DestinationStream,
  path: string,
  onTrouble: (message: string) => void,
): Log {
  let broken = false;
  const trouble = (error: unknown) => {
    if (broken) return;
    broken = true;
    // the command's own work goes on
    onTrouble(`The log is not written any further: ${systemFault(error, path) ?? String(error)}`);
  };
  if ("on" in file)
    (file.on as (event: string, listener: (error: unknown) => void) => void)("error", trouble);
  const named = namedEvents();
  const note: Log["note"] = (level, type, content = {}) => {
    if (broken) return;
    try {
      logger[level]({ type, ...plainObject(content) }, type.replaceAll("_", " "));
    } catch (error) {
      trouble(error);
    }
  };
  return {
    note,
    onEvent(event) {
      const failed = (event.type === "run_ended" || event.type === "stream_ended") && event.report.error;
      note(failed ? "error" : (LEVELS[event.type] ?? "info"), event.type, named(event));
    },
  };
}

function writable(path: string): void {
  try {
    closeSync(openSync(path, "a"));
  } catch (cause) {
    const fault = systemFault(cause, path) ?? toBridgeError(cause).message;
    throw new BridgeError("FILE_UNWRITABLE", `The log cannot be written. ${fault}`, { cause });
  }
}
