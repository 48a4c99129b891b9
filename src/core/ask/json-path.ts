/** RFC 9535 JSONPath, compiled once; plain paths such as `$.paging.next` skip the general evaluator. */

import { type JsonValue, query } from "jsonpath-rfc9535";

export interface JsonPath {
  readonly text: string;
  /** the first value at the path; undefined where there is none */
  first(body: unknown): unknown;
  /** all values at the path; undefined where the path's container is not there at all */
  all(body: unknown): readonly unknown[] | undefined;
}

/** Compiles a path. Throws a plain Error with the parser's words when the text is no JSONPath. */
export function compileJsonPath(text: string): JsonPath {
  const steps = plainSteps(text);
  if (steps !== undefined) return plainPath(text, steps.keys, steps.wildcard);
  query({}, text);
  // what comes before the first list must be there, as with plain paths
  const list = plainSteps(`${text.split("[*]")[0]}[*]`);
  const container = list && plainPath(text, list.keys, true);
  const all = (body: unknown) =>
    container !== undefined && container.all(body) === undefined ? undefined : query(body as JsonValue, text);
  return { text, all, first: (body) => all(body)?.[0] };
}

function plainSteps(text: string): { keys: string[]; wildcard: boolean } | undefined {
  const match = /^\$((?:\.[A-Za-z_][A-Za-z0-9_]*)*)(\[\*\])?$/.exec(text);
  if (match === null) return undefined;
  return { keys: match[1] === "" ? [] : match[1]!.slice(1).split("."), wildcard: match[2] !== undefined };
}

function plainPath(text: string, keys: readonly string[], wildcard: boolean): JsonPath {
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
  return { text, all, first: (body) => (wildcard ? all(body)?.[0] : container(body)) };
}
