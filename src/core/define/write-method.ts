/** How a stream is written: the one place that knows what each word of `write` means. */

import type { DeleteMode, WriteMode } from "./project-schema.js";

/** What a way of writing means to a run and to a warehouse. */
export interface WriteMethod {
  readonly mode: WriteMode;
  /** Runs go on from where the last one got; what came before a failure stays. Else each run reads all. */
  readonly keepsCursor: boolean;
  /** Tables are built beside the ones that stand, and take their place when all is in. */
  readonly buildsBeside: boolean;
  /** Records are found again by their key. */
  readonly needsKey: boolean;
  /** What a record that comes again does to what stands of it: takes its place, or stands beside it. */
  readonly standing: "replaced" | "kept" | "versioned";
  /** What happens to records that are gone, unless the bridge says; undefined: what tells so is a row as others. */
  readonly deletes: DeleteMode | undefined;
  /** Whether rows go into a table that stands already and is not ours: they must, they may, or never do. */
  readonly into: "must" | "may" | "never";
}

const inPlace = { keepsCursor: true, buildsBeside: false } as const;
const byKey = { needsKey: true, standing: "replaced", deletes: "remove" } as const;

export const WRITE_METHODS: Readonly<Record<WriteMode, WriteMethod>> = Object.freeze({
  upsert: { mode: "upsert", ...inPlace, ...byKey, into: "may" },
  replace: {
    mode: "replace",
    keepsCursor: false,
    buildsBeside: true,
    needsKey: false,
    standing: "replaced",
    deletes: "remove",
    into: "never",
  },
  append: {
    mode: "append",
    ...inPlace,
    needsKey: false,
    standing: "kept",
    deletes: undefined,
    into: "never",
  },
  versions: {
    mode: "versions",
    ...inPlace,
    needsKey: true,
    standing: "versioned",
    deletes: "mark",
    into: "never",
  },
  insert: { mode: "insert", ...inPlace, ...byKey, needsKey: false, into: "must" },
  update: { mode: "update", ...inPlace, ...byKey, into: "must" },
  delete: { mode: "delete", ...inPlace, ...byKey, into: "must" },
});
