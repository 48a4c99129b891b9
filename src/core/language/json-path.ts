/** JSONPath (RFC 9535), compiled once; plain paths skip the general evaluator. */

import { FunctionExpressionType, JSONPathEnvironment, type JSONPathQuery, type JSONValue } from "json-p3";
import { RE2JS } from "re2js";
import { compilePlainPath, type JsonPath } from "./plain-path.js";

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
  const plain = compilePlainPath(text);
  if (plain !== undefined) return plain;
  const query: JSONPathQuery = environment.compile(text);
  // what comes before the first list must be there, as with plain paths
  const container = compilePlainPath(`${text.split("[*]")[0]}[*]`);
  const all = (body: unknown) =>
    container !== undefined && container.all(body) === undefined
      ? undefined
      : query.query(body as JSONValue).values();
  return { text, all, list: all, first: (body) => all(body)?.[0] };
}
