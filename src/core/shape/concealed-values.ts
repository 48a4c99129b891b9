/** Values that are kept from being seen, as hashes, masked or not at all: in columns, quarantine, recordings. */

import { scalarText } from "./encode.js";
import { isPlainObject } from "./exact-json.js";
import { type Hashes, JAVASCRIPT_HASHES } from "./hashes.js";
import { parsePath } from "./naming.js";
import { keyOfStep, LIST_STEP, MAP_STEP } from "./steps.js";

/** How a value is kept from being seen. */
export interface Conceal {
  /** what stands in tables, quarantine and messages; undefined: nothing */
  readonly stored: (value: unknown) => unknown;
  /** what stands in a recording: read again, it is stored as the value itself would be */
  readonly recorded: (value: unknown) => unknown;
}

/** A path to a field in a record, by steps: keys, and those to each item of a list or entry of a map. */
export type FieldSteps = readonly string[];

/** Values at a path that are not to be seen. */
export interface Concealed {
  readonly steps: FieldSteps;
  readonly conceal: Conceal;
}

/** In front of a hash that stands in a recording for its value. */
const MARK = "eb-sha256:";
const MARKED = /^eb-sha256:[0-9a-f]{64}$/;

/** In front of what is left of a masked text. */
const MASK = "***";

/** SHA-256 of the text in UTF-8, as hexadecimal digits. */
export function hashText(text: string): string {
  return JAVASCRIPT_HASHES.sha256(text);
}

/** The hash of a value's text: HMAC-SHA-256 (RFC 2104) under a secret, else SHA-256, which can be guessed at. */
export function hashing(secret?: string, hashes: Hashes = JAVASCRIPT_HASHES): Conceal {
  const hash = secret === undefined ? hashes.sha256 : hashes.hmac(secret);
  const stored = (value: unknown) => {
    const text = scalarText(value);
    return MARKED.test(text) ? text.slice(MARK.length) : hash(text);
  };
  return { stored, recorded: (value) => MARK + stored(value) };
}

/** The last signs of a value's text; a text that has no more than those is hidden whole. */
export function masking(last: number): Conceal {
  const masked = (value: unknown) => {
    const signs = [...scalarText(value)];
    // a recording holds it masked already
    const isMasked = signs.length === MASK.length + last && signs.join("").startsWith(MASK);
    const left = isMasked || signs.length > last ? signs.slice(signs.length - last) : [];
    return MASK + left.join("");
  };
  return { stored: masked, recorded: masked };
}

/** Nothing is left of the value. */
export const DROPPING: Conceal = Object.freeze({ stored: () => undefined, recorded: () => undefined });

/** The paths of all columns whose values are not to be seen. */
export function concealedPaths(
  columns: ReadonlyMap<string, { readonly conceal?: Conceal | undefined }>,
): Concealed[] {
  return [...columns].flatMap(([path, { conceal }]) =>
    conceal === undefined ? [] : [{ steps: parsePath(path) ?? [], conceal }],
  );
}

/** A record in which nothing is left that is not to be seen. */
export function concealedIn(record: unknown, paths: readonly Concealed[]): unknown {
  return paths.reduce((value, { steps, conceal }) => replacedAt(value, steps, conceal.stored), record);
}

/** A record as a recording may hold it: shaped again, it gives the same rows. */
export function recordable(record: unknown, paths: readonly Concealed[]): unknown {
  return paths.reduce((value, { steps, conceal }) => replacedAt(value, steps, conceal.recorded), record);
}

/** A record without the values at a path. */
export function withoutAt(record: unknown, steps: FieldSteps): unknown {
  return replacedAt(record, steps, () => undefined);
}

/** A body with its records as a recording may hold them, wherever in it the paths begin. */
export function recordableBody(body: unknown, paths: readonly Concealed[]): unknown {
  if (Array.isArray(body)) return body.map((item) => recordableBody(item, paths));
  if (!isPlainObject(body)) return body;
  const inner = Object.fromEntries(
    Object.entries(body).map(([key, value]) => [key, recordableBody(value, paths)]),
  );
  return recordable(inner, paths);
}

/** `own`: the steps to the list or map at hand, for items that hold one alike are of the same table. */
function replacedAt(
  value: unknown,
  steps: FieldSteps,
  replace: (value: unknown) => unknown,
  own: FieldSteps = [],
): unknown {
  if (value === undefined || value === null) return value;
  const [step, ...rest] = steps;
  if (step === undefined) return replace(value);
  const inEach = (item: unknown) => {
    const replaced = replacedAt(item, rest, replace);
    return own.length === 0 ? replaced : replacedAt(replaced, [...own, ...steps], replace);
  };
  if (Array.isArray(value))
    return value.map(step === LIST_STEP ? inEach : (item) => replacedAt(item, steps, replace, own));
  if (!isPlainObject(value)) return value;
  if (step === MAP_STEP) return mapped(value, inEach);
  const key = keyOfStep(step);
  if (!Object.hasOwn(value, key)) return value;
  const inner = replacedAt(value[key], rest, replace, [...own, step]);
  return mapped(value, (each, name) => (name === key ? inner : each));
}

/** An object with other values; `__proto__` is a key like others. */
function mapped(
  object: Readonly<Record<string, unknown>>,
  change: (value: unknown, key: string) => unknown,
): Record<string, unknown> {
  return Object.fromEntries(Object.entries(object).map(([key, value]) => [key, change(value, key)]));
}

/**
 * Names rows without a key, in 32 hexadecimal digits: the beginning of the SHA-256 over the load's name, then the
 * record's number in the load. So those that are alike keep apart.
 */
export function rowIds(load = ""): () => string {
  const begin = hashText(load).slice(0, 20);
  let number = 0;
  return () => begin + (number++).toString(16).padStart(12, "0");
}
