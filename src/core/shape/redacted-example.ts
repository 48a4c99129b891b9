/** What a value looked like, without what it was. */

import { classifyColumn } from "./classify.js";
import { NOTHING_SEEN, sameType, typeOfSeen } from "./column-type.js";
import { scalarText } from "./encode.js";
import { isPlainObject } from "./exact-json.js";
import type { ColumnShape } from "./table-shape.js";

const MOST_SIGNS = 40;

/** Digits as 9, letters as x and X: `HB-0000012` is `XX-9999999`; of objects and lists, what they are. */
export function redactedExample(value: unknown): string {
  if (Array.isArray(value)) return `a list of ${value.length}`;
  if (isPlainObject(value)) return `an object of ${Object.keys(value).length} fields`;
  if (typeof value === "boolean") return "true or false";
  const text = scalarText(value);
  const signs = text
    .slice(0, MOST_SIGNS)
    .replaceAll(/\p{Nd}/gu, "9")
    .replaceAll(/\p{Lu}/gu, "X")
    .replaceAll(/[\p{L}\p{M}]/gu, (sign) => (sign === "X" ? sign : "x"));
  return text.length > MOST_SIGNS ? `${signs}…` : signs;
}

/** What the first value looked like that brought the column its type. */
export function exampleOf(values: readonly unknown[], { rule, type }: ColumnShape): string | undefined {
  if (rule.conceal !== undefined || type === undefined) return undefined;
  const first = values.find(
    (value) =>
      value !== undefined &&
      value !== null &&
      sameType(typeOfSeen(classifyColumn([value], NOTHING_SEEN)), type),
  );
  const any = first ?? values.find((value) => value !== undefined && value !== null);
  return any === undefined ? undefined : redactedExample(any);
}
