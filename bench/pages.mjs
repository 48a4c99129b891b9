// The bench's pages: the same bytes for every contender, on disk and over loopback.
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { SETS } from "./sets.mjs";

/** Writes a set's pages into a folder, unless they are there. */
export function writePages(set, records = SETS[set].records, pageRecords = 1000) {
  const folder = join(tmpdir(), `early-bridge-bench-${set}-${records}-${pageRecords}`);
  const pages = Math.ceil(records / pageRecords);
  if (!existsSync(folder) || readdirSync(folder).length !== pages) {
    rmSync(folder, { recursive: true, force: true });
    mkdirSync(folder, { recursive: true });
    for (let page = 0; page < pages; page++) {
      const count = Math.min(pageRecords, records - page * pageRecords);
      const items = Array.from({ length: count }, (_, n) => SETS[set].json(page * pageRecords + n));
      const token = page + 1 < pages ? `"${page + 1}"` : "null";
      writeFileSync(
        pageFile(folder, page),
        `{"items":[${items.join(",")}],"paging":{"next_token":${token}}}`,
      );
    }
  }
  const bytes = readdirSync(folder).reduce((sum, name) => sum + statSync(join(folder, name)).size, 0);
  return { folder, pages, bytes };
}

export function pageFile(folder, page) {
  return join(folder, `${String(page).padStart(5, "0")}.json`);
}

/** All pages in memory, as the server holds them. */
export function readPages(folder) {
  return readdirSync(folder)
    .sort()
    .map((name) => readFileSync(join(folder, name)));
}
