/** Paths of names alone, such as `$.paging.next` and `$.items[*]`: the part of JSONPath that most APIs need. */

export interface JsonPath {
  readonly text: string;
  /** the first value at the path; undefined where there is none */
  first(body: unknown): unknown;
  /** all values at the path; undefined where the path's container is not there at all */
  all(body: unknown): readonly unknown[] | undefined;
  /** the same, where a `[*]` at the end stands for a list: the values of an object are none */
  list(body: unknown): readonly unknown[] | undefined;
}

/** Compiles `$`, `$.a.b` and `$.a.b[*]`; undefined for every other path. */
export function compilePlainPath(text: string): JsonPath | undefined {
  const match = /^\$((?:\.[A-Za-z_][A-Za-z0-9_]*)*)(\[\*\])?$/.exec(text);
  if (match === null) return undefined;
  const keys = match[1] === "" ? [] : match[1]!.slice(1).split(".");
  return pathOf(text, keys, match[2] !== undefined);
}

function pathOf(text: string, keys: readonly string[], wildcard: boolean): JsonPath {
  const container = (body: unknown) => {
    let value = body;
    for (const key of keys) {
      if (typeof value !== "object" || value === null || !Object.hasOwn(value, key)) return undefined;
      value = (value as Record<string, unknown>)[key];
    }
    return value;
  };
  const all = (body: unknown): readonly unknown[] | undefined => {
    const value = container(body);
    if (!wildcard) return value === undefined ? undefined : [value];
    if (Array.isArray(value)) return value;
    return typeof value === "object" && value !== null ? Object.values(value) : undefined;
  };
  const list = (body: unknown) => (wildcard && !Array.isArray(container(body)) ? undefined : all(body));
  return { text, all, list, first: (body) => (wildcard ? all(body)?.[0] : container(body)) };
}
