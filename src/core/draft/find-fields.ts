/** Which fields of records are a key, and which tell of changes. */

import type { FieldStats } from "../sample/field-stats.js";
import type { Guess } from "./seen.js";

/** A pair is looked for among so many fields. */
const MOST_OF_PAIRS = 8;
const KEY_TYPES = new Set(["int64", "text", "uuid", "number_text", "date", "timestamp", "local_timestamp"]);
const TIME_TYPES = new Set(["timestamp", "local_timestamp", "date"]);
/** Texts that are longer than this are no keys. */
const LONGEST_KEY = 100;

/** A field, or two, whose values are all there and all different; undefined where none is. */
export function findKey(
  fields: readonly FieldStats[],
  records: readonly Readonly<Record<string, unknown>>[],
  resource: string,
): Guess<readonly string[]> | undefined {
  const whole = fields.filter((field) => isKeyLike(field, records.length));
  const unique = whole
    .filter(({ distinct }) => distinct === records.length)
    .sort((a, b) => keyScore(b, resource) - keyScore(a, resource));
  const [best] = unique;
  if (best !== undefined && (records.length > 1 || keyScore(best, resource) >= 50)) {
    const why = `different in all ${records.length} records`;
    return {
      value: [best.path],
      why: keyScore(best, resource) > 0 ? why : `${why}; by its name it may be no key`,
    };
  }
  const few = whole
    .toSorted((a, b) => keyScore(b, resource) - keyScore(a, resource))
    .filter(({ path }) => !path.includes("."))
    .slice(0, MOST_OF_PAIRS);
  for (const [i, a] of few.entries())
    for (const b of few.slice(i + 1)) {
      const pairs = new Set(
        records.map((each) => JSON.stringify([String(each[a.path]), String(each[b.path])])),
      );
      if (pairs.size === records.length && records.length > 1)
        return { value: [a.path, b.path], why: `together different in all ${records.length} records` };
    }
  return undefined;
}

function isKeyLike({ path, of, filled, types, longest }: FieldStats, records: number): boolean {
  if (path.includes("[") || of !== records || filled !== records || (longest ?? 0) > LONGEST_KEY)
    return false;
  return Object.keys(types).every((type) => KEY_TYPES.has(type));
}

function keyScore({ path, types }: FieldStats, resource: string): number {
  const name = path.split(".").at(-1)!.toLowerCase();
  const one = resource
    .toLowerCase()
    .replace(/(ies)$/, "y")
    .replace(/s$/, "");
  const depth = path.split(".").length - 1;
  const isTime = Object.keys(types).some((type) => TIME_TYPES.has(type));
  if (/^_?(id|uuid|guid)$/.test(name)) return 100 - depth * 20;
  if (name === `${one}_id` || name === `${one}id`) return 90 - depth * 20;
  if (/^(key|code|number|no|reference|slug|sku)$/.test(name)) return 60 - depth * 20;
  if (/(_id|_uuid|_key|_no|_number)$/.test(name)) return 50 - depth * 20;
  return isTime ? 10 - depth : /name|title|text|email/.test(name) ? -10 : 0;
}

/** Times that all records have, the likeliest to tell of a change first. */
export function findCursors(fields: readonly FieldStats[]): Guess<string>[] {
  return fields
    .filter(({ path, of, filled, types }) => {
      const isTime = Object.keys(types).every((type) => TIME_TYPES.has(type));
      return isTime && filled > 0 && filled === of && !path.includes("[");
    })
    .map((field) => ({ field, score: changeScore(field.path) }))
    .filter(({ score }) => score > 0)
    .sort((a, b) => b.score - a.score)
    .map(({ field }) => ({
      value: field.path,
      why: `a time in all records, from ${String(field.least)} to ${String(field.greatest)}`,
    }));
}

function changeScore(path: string): number {
  if (/chang|modif|updat|edit|touch/i.test(path)) return 3;
  if (/creat|added|insert|posted|booked|recorded/i.test(path)) return 2;
  return /(^|[._])(at|time|timestamp|date|on)$/i.test(path) ? 1 : 0;
}

/** Names of parameters that may filter by a time of that name, the likeliest first. */
export function filterNames(field: string): string[] {
  const name = field.split(".").at(-1)!;
  const stem = name.replace(/_?(at|on|date|time|timestamp)$/i, "");
  const isCamel = /[a-z][A-Z]/.test(name);
  const own = isCamel
    ? [`${stem}After`, `${stem}Since`, `${name}Min`, `${name}From`]
    : [`${stem}_after`, `${stem}_since`, `${name}_after`, `${name}_from`, `${name}_min`];
  return [...new Set([...own, "since", "modified_since", "updated_since", "from"])].filter(
    (each) => !/^[_A-Z]/.test(each),
  );
}
