/** Values that are stored as hashes only: in columns, in quarantine, in recordings. */

import { sha256 } from "@noble/hashes/sha2.js";
import { bytesToHex } from "@noble/hashes/utils.js";
import { scalarText } from "./encode.js";
import { isPlainObject, stringifyExact } from "./exact-json.js";
import { parsePath } from "./naming.js";

/** A path to a field in a record, by steps; `[*]` stands for each item of a list. */
export type FieldSteps = readonly string[];

/** In front of a hash that stands in a recording for its value. */
const MARK = "eb-sha256:";
const MARKED = /^eb-sha256:[0-9a-f]{64}$/;

/** The paths of all columns that are stored as hashes. */
export function hashedPaths(
  columns: ReadonlyMap<string, { readonly hash?: boolean | undefined }>,
): FieldSteps[] {
  return [...columns].flatMap(([path, { hash }]) => (hash === true ? [parsePath(path) ?? []] : []));
}

/** SHA-256 of the text in UTF-8, as hexadecimal digits. */
export function hashText(text: string): string {
  return bytesToHex(sha256(new TextEncoder().encode(text)));
}

/** The hash of a value's text; that which a recording holds for the value is taken as it is. */
export function hashValue(value: unknown): string {
  const text = scalarText(value);
  return MARKED.test(text) ? text.slice(MARK.length) : hashText(text);
}

/** A record with the values at a path as their hashes. */
export function hashedAt(record: unknown, steps: FieldSteps): unknown {
  return replacedAt(record, steps, hashValue);
}

/** A record with the values at a path as marked hashes: shaped again, it gives the same columns. */
export function markedAt(record: unknown, steps: FieldSteps): unknown {
  return replacedAt(record, steps, marked);
}

/** A record without the values at a path. */
export function withoutAt(record: unknown, steps: FieldSteps): unknown {
  return replacedAt(record, steps, () => undefined);
}

const marked = (value: unknown) => MARK + hashValue(value);

/** A body in which the values at the paths stand as marked hashes, wherever in it the paths begin. */
export function concealed(body: unknown, paths: readonly FieldSteps[]): unknown {
  if (Array.isArray(body)) return body.map((item) => concealed(item, paths));
  if (!isPlainObject(body)) return body;
  const inner = Object.fromEntries(
    Object.entries(body).map(([key, value]) => [key, concealed(value, paths)]),
  );
  return paths.reduce<unknown>(markedAt, inner);
}

function replacedAt(
  value: unknown,
  [step, ...rest]: FieldSteps,
  replace: (value: unknown) => unknown,
): unknown {
  if (value === undefined || value === null) return value;
  if (step === undefined) return replace(value);
  if (Array.isArray(value))
    return value.map((item) => replacedAt(item, step === "[*]" ? rest : [step, ...rest], replace));
  if (!isPlainObject(value) || !Object.hasOwn(value, step)) return value;
  return { ...value, [step]: replacedAt(value[step], rest, replace) };
}

/**
 * 32 hexadecimal digits: the beginning of the SHA-256 over the record as JSON, then the record's number in the load, so
 * that records which are alike keep apart.
 */
export function rowId(record: unknown, number: number): string {
  return hashText(stringifyExact(record)).slice(0, 20) + number.toString(16).padStart(12, "0");
}
