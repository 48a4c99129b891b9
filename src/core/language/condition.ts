/** Conditions in CEL (the Common Expression Language), checked and compiled once. */

import { Environment } from "@marcbachmann/cel-js";
import { RE2JS } from "re2js";
import { aTypeName } from "../errors.js";
import { ExactNumber, isPlainObject } from "../shape/exact-json.js";

export interface Condition {
  readonly text: string;
  /** fields of the record that it looks at; undefined: it may look at any */
  readonly fields: readonly string[] | undefined;
  /** @throws Error with CEL's own words when a field is missing or the kinds do not fit */
  holds(values: Readonly<Record<string, unknown>>): boolean;
  /** What decides: the part of the condition that does, and the values that it looks at. */
  decidedBy(values: Readonly<Record<string, unknown>>): Decided;
  /** A comparison of unlike kinds in it, which never holds; undefined where there is none. */
  unlike(values: Readonly<Record<string, unknown>>): string | undefined;
}

/** The part of a condition that decides over a record. `holds` is undefined where it cannot be judged. */
export interface Decided {
  readonly holds: boolean | undefined;
  readonly part: string;
  /** fields that the part names, with what they hold; undefined where nothing is there */
  readonly values: readonly { readonly field: string; readonly value: unknown }[];
}

/** What conditions may look at: those over a record, and those over a response. */
const NAMES = { record: ["record"], response: ["status", "headers", "body"] } as const;
export type ConditionKind = keyof typeof NAMES;

/** Loops within loops take as long as the product of their lists. */
const MOST_NESTED_LOOPS = 2;
const LOOPS: ReadonlySet<unknown> = new Set(["all", "exists", "exists_one", "map", "filter"]);
/** CEL's `matches`, by an engine whose time grows with the text alone (RE2). */
const MATCHES = "matches_linear";

/** A node of the parsed expression, as the package gives it. */
interface Node {
  readonly op: string;
  readonly args: unknown;
  readonly start: number;
  readonly end: number;
}

const environments = new Map<ConditionKind, Environment>();
const patterns = new Map<string, RE2JS>();

function environmentFor(kind: ConditionKind): Environment {
  const known = environments.get(kind);
  if (known !== undefined) return known;
  const made = new Environment({ unlistedVariablesAreDyn: false });
  for (const name of NAMES[kind]) made.registerVariable(name, "dyn");
  made.registerFunction(`string.${MATCHES}(string): bool`, (text: string, pattern: string) =>
    patternOf(pattern).matcher(text).find(),
  );
  environments.set(kind, made);
  return made;
}

function patternOf(text: string): RE2JS {
  const known = patterns.get(text);
  if (known !== undefined) return known;
  const made = RE2JS.compile(text);
  if (patterns.size < 1000) patterns.set(text, made);
  return made;
}

/** Parses and checks an expression; `type` is what it gives, as CEL names it. */
function compileText(text: string, kind: ConditionKind) {
  const environment = environmentFor(kind);
  const checked = environment.check(text);
  if (!checked.valid) throw checked.error ?? new Error("it is no expression");
  const tree = environment.parse(text).ast as unknown as Node;
  const loops = nestedLoops(tree);
  if (loops > MOST_NESTED_LOOPS)
    throw new Error(`it has ${loops} loops within each other, and ${MOST_NESTED_LOOPS} are the most`);
  const evaluate = environment.parse(withLinearMatches(text, tree)) as (values: unknown) => unknown;
  return { environment, tree, evaluate, type: String(checked.type) };
}

/**
 * Compiles an expression over a record that gives a value as JSON has it: times as RFC 3339, durations in seconds,
 * bytes as base64. Throws a plain Error with CEL's words; so does what it gives back.
 */
export function compileExpression(text: string): Expression {
  const { tree, evaluate } = compileText(text, "record");
  return { fields: recordFields(tree), value: (record) => jsonValue(evaluate({ record })) };
}

/** An expression over a record. */
export interface Expression {
  /** fields that it looks at; undefined: it may look at any */
  readonly fields: readonly string[] | undefined;
  value(record: Readonly<Record<string, unknown>>): unknown;
}

function jsonValue(value: unknown): unknown {
  if (value instanceof Date) return value.toISOString().replace(".000Z", "Z");
  if (value instanceof Uint8Array) return btoa(String.fromCharCode(...value));
  if (Array.isArray(value)) return value.map(jsonValue);
  if (value instanceof Map)
    return Object.fromEntries([...value].map(([key, inner]) => [String(key), jsonValue(inner)]));
  if (isPlainObject(value))
    return Object.fromEntries(Object.entries(value).map(([key, inner]) => [key, jsonValue(inner)]));
  if (typeof value !== "object" || value === null || value instanceof ExactNumber) return value;
  if ("seconds" in value) return Number((value as { readonly seconds: unknown }).seconds);
  if ("value" in value) return (value as { readonly value: unknown }).value;
  throw new Error(`it gives ${aTypeName(value)}`);
}

/** Compiles a condition. Throws a plain Error with CEL's words when the text is none, or asks for other names. */
export function compileCondition(text: string, kind: ConditionKind): Condition {
  const { environment, tree, evaluate, type } = compileText(text, kind);
  if (type !== "bool" && type !== "dyn") throw new Error(`it gives ${type}, not true or false`);
  const comparisons = comparisonsIn(tree, text);
  return {
    text,
    fields: recordFields(tree),
    holds(values) {
      const result: unknown = evaluate(values as Record<string, unknown>);
      if (typeof result === "boolean") return result;
      throw new Error(`it gives ${typeof result}, not true or false`);
    },
    decidedBy: (values) => decidedIn(tree, text, environment, values),
    unlike: (values) =>
      comparisons.map((each) => unlikeKinds(each, values)).find((each) => each !== undefined),
  };
}

/** Of `a && b` the part that does not hold, of `a || b` the one that does; the whole where both are needed. */
function decidedIn(
  node: Node,
  text: string,
  environment: Environment,
  values: Readonly<Record<string, unknown>>,
): Decided {
  const part = text.slice(node.start, node.end);
  const [left, right] = Array.isArray(node.args) ? node.args : [];
  const settles = node.op === "&&" ? false : node.op === "||" ? true : undefined;
  if (settles !== undefined && isNode(left) && isNode(right)) {
    const decided = [left, right].map((side) => decidedIn(side, text, environment, values));
    const found =
      decided.find(({ holds }) => holds === settles) ?? decided.find(({ holds }) => holds === undefined);
    if (found !== undefined) return found;
    return { holds: !settles, part, values: decided.flatMap((side) => side.values) };
  }
  const fields = new Map(fieldsIn(node).map((field) => [text.slice(field.start, field.end), field]));
  const seen = [...fields].map(([field, at]) => ({
    field: field.replace(/^record\./, ""),
    value: valueAt(at, values),
  }));
  return { holds: judged(node, text, environment, values), part, values: seen };
}

function judged(
  node: Node,
  text: string,
  environment: Environment,
  values: Readonly<Record<string, unknown>>,
): boolean | undefined {
  try {
    const part = text.slice(node.start, node.end);
    const tree = environment.parse(part).ast as unknown as Node;
    const result: unknown = environment.parse(withLinearMatches(part, tree))(
      values as Record<string, unknown>,
    );
    return typeof result === "boolean" ? result : undefined;
  } catch {
    return undefined;
  }
}

/** Fields of `record` that an expression names; undefined where it takes the record as a whole. */
function recordFields(tree: Node): readonly string[] | undefined {
  const fields = new Set<string>();
  const isRecord = (node: unknown) => isNode(node) && node.op === "id" && node.args === "record";
  const follow = (node: Node): boolean => {
    if (isRecord(node)) return false;
    const [on, step] = Array.isArray(node.args) ? node.args : [];
    if ((node.op !== "." && node.op !== "[]") || !isRecord(on)) return childrenOf(node).every(follow);
    const name: unknown = isNode(step) && step.op === "value" ? step.args : step;
    if (typeof name === "string") fields.add(name);
    return typeof name === "string";
  };
  return follow(tree) ? [...fields] : undefined;
}

/** Plain paths of names, the longest of each. */
function fieldsIn(node: Node): Node[] {
  const isPath = (each: Node): boolean =>
    each.op === "id" ||
    (each.op === "." && Array.isArray(each.args) && isNode(each.args[0]) && isPath(each.args[0]));
  return node.op === "." && isPath(node) ? [node] : childrenOf(node).flatMap(fieldsIn);
}

/** As `holds`, where a field that is missing means that the condition does not hold. */
export function holdsOrMissing(condition: Condition, values: Readonly<Record<string, unknown>>): boolean {
  try {
    return condition.holds(values);
  } catch {
    // in CEL, a field that is not there is an error; for a rule about answers it is a plain no
    return false;
  }
}

function childrenOf({ args }: Node): Node[] {
  return [args].flat(Number.POSITIVE_INFINITY).filter(isNode);
}

function isNode(value: unknown): value is Node {
  return typeof value === "object" && value !== null && "op" in value && "args" in value;
}

function nodesIn(node: Node): Node[] {
  return [node, ...childrenOf(node).flatMap(nodesIn)];
}

/** A call of a method: its name is the first argument, what it is called on the second. */
function methodOf({ op, args }: Node): unknown {
  return op === "rcall" && Array.isArray(args) ? args[0] : undefined;
}

function nestedLoops(node: Node): number {
  const within = Math.max(0, ...childrenOf(node).map(nestedLoops));
  return within + (LOOPS.has(methodOf(node)) ? 1 : 0);
}

/** The text with `matches` called by the name of our own; patterns that are written out are compiled here. */
function withLinearMatches(text: string, tree: Node): string {
  const calls = nodesIn(tree).filter((node) => methodOf(node) === "matches");
  let linear = text;
  // from behind, so that what is before keeps its place
  for (const call of calls.sort((a, b) => b.end - a.end)) {
    const [, on, parameters] = call.args as [string, Node, Node[]];
    const [pattern] = parameters;
    if (pattern?.op === "value") patternOf(String(pattern.args));
    const at = text.indexOf("matches", on.end);
    linear = `${linear.slice(0, at)}${MATCHES}${linear.slice(at + "matches".length)}`;
  }
  return linear;
}

const COMPARISONS: ReadonlySet<string> = new Set(["==", "!=", "<", "<=", ">", ">="]);

/** A field compared with a value that is written out. */
interface Comparison {
  readonly field: Node;
  readonly name: string;
  readonly value: unknown;
}

function comparisonsIn(tree: Node, text: string): Comparison[] {
  return nodesIn(tree).flatMap(({ op, args }) => {
    if (!COMPARISONS.has(op) || !Array.isArray(args)) return [];
    const [left, right] = args as [Node, Node];
    const [field, literal] = right.op === "value" ? [left, right] : [right, left];
    if (literal.op !== "value" || literal.args === null || field.op === "value") return [];
    return { field, name: text.slice(field.start, field.end), value: literal.args };
  });
}

function unlikeKinds(
  { field, name, value }: Comparison,
  values: Readonly<Record<string, unknown>>,
): string | undefined {
  const seen = valueAt(field, values);
  if (seen === undefined || seen === null) return undefined;
  const [is, compared] = [kindOf(seen), kindOf(value)];
  return is === compared ? undefined : `${name} is ${is}, and is compared with ${compared}`;
}

function kindOf(value: unknown): string {
  if (typeof value === "bigint" || typeof value === "number" || value instanceof ExactNumber)
    return "a number";
  return typeof value === "boolean" ? "true or false" : aTypeName(value);
}

/** The value of a plain path of names; undefined where it is none, or not there. */
function valueAt({ op, args }: Node, values: unknown): unknown {
  if (op === "id") return own(values, args);
  if ((op !== "." && op !== "[]") || !Array.isArray(args)) return undefined;
  const [on, step] = args as [Node, unknown];
  const name = isNode(step) ? (step.op === "value" ? step.args : undefined) : step;
  return own(valueAt(on, values), name);
}

function own(object: unknown, name: unknown): unknown {
  return isPlainObject(object) && typeof name === "string" && Object.hasOwn(object, name)
    ? object[name]
    : undefined;
}
