import { setTimeout as delay } from "node:timers/promises";
import type { Clock } from "../core/clock.js";

/** The machine's own time. */
export const nodeClock: Clock = {
  now: () => Date.now(),
  sleep: (ms, signal) => delay(ms, undefined, signal === undefined ? {} : { signal }),
};
