/** Where the pages of a stream begin: once for each part, and once for each window of time in it. */

import type { Part } from "../core/ask/parts.js";
import { openWindows, type Window } from "../core/track/windows.js";
import type { StreamAsk } from "./ask/stream-ask.js";

/** One begin of pages. */
export interface Stretch {
  readonly place: "first" | "middle" | "last";
  readonly part: Part;
  /** undefined where the stream has no windows */
  readonly window: Window | undefined;
}

/**
 * The first, the middle and the last stretches. `windows: "all"` takes those of the windows in each of the parts; else
 * parts are looked at in their last window only. `count` is how many there are in all.
 */
export async function someStretches(
  ask: StreamAsk,
  windows: "all" | "last",
): Promise<{ readonly some: readonly Stretch[]; readonly count: number }> {
  const { windows: rule } = ask.stream.definition;
  const parts = await ask.parts();
  const open = rule === undefined ? undefined : openWindows(rule, [], ask.nowMs);
  const count = parts.length * (open?.length ?? 1);
  const someParts = spread(parts);
  if (open === undefined)
    return { some: someParts.map(({ place, item }) => ({ place, part: item, window: undefined })), count };
  if (windows === "last" && parts.length > 1)
    return { some: someParts.map(({ place, item }) => ({ place, part: item, window: open.at(-1) })), count };
  const some = someParts.flatMap(({ item: part }) =>
    spread(open).map(({ place, item }) => ({ place, part, window: item })),
  );
  return { some, count };
}

/** The first, the middle and the last of a list. */
function spread<T>(items: readonly T[]): { readonly place: Stretch["place"]; readonly item: T }[] {
  const [first] = items;
  if (first === undefined) return [];
  if (items.length === 1) return [{ place: "first", item: first }];
  const middle =
    items.length === 2 ? [] : [{ place: "middle" as const, item: items[Math.floor(items.length / 2)]! }];
  return [{ place: "first", item: first }, ...middle, { place: "last", item: items.at(-1)! }];
}
