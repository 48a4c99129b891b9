/** What a usual run of the tests leaves to the long one: more of the same, kills, commands one after the other. */

import { it } from "vitest";

export const isLong = process.env.EARLY_BRIDGE_LONG === "1";

/**
 * How often a random test tries: more often in the long run, less often where each try is slow, on a server, or others
 * have tried all of it.
 */
export function tries(usual: number, long: number): number {
  const most = isLong ? long : usual;
  return process.env.EARLY_BRIDGE_FEW_TRIES === "1" ? Math.max(2, Math.ceil(most / 10)) : most;
}

/** A test of the long run alone. */
export const inLong = it.runIf(isLong);

/** One of every so many cases, all of them in the long run. */
export function everyNth<T>(cases: readonly T[], nth: number): T[] {
  return cases.filter((_, i) => isLong || i % nth === 0);
}
