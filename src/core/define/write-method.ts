/** How a stream is written: the one place that knows what each word of `write` means. */

import type { WriteMode } from "./project-schema.js";

/** What a way of writing means to a run and to a warehouse. */
export interface WriteMethod {
  readonly mode: WriteMode;
  /** Runs go on from where the last one got; what came before a failure stays. Else each run reads all. */
  readonly keepsCursor: boolean;
  /** Tables are built beside the ones that stand, and take their place when all is in. */
  readonly buildsBeside: boolean;
  /** Records are found again by their key. */
  readonly needsKey: boolean;
}

export const WRITE_METHODS: Readonly<Record<WriteMode, WriteMethod>> = Object.freeze({
  upsert: { mode: "upsert", keepsCursor: true, buildsBeside: false, needsKey: true },
  replace: { mode: "replace", keepsCursor: false, buildsBeside: true, needsKey: false },
});
