/** The tables of a stream, as they grow with its records. */

import { NOTHING_SEEN, SEEN, type Seen } from "./column-type.js";
import { type Concealed, concealedPaths } from "./concealed-values.js";
import { Drift } from "./drift.js";
import { OPEN_POLICY } from "./drift-policy.js";
import { keysAreData, tooManyFields, tooManyTables, twoForms } from "./form-notes.js";
import { LifeColumns } from "./life-columns.js";
import { comparePaths, formatPath, nameForPath, parsePath, pathsTo, snakeCase } from "./naming.js";
import { RESERVED, ROW_ID_COLUMN } from "./own-columns.js";
import { levelsOf, placeKind, placeName, tableWords } from "./place-names.js";
import { RecordState, type StepsIn } from "./record-state.js";
import { restoreColumn } from "./restore-column.js";
import { ruleAt } from "./rule-at.js";
import type { KnownColumn, ShapeSpec } from "./shaped.js";
import {
  isDataKey,
  isManyStep,
  isRecursive,
  keyOfStep,
  LIST_STEP,
  MAP_STEP,
  stepOfKey,
  stepsToTable,
} from "./steps.js";
import {
  ColumnShape,
  type FieldNode,
  MANY_KEYS,
  type MapKeys,
  newObjectNode,
  type ObjectNode,
  ROOM,
  type Room,
  TableShape,
} from "./table-shape.js";
import type { ShapeGrowth } from "./walk.js";

export class ShapeTables implements ShapeGrowth {
  /** the stream's own first */
  readonly all: TableShape[] = [];
  /** counts up whenever a table, a column or a type changes */
  version = 0;
  readonly root: TableShape;
  readonly keyColumns: readonly ColumnShape[];
  readonly life: LifeColumns;
  readonly drift: Drift;
  readonly concealed: readonly Concealed[];
  private readonly room: Room;
  private readonly takenTables: Set<string>;
  /** paths that the connector says something of, and those that lead there */
  private readonly declared: ReadonlySet<string>;
  /** objects of tables that stand, some of whose keys have shown to be data */
  private readonly maps = new Set<ObjectNode>();
  private declaredAll = false;
  private isRestored = false;
  /** lists and maps for which there was no table left */
  private readonly crowdedOut = new Set<string>();
  /** what to tell of the data's form: what it is made of has its names later */
  private notes: (() => string)[] = [];

  constructor(
    private readonly spec: ShapeSpec,
    known: readonly KnownColumn[],
  ) {
    const name = spec.into?.table.name ?? snakeCase(spec.stream);
    this.room = { columns: spec.room?.columns ?? ROOM.columns, tables: spec.room?.tables ?? ROOM.tables };
    this.concealed = concealedPaths(spec.columns);
    this.declared = new Set([...spec.columns.keys()].flatMap(pathsTo));
    this.takenTables = new Set([...spec.takenTables, name]);
    this.root = new TableShape(name, [], spec.names, RESERVED);
    this.all.push(this.root);
    this.keyColumns = this.addKey(known);
    const state = new RecordState(this.stepsIn, spec.life?.digest);
    this.life = new LifeColumns(spec.life ?? {}, (record) => state.of(record, this.concealed));
    this.life.addTo(this.root);
    this.drift = new Drift(spec.drift ?? OPEN_POLICY, known.length > 0);
    for (const column of known) this.restore(column, this.drift.policy.type_change === "quarantine");
    for (const node of this.maps) if (takesAllKeys(node.entries)) node.mapKeys = "all";
    this.isRestored = true;
  }

  private addKey(known: readonly KnownColumn[]): readonly ColumnShape[] {
    const { root, spec } = this;
    if (spec.key.length === 0)
      return [root.addColumn(new ColumnShape(ROW_ID_COLUMN, "", "row_id", { type: { kind: "text" } }))];
    const names = new Map(known.map((column) => [`${column.table} ${column.path}`, column.name]));
    return spec.key.map((parts) => {
      const field = this.fieldAt(root, parts);
      field.column ??= root.addDataColumn(parts, field.rule, names.get(`${root.name} ${formatPath(parts)}`));
      root.nameColumns();
      return field.column;
    });
  }

  /** Columns whose type is declared are there from the first page on, whatever comes. */
  declareColumns(): void {
    // a column that is not ours is filled from when its field has come once
    if (this.declaredAll || this.spec.into !== undefined) return;
    this.declaredAll = true;
    for (const [path, { type, skip }] of this.spec.columns) {
      const parts = parsePath(path);
      if (type === undefined || skip === true || parts === undefined) continue;
      if (this.spec.isWanted?.(parts) === false) continue;
      const list = stepsToTable(parts);
      if (list === parts.length) continue;
      const table = this.tableAt(parts.slice(0, list));
      const field = this.fieldAt(table, parts.slice(table.parts.length));
      if (field.column === undefined) this.addFieldColumn(table, field);
    }
  }

  /** Names what is new: a page's tables and columns get the same names in whatever order they came. */
  nameNew(): void {
    const unnamed = this.all.filter(({ name }) => name === "");
    const rule = (table: TableShape) => ruleAt(this.spec, table.parts.slice(0, -1)).name;
    const isSaid = (table: TableShape) => Number(rule(table) !== undefined);
    unnamed.sort((a, b) => isSaid(b) - isSaid(a) || comparePaths(a.parts, b.parts));
    for (const table of unnamed) {
      const said = rule(table);
      const words = said === undefined ? [this.root.name, ...tableWords(table.parts)] : [said];
      table.name = nameForPath(words, this.takenTables, this.spec.names);
      this.takenTables.add(table.name);
    }
    for (const table of this.all) table.nameColumns();
  }

  /** What there is to tell of the data's form since the last call. */
  takeNotes(): readonly string[] {
    const { notes } = this;
    this.notes = [];
    return notes.map((note) => note());
  }

  addField(node: ObjectNode, key: string): FieldNode {
    const field = this.newField([...node.parts, stepOfKey(key)], key, node.order.length);
    node.fields.set(key, field);
    node.order.push(field);
    // where it has come once, a record without it empties its column
    if (field.rule.into !== undefined) this.addFieldColumn(this.root, field);
    return field;
  }

  private newField(parts: readonly string[], key: string, index: number): FieldNode {
    // a list that stands within one alike is of the same table, and so is what is said of it
    const at = isRecursive(parts) ? parts.slice(0, stepsToTable(parts) - 1) : parts;
    const concealedBelow = this.concealed.flatMap(({ steps, conceal }) =>
      steps.length > at.length && at.every((part, i) => part === steps[i])
        ? [{ steps: steps.slice(at.length), conceal }]
        : [],
    );
    const rule = ruleAt(this.spec, parts);
    const empty = { column: undefined, object: undefined, children: undefined };
    return { key, index, parts, rule, concealedBelow, ...empty };
  }

  addObject(table: TableShape, field: FieldNode): ObjectNode {
    if (field.children !== undefined && field.rule.as === undefined) this.noteForms(table, field);
    field.object = newObjectNode(field.parts, this.mapKeysAt(field));
    return field.object;
  }

  private mapKeysAt({ parts, rule }: FieldNode): MapKeys {
    if (rule.as === "columns" || rule.as === "table") return "none";
    return rule.as === "map" || this.isDeclared([...parts, MAP_STEP]) ? "all" : "some";
  }

  isEntry(node: ObjectNode, key: string, keys: number): boolean {
    const { mapKeys, order, parts, entries } = node;
    if (mapKeys === "none") return false;
    const known = order.length;
    const isGrowing = known >= MANY_KEYS && (entries !== undefined || keys < known / 2);
    if (isGrowing || known >= this.room.columns || keys > this.room.columns) this.takeAllKeys(node);
    const isData = node.mapKeys === "all" || isDataKey(key);
    return isData && !this.isDeclared([...parts, stepOfKey(key)]);
  }

  private takeAllKeys(node: ObjectNode): void {
    node.mapKeys = "all";
    if (node.entries === undefined || takesAllKeys(node.entries)) return;
    keysOf(node.entries).seen = ANY_KEYS;
    this.version++;
  }

  /** Whether a field that is new in an object gets no column any more. */
  isFull({ columns }: TableShape, { order, parts }: ObjectNode, key: string): boolean {
    if (Math.max(columns.length, order.length) < this.room.columns) return false;
    return !this.isDeclared([...parts, stepOfKey(key)]);
  }

  private isDeclared(parts: readonly string[]): boolean {
    return this.declared.has(formatPath(parts));
  }

  /** As the walk goes, but for keys that turn out to be data by their number. */
  readonly stepsIn: StepsIn = (parts, key) => {
    const own = [...parts, stepOfKey(key)];
    const keys = parts.length > 0 ? this.mapKeysAt(this.newField(parts, "", 0)) : "none";
    const isEntry = keys === "all" || (keys === "some" && isDataKey(key));
    const steps = isEntry && !this.isDeclared(own) ? [...parts, MAP_STEP] : own;
    return ruleAt(this.spec, steps).skip === true ? undefined : steps;
  };

  addWithin(table: TableShape, level: number): ColumnShape {
    this.version++;
    return table.addWithin(level);
  }

  putMore(table: TableShape, row: number, parts: readonly string[], value: unknown): void {
    if (!table.hasMore) {
      this.notes.push(() => tooManyFields(table.name, parts, this.room.columns));
      this.version++;
    }
    const column = table.addMore();
    // without a prototype: __proto__ is a key like others
    const held = (column.values[row] as Record<string, unknown> | undefined) ?? Object.create(null);
    held[formatPath(parts)] = value;
    column.put(row, held);
  }

  /** Makes the column for a field's scalars. */
  addFieldColumn(table: TableShape, field: FieldNode, value?: unknown): ColumnShape | undefined {
    if (this.spec.into !== undefined && field.rule.into === undefined) return undefined;
    const isSaid = field.rule.type !== undefined || field.rule.name !== undefined;
    if (!isSaid && !this.drift.mayAddColumn(table, field, value)) return undefined;
    field.column = table.addDataColumn(field.parts, field.rule);
    // a declared type makes a column at once, others when the first value shows its type
    if (field.rule.type !== undefined) this.version++;
    return field.column;
  }

  /** Makes the child table for a field's lists of objects. */
  addChildTable(parent: TableShape, field: FieldNode): TableShape | "whole" | undefined {
    const child = this.addTable(parent, [...field.parts, LIST_STEP]);
    if (child === undefined || child === "whole") return child;
    field.children = child;
    if (child !== parent && field.object !== undefined && field.rule.as === undefined)
      this.noteForms(parent, field);
    return child;
  }

  /** Makes the table for an object's keys that are data. */
  addEntries(parent: TableShape, node: ObjectNode): TableShape | "whole" | undefined {
    const parts = [...node.parts, MAP_STEP];
    const child = this.addTable(parent, parts);
    if (child === undefined || child === "whole") return child;
    node.entries = child;
    if (node.mapKeys === "all") this.takeAllKeys(node);
    if (child !== parent && !this.isDeclared(parts))
      this.notes.push(() => keysAreData(child.name, node.parts));
    return child;
  }

  private addTable(parent: TableShape, parts: readonly string[]): TableShape | "whole" | undefined {
    if (this.spec.into !== undefined) return undefined;
    const isSaid = this.isDeclared(parts) || this.isDeclared(parts.slice(0, -1));
    if (isSaid || isOwn(parent, parts)) return this.newTable(parent, parts);
    if (!this.drift.mayAddTable(parent, parts)) return undefined;
    if (this.all.length < this.room.tables) return this.newTable(parent, parts);
    const path = formatPath(parts);
    if (!this.crowdedOut.has(path)) this.notes.push(() => tooManyTables(parts, this.room.tables));
    this.crowdedOut.add(path);
    return "whole";
  }

  private noteForms(table: TableShape, field: FieldNode): void {
    if (isRecursive(field.parts)) return;
    this.notes.push(() => twoForms((field.children ?? table).name, field.parts));
  }

  /** The table of a list or a map below another table; items that stand within items alike stay in theirs. */
  private newTable(parent: TableShape, parts: readonly string[], knownName?: string): TableShape {
    if (isOwn(parent, parts)) return parent;
    const { names } = this.spec;
    if (knownName !== undefined) this.takenTables.add(knownName);
    const item = this.newField(parts, "", 0);
    const child = new TableShape(knownName ?? "", parts, names, RESERVED, this.mapKeysAt(item));
    child.item = item;
    child.isNew = this.isRestored;
    for (const key of this.keyColumns) {
      const linkName = nameForPath([this.root.name, key.name], new Set(RESERVED), names);
      child.links.push(child.addColumn(new ColumnShape(linkName, key.path, "link", key.rule, key)));
    }
    const identity = this.life.addTo(child);
    if (identity !== undefined) child.links.push(identity);
    for (const level of levelsOf(parts)) {
      const kind = placeKind(level);
      const [role, type] = kind === "key" ? (["map_key", "text"] as const) : (["position", "int64"] as const);
      const name = placeName(parts, level, kind, names);
      child.places.push(
        child.addColumn(new ColumnShape(name, formatPath(level), role, { type: { kind: type } })),
      );
    }
    this.all.push(child);
    this.version++;
    return child;
  }

  /** The field at a path within a table; objects on the way are made. */
  private fieldAt(table: TableShape, own: readonly string[]): FieldNode {
    const last = own.at(-1);
    if (last === undefined) return table.item!;
    const node = this.objectAt(table, own.slice(0, -1));
    const key = keyOfStep(last);
    return node.fields.get(key) ?? this.addField(node, key);
  }

  private objectAt(table: TableShape, own: readonly string[]): ObjectNode {
    let node = table.root;
    for (const step of own) {
      const key = keyOfStep(step);
      const field: FieldNode = node.fields.get(key) ?? this.addField(node, key);
      node = field.object ?? this.addObject(table, field);
    }
    return node;
  }

  private restore(known: KnownColumn, keepsType: boolean): void {
    if (known.role === "into") {
      this.fieldAt(this.root, parsePath(known.path) ?? []);
      return;
    }
    const table = this.tableAt(parsePath(known.tablePath) ?? [], known.table);
    if (known.role === "more") table.addMore();
    // a map within a map has the outer one's keys as well
    if (known.role === "map_key" && known.path === formatPath(table.parts)) keysOf(table).seen = known.seen;
    if (known.role === "within") {
      const level = levelsOf(table.parts).findIndex((each) => formatPath(each) === known.path);
      if (level >= 0 && table.withins[level] === undefined) table.addWithin(level);
    }
    if (known.role !== "data") return;
    const parts = parsePath(known.path);
    if (parts === undefined) return;
    restoreColumn(table, this.fieldAt(table, parts.slice(table.parts.length)), known, keepsType);
  }

  /** The table of the lists and maps that a path leads through; new ones are made, the last by a name. */
  private tableAt(parts: readonly string[], name?: string): TableShape {
    let table = this.root;
    let from = 0;
    for (let at = 0; at < parts.length; at++) {
      if (!isManyStep(parts[at]!)) continue;
      const own = parts.slice(from, at);
      const owner = parts[at] === MAP_STEP ? this.objectAt(table, own) : this.fieldAt(table, own);
      const known = "entries" in owner ? owner.entries : owner.children;
      const last = at === parts.length - 1;
      const next = known ?? this.newTable(table, parts.slice(0, at + 1), last ? name : undefined);
      if ("entries" in owner) {
        owner.entries = next;
        if (owner.mapKeys === "some") this.maps.add(owner);
      } else owner.children = next;
      table = next;
      from = at + 1;
    }
    return table;
  }
}

/** What is seen of a map's keys, where they are not data by themselves: texts of any kind. */
const ANY_KEYS: Seen = Object.freeze({ ...NOTHING_SEEN, mask: SEEN.text });

const keysOf = ({ places }: TableShape) => places.at(-1)!;

const takesAllKeys = (entries: TableShape | undefined) =>
  entries !== undefined && (keysOf(entries).seen.mask & ANY_KEYS.mask) !== 0;

/** Whether a list or map is of the table that it stands in: its items hold others like them. */
function isOwn(parent: TableShape, parts: readonly string[]): boolean {
  return parent.parts.at(-1) === parts.at(-1) && isRecursive(parts.slice(0, -1));
}
