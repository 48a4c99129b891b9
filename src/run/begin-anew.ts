/** When a pass that goes on from a place or a token is to begin anew, and what is said of it. */

import { isBridgeError } from "../core/errors.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import type { PartProgress } from "../core/track/part-progress.js";

/** What to tell of a pass whose end had no token or link for what changes later. */
export const NO_TOKEN =
  "The last page has no token or link for later changes: the next run asks as this one did, and is not told what is deleted.";

/** What to tell of a pass that begins anew after an error; undefined where it is no reason to. */
export function whyAnew(
  error: unknown,
  { cursor, isRemoval }: CompiledStream,
  { start, changed }: PartProgress,
): readonly string[] | undefined {
  const isDelta = cursor?.kind === "delta" && start.since !== undefined;
  const isUnclear = isBridgeError(error, "CHANGES_UNCLEAR");
  const isForgotten = isBridgeError(error, "REQUEST_REFUSED") || isBridgeError(error, "NOT_FOUND");
  const goesOn = start.position !== undefined || isDelta;
  if (!isUnclear && (!isForgotten || !goesOn || changed)) return undefined;
  const why = isUnclear ? error.message : "The API no longer knows the place where the last run ended:";
  // what is gone since then is told by nobody
  const gone = isDelta && isRemoval !== undefined;
  return [
    `${why} ${isUnclear ? "The" : "the"} pass begins anew.`,
    ...(gone
      ? ["What has been deleted since the last run stays in the table: a full reading does not tell."]
      : []),
  ];
}
