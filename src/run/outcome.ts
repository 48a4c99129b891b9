/** What a failure makes of a stream's run. */

import { BridgeError } from "../core/errors.js";
import type { RunOutcome } from "../warehouse/warehouse.js";

/** What was given up though nobody had asked for it is no stop. */
export function unlessAsked(error: BridgeError, { aborted }: AbortSignal): BridgeError {
  if (error.kind !== "stopped" || aborted) return error;
  const { where, cause } = error;
  return new BridgeError("INTERNAL", "Work was given up, and nobody had asked for it.", { where, cause });
}

/** Whether what one part failed by is the same for all parts. */
export function concernsAllParts({ kind, code }: BridgeError): boolean {
  return (
    ["sign_in", "warehouse", "config", "stopped", "internal"].includes(kind) || code === "RETRIES_EXHAUSTED"
  );
}

export function outcomeOf({ kind }: BridgeError): RunOutcome {
  if (kind === "incomplete") return "incomplete";
  return kind === "limit" ? "paused" : "failed";
}
