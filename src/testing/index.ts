/**
 * Tests for your own connectors: record what an API answers once, replay it as often as you like, with no network
 * and no waiting.
 *
 *   const replay = replayFile("fixtures/stays.har");
 *   const api = connect(stays, settings, replay.connectOptions);
 *   for await (const record of api.records("stays")) …
 *   expect(replay.leftOver()).toEqual([]);
 */

import { openReplay, type Replay } from "../http/har.js";
import { readRecording } from "../http/har-file.js";
import type { ConnectOptions } from "../node/connect.js";

export { openReplay, Recorder, type Recording, type Replay, type StartCursors } from "../http/har.js";
export { type FileRecording, recordInto } from "../http/har-file.js";

/** A replay, with what `connect` needs to use it. */
export interface FileReplay extends Replay {
  /** for `connect`: nothing is sent or signed, and waits pass at once */
  readonly connectOptions: Pick<ConnectOptions, "replay" | "clock" | "random">;
}

/**
 * Opens a HAR 1.2 file that `run --record`, `recordInto` or a browser wrote.
 * @throws BridgeError FILE_UNREADABLE
 */
export function replayFile(path: string): FileReplay {
  const replay = openReplay(readRecording(path));
  return { ...replay, connectOptions: { replay: replay.send, clock: replay.clock, random: () => 0 } };
}
