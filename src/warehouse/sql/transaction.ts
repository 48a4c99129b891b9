/** All of the work or nothing; `run` sends a statement to the connection that the work uses. */
export async function transaction<T>(
  run: (statement: string) => Promise<unknown>,
  work: () => Promise<T>,
): Promise<T> {
  await run("BEGIN");
  try {
    const result = await work();
    await run("COMMIT");
    return result;
  } catch (error) {
    await run("ROLLBACK").catch(() => {});
    throw error;
  }
}
