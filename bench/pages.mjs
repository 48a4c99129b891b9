// The bench's data: pages of made-up bookings, the same bytes for every contender, on disk and over loopback.
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { baseChangeSeconds, booking, bookingJson } from "../dist/standins/bookings/data.js";

export const PAGE_RECORDS = 1000;

/** Writes the pages into a folder, unless they are there; returns how many there are. */
export function writePages(folder, records) {
  const pages = Math.ceil(records / PAGE_RECORDS);
  if (existsSync(folder) && readdirSync(folder).length === pages) return pages;
  rmSync(folder, { recursive: true, force: true });
  mkdirSync(folder, { recursive: true });
  for (let page = 0; page < pages; page++) {
    const items = [];
    for (let n = 0; n < PAGE_RECORDS; n++) {
      const index = page * PAGE_RECORDS + n;
      items.push(bookingJson(booking(index, 0, baseChangeSeconds(index), 1)));
    }
    const token = page + 1 < pages ? `"${page + 1}"` : "null";
    const text = `{"items":[${items.join(",")}],"paging":{"next_token":${token}}}`;
    writeFileSync(pageFile(folder, page), text);
  }
  return pages;
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
