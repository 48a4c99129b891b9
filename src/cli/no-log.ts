/** What commands tell a log; its writer is loaded only where one is asked for. */

import type { RunEvent } from "../run/events.js";

export interface Log {
  /** A line; `level` says how much it matters. */
  note(level: "debug" | "info" | "warn" | "error", type: string, content?: object): void;
  onEvent(event: RunEvent): void;
}

/** Where nobody asked for a log. */
export const NO_LOG: Log = { note: () => {}, onEvent: () => {} };
