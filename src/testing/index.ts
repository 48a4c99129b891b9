/**
 * Tests for your own connectors: record what an API answers once, replay it as often as you like, with no network
 * and no waiting.
 *
 *   const replay = replayFile("fixtures/stays.har");
 *   const api = connect(stays, settings, replay.connectOptions);
 *   for await (const record of api.records("stays")) …
 *   expect(replay.leftOver()).toEqual([]);
 */

import { readFileSync } from "node:fs";
import type { Har } from "har-format";
import { openReplay, type Replay } from "../http/har.js";
import type { ConnectOptions } from "../run/connect.js";

export { openReplay, Recorder, type Recording, type Replay, type StartCursors } from "../http/har.js";

export interface FileReplay extends Replay {
  /** for `connect`: nothing is sent or signed, and waits pass at once */
  readonly connectOptions: Pick<ConnectOptions, "replay" | "clock" | "random">;
}

/** Opens a HAR 1.2 file that `run --record`, a `Recorder` or a browser wrote. */
export function replayFile(path: string): FileReplay {
  const replay = openReplay(JSON.parse(readFileSync(path, "utf8")) as Har);
  return { ...replay, connectOptions: { replay: replay.send, clock: replay.clock, random: () => 0 } };
}
