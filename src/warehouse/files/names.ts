/** The names of files, from a template. */

import type { FilesOptions } from "../../core/define/files-schema.js";
import type { LoadOptions } from "../warehouse.js";
import { endingOf } from "./form.js";

/** What is ours in a store, beside the tables. */
export const OWN_FOLDER = "_early_bridge";
/** Files wait here until the commit that has them stands. */
export const ASIDE = `${OWN_FOLDER}/aside/`;
export const KEPT = `${OWN_FOLDER}/kept/`;

/** The day of rows that have none. */
export const NO_DAY = "undated";

/** A run's number so that names sort as numbers do. */
export const runText = (run: number) => String(run).padStart(6, "0");

/** The name of a file of a table, without what tells it from others of the same name. */
export function fileName(
  options: FilesOptions,
  load: LoadOptions,
  table: string,
  {
    isWhole,
    number,
    day,
  }: { readonly isWhole: boolean; readonly number: number; readonly day: string | undefined },
): string {
  const at = new Date(load.loadedAtMs).toISOString();
  const days = options.day === undefined ? "" : "{day}/";
  const usual = isWhole
    ? `{schema}/{table}/${days}{table}`
    : `{schema}/{table}/${days}{table}-{run}-{number}`;
  const values: Readonly<Record<string, string>> = {
    schema: load.schema,
    stream: load.stream,
    table,
    run: runText(load.run),
    number: String(number),
    date: at.slice(0, 10),
    time: at.slice(11, 19).replaceAll(":", ""),
    day: day ?? NO_DAY,
  };
  const name = (options.name ?? usual).replace(/\{(\w+)\}/g, (_, key: string) => safe(values[key] ?? ""));
  return name + endingOf(options);
}

/** A name with a number that tells it from others. */
export function numbered(name: string, number: number): string {
  return number === 1 ? name : name.replace(/((?:\.(?:parquet|csv|jsonl))(?:\.gz)?)$/, `-${number}$1`);
}

/** No sign of a value changes where a file is. */
const safe = (value: string) => value.replace(/[/\\:*?"<>|\p{Cc}]/gu, "_").replace(/^\.+/, "_");
