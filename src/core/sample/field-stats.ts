/** What records hold, field by field: how full, of which types, how varied. */

import { classifyText } from "../shape/classify.js";
import { SEEN } from "../shape/column-type.js";
import { ExactNumber, isPlainObject } from "../shape/exact-json.js";
import { formatPath, pathsTo } from "../shape/naming.js";
import { isDataKey, isRecursive, LIST_STEP, MAP_STEP, stepOfKey } from "../shape/steps.js";
import { type ColumnRule, type MapKeys, ROOM } from "../shape/table-shape.js";

/** A value of a field that is no object and no list. */
export type FieldValue = string | number | bigint | boolean | ExactNumber;

/** One field of records, or of the objects in a list of theirs. */
export interface FieldStats {
  /** as `columns` writes it: `lead_guest.email`, `guests[*].name` */
  readonly path: string;
  /** the objects that could hold it: the records, the items of its list, or the entries of its map */
  readonly of: number;
  /** those in which it holds something other than null */
  readonly filled: number;
  /** how often each type came: int64, float64, text, number_text (digits in quotes), date, …, object, list */
  readonly types: Readonly<Record<string, number>>;
  readonly distinct: number;
  /** there are more values than are told apart: `distinct` is the least that there can be */
  readonly isCapped: boolean;
  /** of numbers, and of digits in quotes, by their size, else of texts by code units; undefined where there is none */
  readonly least: FieldValue | undefined;
  readonly greatest: FieldValue | undefined;
  /** the most frequent values that came more than once, at most three */
  readonly frequent: readonly { readonly value: FieldValue; readonly times: number }[];
  /** UTF-16 code units of the longest text; undefined where there is none */
  readonly longest: number | undefined;
  readonly example: FieldValue | undefined;
}

/** So many values of a field are told apart, at most. */
const MOST_VALUES = 10_000;
const MOST_FREQUENT = 3;
/** As deep as objects are followed. */
const MOST_DEPTH = 40;

const TEXT_TYPES = new Map<number, string>([
  [SEEN.date, "date"],
  [SEEN.instant, "timestamp"],
  [SEEN.localTime, "local_timestamp"],
  [SEEN.uuid, "uuid"],
]);

/** Looks at records, one after the other. What the rules skip is not there; what they hash stands as its hash. */
export class FieldStatistics {
  private readonly root = new Node([], "none");
  private readonly declared: ReadonlySet<string>;

  constructor(private readonly columns: ReadonlyMap<string, ColumnRule> = new Map()) {
    this.declared = new Set([...columns.keys()].flatMap(pathsTo));
  }

  add(record: unknown): void {
    if (isPlainObject(record)) this.object(this.root, record, 0);
  }

  /** In the order in which fields came first, those of an object together. */
  result(): FieldStats[] {
    const seen = new Set<Node>();
    const inOrder = (node: Node): FieldStats[] => {
      // items within items alike are of one node
      if (seen.has(node)) return [];
      seen.add(node);
      return [...node.children].flatMap(([step, { field, inner }]) => [
        ...(field === undefined ? [] : [field.stats(step === MAP_STEP ? undefined : node.objects)]),
        ...(inner === undefined ? [] : inOrder(inner)),
      ]);
    };
    return inOrder(this.root);
  }

  private object(node: Node, object: Readonly<Record<string, unknown>>, depth: number): void {
    node.objects++;
    for (const key of Object.keys(object)) {
      const value = object[key];
      const step = node.isEntry(key) ? MAP_STEP : stepOfKey(key);
      const child = node.children.get(step) ?? this.newChild(node, step);
      const field = child?.field;
      if (child === undefined || field === undefined || value === null || value === undefined) continue;
      if (child.rule?.conceal !== undefined) field.scalar(child.rule.conceal.stored(value) as FieldValue);
      else if (typeof value !== "object" || value instanceof ExactNumber) field.scalar(value as FieldValue);
      else this.within(node, child, value, depth + 1);
    }
  }

  private within(node: Node, child: Child, value: object, depth: number): void {
    const isList = Array.isArray(value);
    child.field!.structure(isList ? "list" : "object");
    if (depth > MOST_DEPTH) return;
    const items = isList ? value.filter(isPlainObject) : [value as Record<string, unknown>];
    if (items.length === 0) return;
    const isOwn = isList && node.table.path.at(-1) === LIST_STEP && isRecursive(child.path);
    child.inner ??= isOwn ? node.table : this.newNode(node, child, isList);
    for (const item of items) this.object(child.inner, item, depth);
  }

  /** Undefined where an object has so many keys that they are data. */
  private newChild(node: Node, step: string): Child | undefined {
    if (node.children.size >= ROOM.columns) return undefined;
    const path = [...node.path, step];
    const text = formatPath(path);
    const rule = this.columns.get(text);
    const child: Child = { path, rule, field: rule?.skip === true ? undefined : new Field(text) };
    node.children.set(step, child);
    return child;
  }

  private newNode(node: Node, { path, rule }: Child, isList: boolean): Node {
    if (isList) return new Node([...path, LIST_STEP], "some");
    const isSaid = rule?.as === "map" || this.declared.has(formatPath([...path, MAP_STEP]));
    const mapKeys = isSaid ? "all" : rule?.as === "columns" ? "none" : "some";
    return new Node(path, mapKeys, path.at(-1) === MAP_STEP ? undefined : node.table);
  }
}

/** The statistics of some records. */
export function fieldStatsOf(
  records: readonly unknown[],
  columns?: ReadonlyMap<string, ColumnRule>,
): FieldStats[] {
  const statistics = new FieldStatistics(columns);
  for (const record of records) statistics.add(record);
  return statistics.result();
}

/** An object that holds fields, or the items of a list. */
class Node {
  objects = 0;
  readonly children = new Map<string, Child>();

  /** that of the list or map which the fields are of */
  readonly table: Node;

  constructor(
    readonly path: readonly string[],
    private readonly mapKeys: MapKeys,
    table?: Node,
  ) {
    this.table = table ?? this;
  }

  /** Whether a key is data: then its value is the entry of a map. */
  isEntry(key: string): boolean {
    return this.mapKeys === "all" || (this.mapKeys === "some" && isDataKey(key));
  }
}

interface Child {
  readonly path: readonly string[];
  readonly rule: ColumnRule | undefined;
  /** undefined: nothing is to be told of it */
  readonly field: Field | undefined;
  inner?: Node;
}

class Field {
  private filled = 0;
  private readonly types = new Map<string, number>();
  private readonly values = new Map<
    string | number | bigint | boolean,
    { value: FieldValue; times: number }
  >();
  private isCapped = false;
  private longest: number | undefined;
  private readonly numbers = new Range<number | bigint>();
  private readonly texts = new Range<string>();
  private readonly numberTexts = new Range<string>();
  private example: FieldValue | undefined;

  constructor(private readonly path: string) {}

  scalar(value: FieldValue): void {
    this.filled++;
    this.example ??= value;
    const id = value instanceof ExactNumber ? `#${value.text}` : value;
    const known = this.values.get(id);
    if (known !== undefined) known.times++;
    else if (this.values.size < MOST_VALUES) this.values.set(id, { value, times: 1 });
    else this.isCapped = true;
    this.count(typeOf(value));
    if (typeof value === "string") {
      this.longest = Math.max(this.longest ?? 0, value.length);
      this.texts.add(value, value);
      if (NUMBER_TEXT.test(value)) this.numberTexts.add(value, Number(value));
    } else if (typeof value === "number" || typeof value === "bigint") this.numbers.add(value, value);
  }

  structure(type: "list" | "object"): void {
    this.filled++;
    this.count(type);
  }

  private count(type: string): void {
    this.types.set(type, (this.types.get(type) ?? 0) + 1);
  }

  stats(of = this.filled): FieldStats {
    const { path, filled, isCapped, longest, example, values } = this;
    const { numbers, texts, numberTexts } = this;
    const ofTexts = numberTexts.count === texts.count ? numberTexts : texts;
    const range = numbers.count > texts.count ? numbers : ofTexts;
    const frequent = [...values.values()].filter(({ times }) => times > 1).sort((a, b) => b.times - a.times);
    return {
      path,
      of,
      filled,
      types: Object.fromEntries([...this.types].sort(([, a], [, b]) => b - a)),
      distinct: values.size,
      isCapped,
      least: range.least,
      greatest: range.greatest,
      frequent: frequent.slice(0, MOST_FREQUENT),
      longest,
      example,
    };
  }
}

/** The least and the greatest of some values, by what they are compared by. */
class Range<Value extends string | number | bigint> {
  least: Value | undefined;
  greatest: Value | undefined;
  count = 0;
  private low: string | number | bigint | undefined;
  private high: string | number | bigint | undefined;

  add(value: Value, by: string | number | bigint): void {
    this.count++;
    if (this.low === undefined || by < this.low) [this.low, this.least] = [by, value];
    if (this.high === undefined || by > this.high) [this.high, this.greatest] = [by, value];
  }
}

/** A number as JSON writes it: what begins with 0, as codes do, is none (RFC 8259, section 6). */
const NUMBER_TEXT = /^-?(0|[1-9]\d*)(\.\d+)?$/;

function typeOf(value: FieldValue): string {
  if (typeof value === "string")
    return TEXT_TYPES.get(classifyText(value)) ?? (NUMBER_TEXT.test(value) ? "number_text" : "text");
  if (typeof value === "boolean") return "boolean";
  if (typeof value === "number") return Number.isSafeInteger(value) ? "int64" : "float64";
  return typeof value === "bigint" ? "int64" : "decimal";
}
