/**
 * All of the work or nothing; `run` sends a statement to the connection that the work uses. `hasCommitted` looks
 * whether it stands after all, where the answer to the commit was lost.
 */
export async function transaction<T>(
  run: (statement: string) => Promise<unknown>,
  work: () => Promise<T>,
  hasCommitted?: () => Promise<boolean> | undefined,
): Promise<T> {
  await run("BEGIN");
  let result: T;
  try {
    result = await work();
  } catch (error) {
    await run("ROLLBACK").catch(() => {});
    throw error;
  }
  try {
    await run("COMMIT");
  } catch (error) {
    await run("ROLLBACK").catch(() => {});
    if ((await hasCommitted?.()) !== true) throw error;
  }
  return result;
}
