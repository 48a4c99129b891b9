/** ISO 8601 durations as users write them. */

import { Temporal } from "temporal-polyfill";

/** Whether the text is a duration such as `PT5M` or `-P90D`. */
export function isDuration(text: string): boolean {
  try {
    Temporal.Duration.from(text);
    return true;
  } catch {
    return false;
  }
}

/** 1, 0 for no time at all, or -1; NaN for what is no duration. */
export function durationSign(text: string): number {
  return isDuration(text) ? Temporal.Duration.from(text).sign : Number.NaN;
}

/** Whether its length depends on no calendar: days or less. */
export function isFixedDuration(text: string): boolean {
  const { years, months, weeks } = Temporal.Duration.from(text);
  return years === 0 && months === 0 && weeks === 0;
}

/** Milliseconds of a duration; days have 24 hours, months and years are refused by the schema. */
export function durationMs(text: string): number {
  return Temporal.Duration.from(text).total({ unit: "milliseconds" });
}
