/** Reads one value of a record by its plain path; undefined where a step is missing. */
export function getByPath(record: unknown, parts: readonly string[]): unknown {
  let value = record;
  for (let i = 0; i < parts.length; i++) {
    if (typeof value !== "object" || value === null || !Object.hasOwn(value, parts[i]!)) return undefined;
    value = (value as Record<string, unknown>)[parts[i]!];
  }
  return value;
}
