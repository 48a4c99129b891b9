/** Records as tables tell them apart: what unshape promises to bring back, and no more. */

import { ExactNumber, isPlainObject } from "../../src/core/shape/exact-json.js";

const INSTANT = /^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d{1,3})?(Z|[+-]\d\d:\d\d)$/;

/** Without nulls, empty objects and empty lists; keys in order, numbers by value, instants in one form. */
export function settled(value: unknown): unknown {
  return tidy(value) ?? {};
}

function tidy(value: unknown): unknown {
  if (value === null || value === undefined) return undefined;
  if (value instanceof ExactNumber || typeof value === "bigint") return numberText(String(value));
  if (typeof value === "number") return Number.isInteger(value) ? value + 0 : value;
  if (typeof value === "string" && INSTANT.test(value)) return new Date(value).toISOString();
  if (Array.isArray(value)) {
    const items = value.map((item) => tidy(item) ?? null);
    return items.length === 0 ? undefined : items;
  }
  if (!isPlainObject(value)) return value;
  const kept = Object.keys(value)
    .sort()
    .map((key) => [key, tidy(value[key])] as const)
    .filter(([, inner]) => inner !== undefined);
  // a mark before each key: integers and __proto__ are keys like others
  return kept.length === 0 ? undefined : Object.fromEntries(kept.map(([key, inner]) => [`.${key}`, inner]));
}

/** A number of any length, as digits and a power of ten. */
function numberText(text: string): number | string {
  const number = Number(text);
  if (String(number) === text) return number;
  const [mantissa, exponent = "0"] = text.toLowerCase().split("e");
  const [whole, fraction = ""] = mantissa!.split(".");
  const digits = (whole! + fraction).replace(/^(-?)0+(?=\d)/, "$1");
  const zeros = /0*$/.exec(digits)![0].length;
  return `${digits.slice(0, digits.length - zeros)}e${Number(exponent) - fraction.length + zeros}`;
}
