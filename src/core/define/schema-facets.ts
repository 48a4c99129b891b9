/**
 * What JSON Schema can say of rules that are checked by functions: zod writes it into the schema files as it stands, so
 * that editors refuse what the program would refuse. For `.meta(…)`.
 */

type Facet = Readonly<Record<string, unknown>>;

/** All of several facets. */
export function all(...facets: readonly Facet[]): Facet {
  return { allOf: facets };
}

/** The keys are there; what is in them is told elsewhere. */
export function has(...keys: readonly string[]): Facet {
  return { properties: Object.fromEntries(keys.map((key) => [key, true])), required: keys };
}

/** Exactly one of the keys is there. */
export function exactlyOne(...keys: readonly string[]): Facet {
  return { oneOf: keys.map((key) => has(key)) };
}

/** The key is there only with the other. */
export function needs(key: string, other: string): Facet {
  return { dependentRequired: { [key]: [other] } };
}

/** No two of the keys are there together. */
export function noTwo(...keys: readonly string[]): Facet {
  const pairs = keys.flatMap((key, i) => keys.slice(i + 1).map((other) => has(key, other)));
  return { not: { anyOf: pairs } };
}

const TIME =
  "(?:[Tt](?=\\d)(?:\\d+(?:[.,]\\d{1,9})?[Hh])?(?:\\d+(?:[.,]\\d{1,9})?[Mm])?(?:\\d+(?:[.,]\\d{1,9})?[Ss])?)?";
const begin = "^\\+?[Pp](?=\\d|[Tt]\\d)";

/** ISO 8601 durations that are not negative. */
export const DURATION: Facet = {
  pattern: `${begin}(?:\\d+[Yy])?(?:\\d+[Mm])?(?:\\d+[Ww])?(?:\\d+[Dd])?${TIME}$`,
};

/** The same in days or less. */
export const FIXED_DURATION: Facet = {
  pattern: `${begin}(?:0+[Yy])?(?:0+[Mm])?(?:0+[Ww])?(?:\\d+[Dd])?${TIME}$`,
};
