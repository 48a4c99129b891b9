/** Bodies that trickle: one that would never end is given up. */

import { BridgeError } from "../core/errors.js";

/** A body that comes more slowly than this over all, in bytes per second, is given up. */
const LEAST_RATE = 512;
const SLOW_AFTER_MS = 60_000;

/** Passes a body on while it comes. @throws BridgeError TIMED_OUT where it comes too slowly */
export async function* paceOfBody(
  source: AsyncIterable<Uint8Array>,
  slowAfterMs = SLOW_AFTER_MS,
): AsyncGenerator<Uint8Array> {
  const from = performance.now();
  let size = 0;
  for await (const chunk of source) {
    size += chunk.length;
    const ms = performance.now() - from;
    if (ms > slowAfterMs && (size / ms) * 1000 < LEAST_RATE)
      throw new BridgeError(
        "TIMED_OUT",
        `The response comes too slowly: ${size} bytes in ${Math.round(ms / 1000)} s.`,
      );
    yield chunk;
  }
}
