/** A folder of views: a query in each file. */

import { readdir, readFile } from "node:fs/promises";
import { join } from "node:path";

const ENDING = ".sql";

/** The queries of a folder, by the name of their file. */
export async function readViews(folder: string): Promise<Record<string, string>> {
  const files = (await readdir(folder)).filter((entry) => entry.endsWith(ENDING)).sort();
  const queries = files.map(
    async (file) => [file.slice(0, -ENDING.length), await readFile(join(folder, file), "utf8")] as const,
  );
  return Object.fromEntries(await Promise.all(queries));
}
