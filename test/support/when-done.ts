/** What a test leaves, and is to be cleaned up. */

const cleanUps: (() => unknown)[] = [];

/** Runs `cleanUp` when the test has ended. */
export function whenDone(cleanUp: () => unknown): void {
  cleanUps.push(cleanUp);
}

/** What came last goes first. */
export async function cleanUpAll(): Promise<void> {
  for (const cleanUp of cleanUps.splice(0).reverse()) await cleanUp();
}
