/** Recordings in files: written as the run goes, so that memory stays small and a run that fails leaves them too. */

import { closeSync, fchmodSync, openSync, readFileSync, writeSync } from "node:fs";
import type { Har } from "har-format";
import { BridgeError } from "../core/errors.js";
import { Recorder } from "./har.js";

/** A recording that is being written to a file. */
export interface FileRecording {
  readonly recorder: Recorder;
  /** Ends the file; what comes later is not taken. May be called again. */
  close(): void;
}

/**
 * Begins a recording in a file that only its owner may read; one that is there already is written over.
 * @throws BridgeError FILE_UNWRITABLE
 */
export function recordInto(path: string): FileRecording {
  const file = writing(path, () => openSync(path, "w", 0o600));
  // one that was there keeps its own mode
  writing(path, () => fchmodSync(file, 0o600));
  const write = (text: string) => writing(path, () => writeSync(file, text));
  let open = true;
  const recorder = new Recorder((entry) => {
    if (open) write(`${recorder.count === 0 ? "" : ","}\n${JSON.stringify(entry)}`);
  });
  const frame = () => JSON.stringify(recorder.recording()).split('"entries":[');
  write(`${frame()[0]}"entries":[`);
  return {
    recorder,
    close() {
      if (!open) return;
      open = false;
      // when the run began and with which cursors is known by now
      write(`\n${frame()[1]}\n`);
      closeSync(file);
    },
  };
}

/** @throws BridgeError FILE_UNREADABLE */
export function readRecording(path: string): Har {
  try {
    return JSON.parse(readFileSync(path, "utf8")) as Har;
  } catch (cause) {
    const message = `The recording ${path} cannot be read: ${(cause as Error).message}.`;
    throw new BridgeError("FILE_UNREADABLE", message, {
      hint: "Make one by: early-bridge run --record <file>.",
      cause,
    });
  }
}

function writing<T>(path: string, work: () => T): T {
  try {
    return work();
  } catch (cause) {
    const message = `The recording ${path} cannot be written: ${(cause as Error).message}.`;
    throw new BridgeError("FILE_UNWRITABLE", message, { cause });
  }
}
