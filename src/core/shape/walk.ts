/** The walk through one record: values into columns, lists of objects into child tables. */

import { aTypeName } from "../errors.js";
import { concealedIn } from "./concealed-values.js";
import { ExactNumber, isPlainObject, parseExactJson } from "./exact-json.js";
import { formatPath } from "./naming.js";
import type { Issue } from "./shaped.js";
import {
  type ColumnRule,
  type ColumnShape,
  type FieldNode,
  MOST_KEYS,
  newObjectNode,
  type ObjectNode,
  type TableShape,
} from "./table-shape.js";

/** Deeper objects become one json column: no real API nests so far, and the stack stays safe. */
const MAX_DEPTH = 64;
/** What nests deeper than this cannot be written as JSON either: the record goes to quarantine. */
export const MOST_LEVELS = 1000;

/** A record that cannot be stored as its tables demand. */
export class Unfit extends Error {
  constructor(
    readonly reason: Issue["reason"],
    readonly path: string,
    message: string,
  ) {
    super(message);
  }
}

const tooDeep = () => new Unfit("too_deep", "", `the record nests more than ${MOST_LEVELS} levels deep`);

/** How a shape grows when a record brings something new. */
export interface ShapeGrowth {
  addField(node: ObjectNode, key: string): FieldNode;
  /** whether the connector says something of the path, or of one below it */
  isDeclared(parts: readonly string[]): boolean;
  /** puts a value into the column for fields that have none of their own */
  putMore(table: TableShape, row: number, parts: readonly string[], value: unknown): void;
  /** undefined: the field is left out */
  addFieldColumn(table: TableShape, field: FieldNode, value: unknown): ColumnShape | undefined;
  /** undefined: the list is left out; whole: it stands in a json column, for there are tables enough */
  addChildTable(parent: TableShape, field: FieldNode): TableShape | "whole" | undefined;
  /** told once of each object that is too wide for columns */
  noteWide(field: FieldNode): void;
}

/** One record's walk: the record's index and key go down to all its rows. */
export class Walk {
  private readonly position: number[] = [];

  constructor(
    private readonly shape: ShapeGrowth,
    private readonly record: number,
    private readonly key: readonly unknown[],
  ) {}

  object(
    node: ObjectNode,
    object: Record<string, unknown>,
    table: TableShape,
    row: number,
    depth: number,
  ): void {
    const { order, fields } = node;
    let next = 0;
    for (const key in object) {
      const value = object[key];
      let field: FieldNode | undefined = order[next];
      if (field === undefined || field.key !== key) {
        field = fields.get(key) ?? this.newField(node, key, table);
      }
      if (field === undefined) {
        if (value !== null && value !== undefined) this.more([...node.parts, key], value, table, row);
        continue;
      }
      next = field.index + 1;
      if (value === null || value === undefined || field.rule.skip === true) continue;
      if (typeof value !== "object" || value instanceof ExactNumber) {
        if (field.rule.as === "table") this.items(field, [value], table, row, depth);
        else this.scalar(field, value, table, row);
      } else if (field.rule.type !== undefined || depth > MAX_DEPTH) {
        this.scalar(field, value, table, row);
      } else if (field.rule.as !== undefined) this.asSaid(field, value, table, row, depth);
      else if (Array.isArray(value)) this.list(field, value, table, row, depth);
      else if (this.isWide(field, value)) this.scalar(field, value, table, row);
      else {
        field.object ??= newObjectNode(field.parts);
        this.object(field.object, value as Record<string, unknown>, table, row, depth + 1);
      }
    }
  }

  /** As the connector wants it, whatever it came as. */
  private asSaid(field: FieldNode, value: object, table: TableShape, row: number, depth: number): void {
    const items = Array.isArray(value) ? value : [value];
    if (field.rule.as === "table") {
      this.items(field, items, table, row, depth);
      return;
    }
    const [item] = items;
    if (items.length > 1 || (item !== undefined && !isPlainObject(item)))
      throw new Unfit(
        "type_mismatch",
        formatPath(field.parts),
        `${formatPath(field.parts)} is to be columns, and ${items.length > 1 ? `a list of ${items.length}` : aTypeName(item)} came`,
      );
    if (item === undefined) return;
    field.object ??= newObjectNode(field.parts);
    this.object(field.object, item, table, row, depth + 1);
  }

  private newField(node: ObjectNode, key: string, table: TableShape): FieldNode | undefined {
    if (table.isFull(node) && !this.shape.isDeclared([...node.parts, key])) return undefined;
    return this.shape.addField(node, key);
  }

  private more(parts: readonly string[], value: unknown, table: TableShape, row: number): void {
    if (nestsDeeper(value, MOST_LEVELS)) throw tooDeep();
    this.shape.putMore(table, row, parts, value);
  }

  private isWide(field: FieldNode, value: object): boolean {
    if (field.wide) return true;
    const known = field.object?.order.length ?? 0;
    // a page of 1,000 keys in each of its objects grows by all of them
    if (known < MOST_KEYS && !hasMoreKeys(value, MOST_KEYS)) return false;
    if (known >= MOST_KEYS && Object.keys(value).every((key) => field.object!.fields.has(key))) return false;
    field.wide = true;
    this.shape.noteWide(field);
    return true;
  }

  private scalar(field: FieldNode, value: unknown, table: TableShape, row: number): void {
    if (typeof value === "object" && nestsDeeper(value, MOST_LEVELS)) throw tooDeep();
    const column = field.column ?? this.shape.addFieldColumn(table, field, value);
    if (column === undefined) return;
    const { concealedBelow } = field;
    const whole = concealedBelow.length === 0 ? value : concealedIn(value, concealedBelow);
    column.put(row, storedValue(field.rule, whole));
  }

  private list(
    field: FieldNode,
    list: readonly unknown[],
    table: TableShape,
    row: number,
    depth: number,
  ): void {
    if (list.length === 0) {
      if (field.children === undefined) table.emptyLists.push({ field, row });
      return;
    }
    if (!holdsObjects(list)) {
      this.scalar(field, list, table, row);
      return;
    }
    this.items(field, list, table, row, depth);
  }

  /** Each item becomes a row; one that is no object has its value in the column `value`. */
  private items(
    field: FieldNode,
    list: readonly unknown[],
    table: TableShape,
    row: number,
    depth: number,
  ): void {
    const child = field.children ?? this.shape.addChildTable(table, field);
    if (child === undefined) return;
    if (child === "whole") {
      this.scalar(field, list, table, row);
      return;
    }
    for (let i = 0; i < list.length; i++) {
      const childRow = child.rows;
      child.recordOf.push(this.record);
      for (let k = 0; k < this.key.length; k++) child.links[k]!.put(childRow, this.key[k]);
      this.position.push(i);
      for (let p = 0; p < this.position.length; p++) child.positions[p]!.put(childRow, this.position[p]);
      const item = list[i];
      if (item !== null)
        this.object(child.root, isPlainObject(item) ? item : { value: item }, child, childRow, depth + 1);
      this.position.pop();
    }
  }
}

/** A value as its column takes it. */
export function storedValue({ conceal, read, digits }: ColumnRule, value: unknown): unknown {
  if (conceal !== undefined) return conceal.stored(value);
  if (read !== undefined) return read(value);
  return digits === true ? numberOf(value) : value;
}

/** The number that a text writes out (RFC 8259), with all its digits; what is none stays as it is. */
function numberOf(value: unknown): unknown {
  const text = typeof value === "number" ? String(value) : value;
  if (typeof text !== "string" || !/^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(text)) return value;
  return /^-?\d+$/.test(text) ? parseExactJson(text) : new ExactNumber(text);
}

function hasMoreKeys(object: object, most: number): boolean {
  let keys = 0;
  for (const _ in object) if (++keys > most) return true;
  return false;
}

function nestsDeeper(value: unknown, levels: number): boolean {
  if (typeof value !== "object" || value === null || value instanceof ExactNumber) return false;
  if (levels === 0) return true;
  for (const inner of Object.values(value)) if (nestsDeeper(inner, levels - 1)) return true;
  return false;
}

/** Whether a list is one of objects: nulls among them are rows without values. */
function holdsObjects(list: readonly unknown[]): boolean {
  let objects = 0;
  for (const item of list) {
    if (isPlainObject(item)) objects++;
    else if (item !== null) return false;
  }
  return objects > 0;
}
