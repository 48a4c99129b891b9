/** What a call rejects with. */

import { expect } from "vitest";
import type { BridgeError } from "../../src/core/errors.js";

export async function failure(work: Promise<unknown>): Promise<BridgeError> {
  return work.then(
    (value) => expect.unreachable(`it gave ${JSON.stringify(value)}`),
    (error: BridgeError) => error,
  );
}
