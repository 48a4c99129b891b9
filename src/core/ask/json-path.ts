/** RFC 9535 JSONPath, compiled once; plain paths such as `$.paging.next` skip the general evaluator. */

import { FunctionExpressionType, JSONPathEnvironment, type JSONPathQuery, type JSONValue } from "json-p3";
import { RE2JS } from "re2js";

export interface JsonPath {
  readonly text: string;
  /** the first value at the path; undefined where there is none */
  first(body: unknown): unknown;
  /** all values at the path; undefined where the path's container is not there at all */
  all(body: unknown): readonly unknown[] | undefined;
  /** the same, where a `[*]` at the end stands for a list: the values of an object are none */
  list(body: unknown): readonly unknown[] | undefined;
}

const environment = new JSONPathEnvironment();
for (const [name, whole] of [
  ["match", true],
  ["search", false],
] as const) {
  environment.functionRegister.set(name, {
    argTypes: [FunctionExpressionType.ValueType, FunctionExpressionType.ValueType],
    returnType: FunctionExpressionType.LogicalType,
    call: (text: unknown, pattern: unknown) => matches(text, pattern, whole),
  });
}

/** RFC 9535, sections 2.4.6 and 2.4.7, by an engine whose time grows with the text alone; RFC 9485 patterns. */
function matches(text: unknown, pattern: unknown, whole: boolean): boolean {
  if (typeof text !== "string" || typeof pattern !== "string") return false;
  try {
    const matcher = RE2JS.compile(withIRegexpDots(pattern)).matcher(text);
    return whole ? matcher.matches() : matcher.find();
  } catch {
    // what is no pattern matches nothing
    return false;
  }
}

/** In RFC 9485 a dot outside of a class is any character but line feed and carriage return. */
function withIRegexpDots(pattern: string): string {
  return pattern.replace(/\\.|\[(?:\\.|[^\]\\])*\]|\./gsu, (part) => (part === "." ? "[^\\n\\r]" : part));
}

/** Compiles a path. Throws a plain Error with the parser's words when the text is no JSONPath. */
export function compileJsonPath(text: string): JsonPath {
  const steps = plainSteps(text);
  if (steps !== undefined) return plainPath(text, steps.keys, steps.wildcard);
  const query: JSONPathQuery = environment.compile(text);
  // what comes before the first list must be there, as with plain paths
  const list = plainSteps(`${text.split("[*]")[0]}[*]`);
  const container = list && plainPath(text, list.keys, true);
  const all = (body: unknown) =>
    container !== undefined && container.all(body) === undefined
      ? undefined
      : query.query(body as JSONValue).values();
  return { text, all, list: all, first: (body) => all(body)?.[0] };
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
  const list = (body: unknown) => (wildcard && !Array.isArray(container(body)) ? undefined : all(body));
  return { text, all, list, first: (body) => (wildcard ? all(body)?.[0] : container(body)) };
}
