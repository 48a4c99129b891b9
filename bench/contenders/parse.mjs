// JSON.parse alone over the same bytes, read from the disk's cache.
import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { SETS } from "../sets.mjs";
import { folder, measured, set } from "./report.mjs";

const { list } = SETS[set];

await measured(async () => {
  const rows = { [set]: 0, ...(list === undefined ? {} : { [`${set}_${list}`]: 0 }) };
  for (const name of readdirSync(folder)) {
    const { items } = JSON.parse(readFileSync(join(folder, name), "utf8"));
    rows[set] += items.length;
    if (list !== undefined) for (const item of items) rows[`${set}_${list}`] += item[list].length;
  }
  return rows;
});
