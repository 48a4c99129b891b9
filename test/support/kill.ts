/** Runs that are killed when a service has seen so many requests. */

import { randomAt } from "../../src/standins/random.js";
import { startCommand, type TestProject } from "./project.js";

/** How many kills a test tries: 500 by night, by EARLY_BRIDGE_KILLS. */
export const KILLS = process.env.EARLY_BRIDGE_KILLS;

/** Where a run is killed, by a seed and the number of the kill. */
export function killMoment(seed: number, moment: number, mostRequests: number, mostDelayMs: number) {
  return {
    afterRequests: 1 + Math.floor(randomAt(seed, moment * 2) * mostRequests),
    delayMs: Math.floor(randomAt(seed, moment * 2 + 1) * mostDelayMs),
  };
}

/** Starts a run and kills it a few ms after the service has seen so many requests. True when it was still alive. */
export async function killedRun(
  { folder }: Pick<TestProject, "folder">,
  requests: () => number,
  { afterRequests, delayMs }: ReturnType<typeof killMoment>,
): Promise<boolean> {
  const before = requests();
  const running = startCommand(["run", "--plain"], folder);
  const watch = setInterval(() => {
    if (requests() - before < afterRequests) return;
    clearInterval(watch);
    setTimeout(() => running.child.kill("SIGKILL"), delayMs);
  }, 1);
  const { code } = await running.ended;
  clearInterval(watch);
  return code === null;
}
