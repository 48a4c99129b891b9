/** The walk through one record: values into columns, lists of objects into child tables. */

import { aTypeName } from "../errors.js";
import { concealedIn } from "./concealed-values.js";
import { ExactNumber, isPlainObject, parseExactJson } from "./exact-json.js";
import { formatPath } from "./naming.js";
import type { Issue } from "./shaped.js";
import { stepOfKey } from "./steps.js";
import type { ColumnRule, ColumnShape, FieldNode, ObjectNode, TableShape } from "./table-shape.js";

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
  /** makes the node for a field's objects */
  addObject(table: TableShape, field: FieldNode): ObjectNode;
  /** whether a key without a field of its own, in an object of so many, is data: it leads to the entry of a map */
  isEntry(node: ObjectNode, key: string, keys: number): boolean;
  /** whether a key that is new in an object gets no column any more */
  isFull(table: TableShape, node: ObjectNode, key: string): boolean;
  /** where items of a table stand in others of it, on a level of it, is a column too */
  addWithin(table: TableShape, level: number): ColumnShape;
  /** puts a value into the column for fields that have none of their own */
  putMore(table: TableShape, row: number, parts: readonly string[], value: unknown): void;
  /** undefined: the field is left out */
  addFieldColumn(table: TableShape, field: FieldNode, value: unknown): ColumnShape | undefined;
  /** undefined: the list is left out; whole: it stands in a json column, for there are tables enough */
  addChildTable(parent: TableShape, field: FieldNode): TableShape | "whole" | undefined;
  /** the same for the entries of a map */
  addEntries(parent: TableShape, node: ObjectNode): TableShape | "whole" | undefined;
}

/** One record's walk: the record's index and key go down to all its rows. */
export class Walk {
  /** by level: the place in a list, or the key in a map, of the item at hand */
  private readonly places: (number | string)[] = [];
  /** by level: where the item of the same table stands that this one is in, as RFC 6901 joins steps */
  private readonly withins: (string | undefined)[] = [];

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
    let keys = -1;
    for (const key in object) {
      const value = object[key];
      let field: FieldNode | undefined = order[next];
      if (field === undefined || field.key !== key) field = fields.get(key);
      if (field === undefined) {
        if (keys < 0) keys = Object.keys(object).length;
        if (this.shape.isEntry(node, key, keys)) {
          this.entry(node, key, value, table, row, depth);
          continue;
        }
        if (this.shape.isFull(table, node, key)) {
          this.more(node, key, value, table, row);
          continue;
        }
        field = this.shape.addField(node, key);
      }
      next = field.index + 1;
      if (value === null || value === undefined || field.rule.skip === true) continue;
      this.field(field, value, table, row, depth);
    }
  }

  /** Puts a field's value where it belongs; depth is that of the object that holds it. */
  private field(field: FieldNode, value: unknown, table: TableShape, row: number, depth: number): void {
    if (typeof value !== "object" || value instanceof ExactNumber) {
      if (field.rule.as === "table") this.items(field, [value], table, row, depth);
      else this.scalar(field, value, table, row);
    } else if (field.rule.type !== undefined || depth > MAX_DEPTH) this.scalar(field, value, table, row);
    else if (field.rule.as !== undefined) this.asSaid(field, value as object, table, row, depth);
    else if (Array.isArray(value)) this.list(field, value, table, row, depth);
    else this.nested(field, value as Record<string, unknown>, table, row, depth);
  }

  private nested(
    field: FieldNode,
    value: Record<string, unknown>,
    table: TableShape,
    row: number,
    depth: number,
  ): void {
    const node = field.object ?? this.shape.addObject(table, field);
    this.object(node, value, table, row, depth + 1);
  }

  /** As the connector wants it, whatever it came as. */
  private asSaid(field: FieldNode, value: object, table: TableShape, row: number, depth: number): void {
    const items = Array.isArray(value) ? value : [value];
    if (field.rule.as === "table") {
      this.items(field, items, table, row, depth);
      return;
    }
    const [item] = items;
    if (items.length > 1 || (item !== undefined && !isPlainObject(item))) {
      const path = formatPath(field.parts);
      const wanted = field.rule.as === "map" ? "a map" : "columns";
      const came = items.length > 1 ? `a list of ${items.length}` : aTypeName(item);
      throw new Unfit("type_mismatch", path, `${path} is to be ${wanted}, and ${came} came`);
    }
    if (item !== undefined) this.nested(field, item, table, row, depth);
  }

  /** The entry of a map becomes a row; where no table is to be had, it stands among what has no column. */
  private entry(
    node: ObjectNode,
    key: string,
    value: unknown,
    table: TableShape,
    row: number,
    depth: number,
  ): void {
    const child = node.entries ?? this.shape.addEntries(table, node);
    if (child === undefined) return;
    if (child === "whole") {
      this.more(node, key, value, table, row);
      return;
    }
    const outer = this.enter(child, table);
    this.item(child, key, value, depth);
    this.leave(outer);
  }

  private more({ parts }: ObjectNode, key: string, value: unknown, table: TableShape, row: number): void {
    if (value === null || value === undefined) return;
    if (nestsDeeper(value, MOST_LEVELS)) throw tooDeep();
    this.shape.putMore(table, row, [...parts, stepOfKey(key)], value);
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
    } else if (holdsObjects(list)) this.items(field, list, table, row, depth);
    else this.scalar(field, list, table, row);
  }

  /** Each item becomes a row. */
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
    const outer = this.enter(child, table);
    for (let i = 0; i < list.length; i++) this.item(child, i, list[i], depth);
    this.leave(outer);
  }

  /** Steps into a list or map; where it is of the table at hand, gives what `leave` puts back. */
  private enter(child: TableShape, table: TableShape): OuterPlace | undefined {
    const { places, withins } = this;
    if (child !== table) {
      places.push(0);
      withins.push(undefined);
      return undefined;
    }
    const level = places.length - 1;
    const outer = { place: places[level]!, within: withins[level] };
    const step = pointerStep(outer.place);
    withins[level] = outer.within === undefined ? step : `${outer.within}/${step}`;
    return outer;
  }

  private leave(outer: OuterPlace | undefined): void {
    const { places, withins } = this;
    if (outer === undefined) {
      places.pop();
      withins.pop();
      return;
    }
    places[places.length - 1] = outer.place;
    withins[places.length - 1] = outer.within;
  }

  /** One item of a list, or entry of a map, becomes a row. */
  private item(child: TableShape, place: number | string, value: unknown, depth: number): void {
    const { places, withins, key } = this;
    places[places.length - 1] = place;
    const row = child.rows;
    child.recordOf.push(this.record);
    for (let k = 0; k < key.length; k++) child.links[k]!.put(row, key[k]);
    for (let p = 0; p < places.length; p++) {
      child.places[p]!.put(row, places[p]);
      const within = withins[p];
      if (within !== undefined) (child.withins[p] ?? this.shape.addWithin(child, p)).put(row, within);
    }
    const item = child.item!;
    if (value === null || value === undefined || item.rule.skip === true) return;
    if (isPlainObject(value) && item.rule.type === undefined)
      this.object(child.root, value, child, row, depth + 1);
    else this.field(item, value, child, row, depth + 1);
  }
}

/** Where an item stands, in the table that its own items are rows of too. */
interface OuterPlace {
  readonly place: number | string;
  readonly within: string | undefined;
}

/** A step as RFC 6901, section 3 writes it. */
function pointerStep(place: number | string): string {
  return String(place).replaceAll("~", "~0").replaceAll("/", "~1");
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

function nestsDeeper(value: unknown, levels: number): boolean {
  if (typeof value !== "object" || value === null || value instanceof ExactNumber) return false;
  if (levels === 0) return true;
  for (const inner of Object.values(value)) if (nestsDeeper(inner, levels - 1)) return true;
  return false;
}

/** Whether a list is one of objects, or of lists of them: nulls and empty lists among them are rows without values. */
function holdsObjects(list: readonly unknown[], levels = MAX_DEPTH): boolean {
  let objects = 0;
  for (const item of list) {
    if (isPlainObject(item)) objects++;
    else if (Array.isArray(item) && levels > 0) {
      if (item.length === 0) continue;
      if (!holdsObjects(item, levels - 1)) return false;
      objects++;
    } else if (item !== null) return false;
  }
  return objects > 0;
}
