/** Checks values against the schemas, and says what is wrong with file, line and column. */

import { distance } from "fastest-levenshtein";
import { type Document, isMap, isPair, isScalar, LineCounter, type Node, parseDocument } from "yaml";
import type { z } from "zod";
import { aTypeName, BridgeError } from "../errors.js";

/** A YAML document with the places of its nodes. */
export interface YamlFile {
  readonly name: string;
  readonly value: unknown;
  /** `name:line:column` of the node at the path, or of the nearest one around it */
  place(path: readonly PropertyKey[], ofKey?: boolean): string;
}

/** Parses YAML 1.2 text. Throws CONFIG_SYNTAX at the place of the first mistake. */
export function parseYaml(text: string, name: string): YamlFile {
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false, uniqueKeys: true });
  const at = (offset: number) => {
    const { line, col } = lines.linePos(offset);
    return `${name}:${line}:${col}`;
  };
  const mistake = document.errors[0];
  if (mistake !== undefined) {
    throw new BridgeError("CONFIG_SYNTAX", mistake.message, {
      where: { file: at(mistake.pos[0]) },
      cause: mistake,
    });
  }
  return {
    name,
    value: plainValue(document, name),
    place: (path, ofKey) => at(offsetOf(document, path, ofKey === true)),
  };
}

/** Aliases that stand for aliases may make a short file a value without measure: the package counts them. */
function plainValue(document: Document, name: string): unknown {
  try {
    return document.toJS();
  } catch (cause) {
    throw new BridgeError("CONFIG_SYNTAX", `The YAML cannot be read: ${(cause as Error).message}.`, {
      where: { file: name },
      hint: "Write the values out, or use fewer aliases.",
      cause,
    });
  }
}

function offsetOf(document: Document, path: readonly PropertyKey[], ofKey: boolean): number {
  let node: Node | null = document.contents;
  let offset = node?.range?.[0] ?? 0;
  for (let i = 0; i < path.length; i++) {
    const step = path[i]!;
    if (isMap(node)) {
      const pair = node.items.find((item) => isPair(item) && isScalar(item.key) && item.key.value === step);
      if (pair === undefined) return offset;
      const last = i === path.length - 1;
      const found: Node | null = ofKey && last ? (pair.key as Node) : (pair.value as Node | null);
      offset = found?.range?.[0] ?? (pair.key as Node).range?.[0] ?? offset;
      node = pair.value as Node | null;
    } else {
      node = (document.getIn(path.slice(0, i + 1), true) as Node | undefined) ?? null;
      offset = node?.range?.[0] ?? offset;
    }
  }
  return offset;
}

/** Something that can be told to have a place: a YAML file, or the argument of a function. */
type Source = Pick<YamlFile, "name" | "place">;

/** Mistakes beyond the first that are told with it, at most. */
const MOST_OTHERS = 5;

/**
 * Checks a value.
 * @throws BridgeError CONFIG_UNKNOWN_KEY, CONFIG_INVALID for its first mistake, with the others behind it
 */
export function checkValue<S extends z.ZodType>(schema: S, value: unknown, source: Source): z.output<S> {
  const result = schema.safeParse(value);
  if (result.success) return result.data;
  const [first, ...others] = explaining(result.error.issues.map((each) => deepest([each])));
  const error = issueError(first!, schema, value, source);
  if (others.length === 0) throw error;
  const also = others.slice(0, MOST_OTHERS).map((issue) => {
    const { message, where } = issueError(issue, schema, value, source);
    return `\n  also   ${message} (${where.file ?? source.name})`;
  });
  const more = others.length > MOST_OTHERS ? `\n  also   ${others.length - MOST_OTHERS} more mistakes` : "";
  const { where, hint } = error;
  throw new BridgeError(error.code, `${error.message}${also.join("")}${more}`, { where, hint });
}

/** Unknown keys first: such a key mostly explains why another one is missing beside it. */
function explaining(issues: readonly Issue[]): Issue[] {
  const unknown = issues.flatMap((issue) =>
    issue.code === "unrecognized_keys" ? issue.keys.map((key) => ({ ...issue, keys: [key] })) : [],
  );
  const explained = new Set(unknown.map(({ path }) => formatIssuePath(path)));
  const isExplained = (issue: Issue) =>
    issue.code === "invalid_type" && explained.has(formatIssuePath(issue.path.slice(0, -1)));
  const others = issues.filter((issue) => issue.code !== "unrecognized_keys" && !isExplained(issue));
  return [...unknown, ...others];
}

function issueError(issue: Issue, schema: z.ZodType, value: unknown, source: Source): BridgeError {
  if (issue.code === "unrecognized_keys") return unknownKey(issue, schema, source);
  const path = formatIssuePath(issue.path);
  const message = `${path === "" ? "the file" : path} ${sayIssue(issue, value)}.`;
  return new BridgeError("CONFIG_INVALID", message, { where: { file: source.place(issue.path) } });
}

type Issue = z.core.$ZodIssue;

/**
 * Of a union's complaints, that of the branch that is meant: the one with most of the keys, then that which got
 * furthest.
 */
function deepest(issues: readonly Issue[]): Issue {
  const issue = issues[0]!;
  if (issue.code !== "invalid_union" || issue.errors.length === 0) return issue;
  const branches = issue.errors as Issue[][];
  const least = Math.min(...branches.map(strangeKeys));
  const meant = branches.filter((branch) => strangeKeys(branch) === least);
  const inner = oneWord(meant) ?? furthest(meant);
  return reach(inner) === 0 && inner.code === "invalid_type"
    ? issue
    : { ...inner, path: [...issue.path, ...inner.path] };
}

function furthest(branches: readonly (readonly Issue[])[]): Issue {
  return branches.map(deepest).reduce((best, next) => (reach(next) > reach(best) ? next : best));
}

/** Keys of the value that a branch does not know; for a union within, those of its nearest branch. */
function strangeKeys(branch: readonly Issue[]): number {
  return branch.reduce((sum, issue) => {
    if (issue.code === "unrecognized_keys" && issue.path.length === 0) return sum + issue.keys.length;
    if (issue.code === "invalid_union" && issue.path.length === 0 && issue.errors.length > 0)
      return sum + Math.min(...(issue.errors as Issue[][]).map(strangeKeys));
    return sum;
  }, 0);
}

/** Branches that are told apart by one key, and its value is that of none: all the values that it could have. */
function oneWord(branches: readonly (readonly Issue[])[]): Issue | undefined {
  const words = branches.flatMap((branch) =>
    branch.flatMap((issue) => (issue.code === "invalid_value" && issue.path.length === 1 ? [issue] : [])),
  );
  const [first] = words;
  if (first === undefined || words.length < 2 || words.some(({ path }) => path[0] !== first.path[0]))
    return undefined;
  return { ...first, values: words.flatMap(({ values }) => values) };
}

function reach(issue: Issue): number {
  return issue.path.length + (issue.code === "unrecognized_keys" ? 1 : 0);
}

function unknownKey(issue: z.core.$ZodIssueUnrecognizedKeys, schema: z.ZodType, source: Source): BridgeError {
  const key = issue.keys[0]!;
  const path = [...issue.path, key];
  const known = keysAt(schema, issue.path);
  const near = nearest(key, known);
  const parent = formatIssuePath(issue.path);
  const message = `${formatIssuePath(path)} is no key that is known here.`;
  const hint =
    near === undefined
      ? `Known keys${parent === "" ? "" : ` of ${parent}`}: ${known.join(", ")}.`
      : `Perhaps ${near} is meant. Known keys: ${known.join(", ")}.`;
  return new BridgeError("CONFIG_UNKNOWN_KEY", message, { where: { file: source.place(path, true) }, hint });
}

/** The nearest of some names, if one is near enough to be a slip. */
export function nearest(word: string, names: readonly string[]): string | undefined {
  const ranked = names.map((name) => ({ name, far: distance(word, name) })).sort((a, b) => a.far - b.far);
  const best = ranked[0];
  return best !== undefined && best.far <= Math.max(2, Math.floor(word.length / 2)) ? best.name : undefined;
}

/** The hint for a word that is none of the names: the nearest of them, then all under a label. */
export function namesHint(word: string, names: readonly string[], label: string): string {
  const near = nearest(word, names);
  return `${near === undefined ? "" : `Perhaps ${near} is meant. `}${label}: ${names.join(", ") || "none"}.`;
}

interface Inner {
  readonly type: string;
  readonly shape?: Record<string, z.ZodType>;
  readonly innerType?: z.ZodType;
  readonly valueType?: z.ZodType;
  readonly element?: z.ZodType;
  readonly options?: readonly z.ZodType[];
}

/** The keys that the schema knows at a path. */
function keysAt(schema: z.ZodType, path: readonly PropertyKey[]): string[] {
  let schemas: z.ZodType[] = [schema];
  for (const step of path) schemas = schemas.flatMap((each) => stepInto(each, step));
  return [...new Set(schemas.flatMap(inner).flatMap((one) => Object.keys(one.shape ?? {})))];
}

function stepInto(schema: z.ZodType, step: PropertyKey): z.ZodType[] {
  return inner(schema).flatMap((one) => {
    const next = one.shape?.[String(step)] ?? one.valueType ?? one.element;
    return next === undefined ? [] : [next];
  });
}

/** The definition below wrappers (optional, default, …); a union gives all its branches. */
function inner(schema: z.ZodType): Inner[] {
  const def = schema._zod.def as unknown as Inner;
  if (def.options !== undefined) return def.options.flatMap(inner);
  return def.innerType === undefined ? [def] : inner(def.innerType);
}

function sayIssue(issue: Issue, root: unknown): string {
  const seen = issue.path.reduce<unknown>(
    (value, step) =>
      typeof value === "object" && value !== null ? (value as Record<PropertyKey, unknown>)[step] : undefined,
    root,
  );
  const given = seen === undefined ? "nothing is given" : `${aTypeName(seen)} is given`;
  switch (issue.code) {
    case "invalid_type":
      return `must be ${article(issue.expected)}; ${given}`;
    case "invalid_value":
      return `must be ${issue.values.map((each) => JSON.stringify(each)).join(" or ")}; ${shown(seen)}`;
    case "invalid_union":
      return `has a value of no known form; ${shown(seen)}`;
    case "invalid_key":
      return `has a name that is not allowed: it ${issue.issues[0]?.message ?? "is not valid"}`;
    case "too_small":
      return `is too small: at least ${issue.minimum}; ${shown(seen)}`;
    case "too_big":
      return `is too large: at most ${issue.maximum}; ${shown(seen)}`;
    default:
      return `${issue.message}; ${shown(seen)}`;
  }
}

function shown(value: unknown): string {
  if (value === undefined) return "nothing is given";
  if (typeof value === "object" && value !== null) return `${aTypeName(value)} is given`;
  return `seen ${JSON.stringify(value)}`;
}

function article(expected: string): string {
  const words: Record<string, string> = {
    string: "text",
    object: "a map of keys",
    record: "a map of keys",
    array: "a list",
  };
  return words[expected] ?? (/^[aeiou]/.test(expected) ? `an ${expected}` : `a ${expected}`);
}

/** `streams.bookings.cursor.field`, `key[0]`. */
export function formatIssuePath(path: readonly PropertyKey[]): string {
  return path
    .map((step, i) => (typeof step === "number" ? `[${step}]` : i === 0 ? String(step) : `.${String(step)}`))
    .join("");
}
