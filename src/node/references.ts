/** Values that stand somewhere else: in the environment, in .env or in a file. */

/** Whether a value of bridges.yaml is `$NAME` or `$file:path`. */
export function isReference(value: unknown): value is string {
  return typeof value === "string" && /^\$([A-Za-z_][A-Za-z0-9_]*|file:.+)$/.test(value);
}
