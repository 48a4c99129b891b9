/** Where the records of a response are: the list of objects that looks most like one of records. */

import { isPlainObject } from "../shape/exact-json.js";
import type { Guess } from "./seen.js";

/** Records of a body, and how a connector says where they are. */
export interface FoundRecords {
  /** JSONPath */
  readonly path: string;
  readonly records: readonly Readonly<Record<string, unknown>>[];
  /** rows of values, whose names stand in the first row */
  readonly headerRow: boolean;
  /** path of the list without [*], in steps */
  readonly steps: readonly string[];
}

/** As deep as lists are looked for. */
const MOST_DEPTH = 4;
const USUAL =
  /^(items|data|results?|records|value|values|entries|rows|list|content|elements|hits|objects|docs)$/i;

/** Undefined where no list is in the body. `resource`: what the address calls them, such as bookings. */
export function findRecords(body: unknown, resource: string): Guess<FoundRecords> | undefined {
  const lists = listsIn(body, [], 0);
  const scored = lists
    .map((list) => ({ list, score: scoreOf(list, resource) }))
    .sort((a, b) => b.score - a.score);
  const best = scored[0]?.list;
  if (best === undefined) return undefined;
  const { steps, items } = best;
  const headerRow = isHeaderRow(items);
  const records = headerRow ? rowsNamed(items) : items.filter(isPlainObject);
  const path = `${jsonPathOf(steps)}[*]`;
  const others = lists.length - 1;
  const kind = headerRow ? "rows of values whose first row has the names" : "objects";
  const why =
    steps.length === 0
      ? `the response is a list of ${items.length} ${kind}`
      : `${items.length} ${kind}${others === 0 ? ", the only list" : `; ${others} other ${others === 1 ? "list" : "lists"} looked less like it`}`;
  return { value: { path, records, headerRow, steps }, why };
}

interface List {
  readonly steps: readonly string[];
  readonly items: readonly unknown[];
}

/** Lists that are not within the items of another list. */
function listsIn(value: unknown, steps: readonly string[], depth: number): List[] {
  if (Array.isArray(value)) return [{ steps, items: value }];
  if (!isPlainObject(value) || depth >= MOST_DEPTH) return [];
  return Object.entries(value).flatMap(([key, inner]) => listsIn(inner, [...steps, key], depth + 1));
}

function scoreOf({ steps, items }: List, resource: string): number {
  const name = steps.at(-1) ?? "";
  const objects = items.filter(isPlainObject).length;
  if (items.length > 0 && objects < items.length) return isHeaderRow(items) ? 30 : -10;
  const ofName = same(name, resource) ? 40 : USUAL.test(name) ? 20 : 0;
  const ofFields = items.length === 0 ? 0 : Math.min(20, Object.keys(items[0] as object).length * 2);
  return Math.min(items.length, 30) + ofName + ofFields - steps.length;
}

const same = (a: string, b: string) =>
  a !== "" &&
  a.toLowerCase().replace(/[^a-z0-9]|e?s$/g, "") === b.toLowerCase().replace(/[^a-z0-9]|e?s$/g, "");

function isHeaderRow(items: readonly unknown[]): boolean {
  const [first, ...rows] = items;
  if (!Array.isArray(first) || rows.length === 0 || first.length === 0) return false;
  const isNames = first.every((name) => typeof name === "string" && name !== "");
  return isNames && new Set(first).size === first.length && rows.every((row) => Array.isArray(row));
}

function rowsNamed(items: readonly unknown[]): Record<string, unknown>[] {
  const [names, ...rows] = items as [readonly string[], ...(readonly unknown[])[]];
  return rows.map((row) => Object.fromEntries(names.map((name, i) => [name, row[i]])));
}

/** What an address calls its records: the last step of its path that is no number. */
export function resourceOf(url: string): string {
  const steps = new URL(url).pathname.split("/").filter((step) => step !== "");
  return decodeURIComponent(steps.findLast((step) => !/^[\d.]+$|^v\d/.test(step)) ?? "records").replace(
    /\.json$/,
    "",
  );
}

/** JSONPath of a place in a body (RFC 9535, section 2.5.1); names with other signs are quoted. */
export function jsonPathOf(steps: readonly string[]): string {
  const step = (name: string) => (/^[A-Za-z_]\w*$/.test(name) ? `.${name}` : `[${JSON.stringify(name)}]`);
  return `$${steps.map(step).join("")}`;
}
