/** A stream's shape: walks records into columns, learns types, and gives typed batches. */

import { aTypeName } from "../errors.js";
import type { ColumnBatch, TableBatch } from "./batch.js";
import { checkDeclared } from "./check-declared.js";
import { classifyColumn } from "./classify.js";
import { sameSeen, sameType } from "./column-type.js";
import { type Concealed, concealedPaths, recordable, rowId } from "./concealed-values.js";
import { Drift } from "./drift.js";
import { OPEN_POLICY } from "./drift-policy.js";
import { encodeColumn } from "./encode.js";
import { ExactNumber, isPlainObject } from "./exact-json.js";
import { tooManyFields, tooManyKeys, tooManyTables } from "./form-notes.js";
import { inTableOrder, LifeColumns } from "./life-columns.js";
import { formatPath, nameForPath, parsePath, pathsTo, snakeCase } from "./naming.js";
import { getByPath } from "./path-get.js";
import { positionNames } from "./position-names.js";
import { recordState } from "./record-state.js";
import { exampleOf } from "./redacted-example.js";
import { restoreColumn } from "./restore-column.js";
import { ruleAt } from "./rule-at.js";
import {
  type Issue,
  type KnownColumn,
  RESERVED,
  ROW_ID_COLUMN,
  type Shaped,
  type ShapeSpec,
} from "./shaped.js";
import {
  type ColumnRule,
  ColumnShape,
  type FieldNode,
  MOST_TABLES,
  newObjectNode,
  type ObjectNode,
  type TableSchema,
  TableShape,
} from "./table-shape.js";
import { type ShapeGrowth, storedValue, Unfit, Walk } from "./walk.js";

/** The shape of one stream: fed with pages of records, it gives typed batches and the tables' schema as it grows. */
export class Shape implements ShapeGrowth {
  readonly tables: TableShape[] = [];
  /** what to tell of the data's form, until somebody takes it */
  private notes: string[] = [];
  /** counts up whenever a table, a column or a type changes */
  version = 0;
  private readonly keyColumns: ColumnShape[];
  private readonly life: LifeColumns;
  private readonly drift: Drift;
  private isRestored = false;
  /** keys of records that are gone; its columns follow those of the stream's own table */
  private readonly removed: TableShape;
  private readonly takenTables: Set<string>;
  private readonly concealed: readonly Concealed[];
  /** paths that the connector says something of, and those that lead there */
  private readonly declared: ReadonlySet<string>;
  private declaredAll = false;
  /** records without a key so far */
  private keyless = 0;

  constructor(
    readonly spec: ShapeSpec,
    known: readonly KnownColumn[] = [],
  ) {
    const name = snakeCase(spec.stream);
    this.concealed = concealedPaths(spec.columns);
    this.declared = new Set([...spec.columns.keys()].flatMap(pathsTo));
    this.takenTables = new Set([...spec.takenTables, name]);
    const root = new TableShape(name, [], spec.names, RESERVED);
    this.tables.push(root);
    const knownNames = new Map(known.map((column) => [`${column.table} ${column.path}`, column.name]));
    this.keyColumns =
      spec.key.length === 0
        ? [root.addColumn(new ColumnShape(ROW_ID_COLUMN, "", "row_id", { type: { kind: "text" } }))]
        : spec.key.map((parts) => {
            const field = this.fieldAt(root, parts);
            const knownName = knownNames.get(`${name} ${formatPath(parts)}`);
            field.column ??= root.addDataColumn(parts, field.rule, knownName);
            return field.column;
          });
    const isStored = (parts: readonly string[]) => ruleAt(spec, parts).skip !== true;
    this.life = new LifeColumns(spec.life ?? {}, (record) => recordState(record, this.concealed, isStored));
    this.life.addTo(root);
    this.removed = new TableShape(name, [], spec.names, []);
    for (const key of this.keyColumns)
      this.removed.addColumn(new ColumnShape(key.name, key.path, "data", key.rule, key));
    this.drift = new Drift(spec.drift ?? OPEN_POLICY, known.length > 0);
    for (const column of known) this.restore(column, this.drift.policy.type_change === "quarantine");
    this.isRestored = true;
  }

  /** The tables and columns that have a type by now, in a stable order. */
  schema(): TableSchema[] {
    return this.tables.map((table) => ({
      name: table.name,
      path: formatPath(table.parts),
      description: table.parts.length === 0 ? this.spec.description : undefined,
      recordKey: this.linksOf(table).map((column) => column.name),
      entityKey: this.linksOf(table)
        .slice(0, this.keyColumns.length)
        .map((column) => column.name),
      columns: inTableOrder(table.columns).flatMap((column) =>
        column.type === undefined
          ? []
          : [
              {
                name: column.name,
                path: column.path,
                role: column.role,
                type: column.type,
                declared: column.rule.type !== undefined && column.standing !== column.rule.type,
                seen: column.seen,
                description: column.rule.description,
                example: column.example,
              },
            ],
      ),
    }));
  }

  private linksOf(table: TableShape): readonly ColumnShape[] {
    if (table.parts.length > 0) return table.links;
    const { identity } = this.life;
    return identity === undefined ? this.keyColumns : [...this.keyColumns, identity];
  }

  /** Walks one page of records. Records that cannot be stored come back as issues; the others go on. */
  shapeRecords(records: readonly unknown[]): Shaped {
    const issues: Issue[] = [];
    const skip = new Set<number>();
    let again: boolean;
    do {
      again = this.walkRecords(records, skip, issues);
      const found = issues.length;
      if (!again) checkDeclared(this.everyTable(), records, skip, issues);
      again ||= issues.length > found;
    } while (again);
    this.declareColumns();
    // what was removed has a say in the key's type
    for (const [i, column] of this.removed.columns.entries())
      this.learnType(this.keyColumns[i]!, column.values);
    const batches = this.tables.flatMap((table) => this.encodeTable(table) ?? []);
    return {
      batches,
      removed: this.encodeTable(this.removed),
      issues: this.hide(issues),
      drift: this.drift.take(),
    };
  }

  /** What there is to tell of the data's form since the last call. */
  takeNotes(): readonly string[] {
    const { notes } = this;
    this.notes = [];
    return notes;
  }

  noteWide({ parts }: FieldNode): void {
    this.notes.push(tooManyKeys(parts));
  }

  /** What is not to be seen stands in no record of the quarantine; shaped again, it gives the same rows. */
  hide(issues: readonly Issue[]): readonly Issue[] {
    const { concealed } = this;
    if (concealed.length === 0) return issues;
    return issues.map((issue) => ({ ...issue, record: recordable(issue.record, concealed) }));
  }

  /** Whether a record turned out to nest too deep: then the others are to be walked again without it. */
  private walkRecords(records: readonly unknown[], skip: Set<number>, issues: Issue[]): boolean {
    for (const table of this.everyTable()) table.clearRows();
    const root = this.tables[0]!;
    const { isRemoval } = this.spec;
    for (let i = 0; i < records.length; i++) {
      if (skip.has(i)) continue;
      const record = records[i];
      if (!isPlainObject(record)) {
        skip.add(i);
        const message = `a record must be an object, this is ${aTypeName(record)}`;
        issues.push({ reason: "not_an_object", path: "", message, record });
        continue;
      }
      const key = this.keyOf(record);
      if (typeof key === "string") {
        skip.add(i);
        issues.push({
          reason: "key_missing",
          path: key,
          message: `the key field ${key} has no value`,
          record,
        });
        continue;
      }
      if (isRemoval?.(record) === true) {
        const row = this.removed.rows;
        this.removed.recordOf.push(i);
        for (let k = 0; k < key.length; k++) this.removed.columns[k]!.put(row, key[k]);
        continue;
      }
      const row = root.rows;
      root.recordOf.push(i);
      if (this.spec.key.length === 0) this.keyColumns[0]!.put(row, key[0]);
      try {
        new Walk(this, i, [...key, ...this.life.put(record, row)]).object(root.root, record, root, row, 0);
      } catch (error) {
        if (!(error instanceof Unfit)) throw error;
        skip.add(i);
        const { reason, path, message } = error;
        issues.push({ reason, path, message, record });
        return true;
      }
    }
    return false;
  }

  /** The key's values, or the path of the field that has none. */
  private keyOf(record: Record<string, unknown>): unknown[] | string {
    if (this.spec.key.length === 0) return [rowId(record, this.keyless++, this.spec.load)];
    const { columns } = this.spec;
    const values: unknown[] = [];
    for (const parts of this.spec.key) {
      const value = getByPath(record, parts);
      if (value === undefined || value === null || typeof value === "object") {
        if (!(value instanceof ExactNumber)) return formatPath(parts);
      }
      // a key is stored in the rows of its children as it is in its own
      const rule = columns.get(formatPath(parts));
      values.push(rule === undefined ? value : storedValue(rule, value));
    }
    return values;
  }

  private everyTable(): readonly TableShape[] {
    return [...this.tables, this.removed];
  }

  /** Columns whose type is declared are there from the first page on, whatever comes. */
  private declareColumns(): void {
    if (this.declaredAll) return;
    this.declaredAll = true;
    for (const [path, { type, skip }] of this.spec.columns) {
      const parts = parsePath(path);
      if (type === undefined || skip === true || parts === undefined) continue;
      if (this.spec.isWanted?.(parts) === false) continue;
      const list = parts.lastIndexOf("[*]") + 1;
      if (list === parts.length) continue;
      const table = this.tableAt(parts.slice(0, list));
      const field = this.fieldAt(table, parts.slice(table.parts.length));
      if (field.column === undefined) this.addFieldColumn(table, field);
    }
  }

  /** The table's rows of this page; undefined where it has none. */
  private encodeTable(table: TableShape): TableBatch | undefined {
    for (const { field, row } of table.emptyLists) {
      if (field.column !== undefined && field.column.values[row] === undefined) field.column.put(row, []);
    }
    const columns: ColumnBatch[] = [];
    for (const column of table.columns) {
      this.learnType(column);
      if (column.type === undefined || table.rows === 0) continue;
      columns.push(
        column.encoded ?? encodeColumn(column.name, column.type, column.values, table.rows).column,
      );
    }
    if (table.rows === 0) return undefined;
    return { table: table.name, rows: table.rows, recordOf: Int32Array.from(table.recordOf), columns };
  }

  private learnType(column: ColumnShape, values: readonly unknown[] = column.values): void {
    const { type, seen } = column;
    if (column.source !== undefined) column.type = column.source.type;
    else if (column.rule.type === undefined) {
      column.learn(classifyColumn(values, column.seen));
      if (!sameType(type, column.type)) {
        column.example = exampleOf(values, column);
        this.drift.checkType(column, type, column.example);
      }
    }
    // what was seen decides later widenings: the ledger must learn of it even where the type stays
    if (!sameType(type, column.type) || !sameSeen(seen, column.seen)) this.version++;
  }

  /** Makes the column for a field's scalars. */
  addFieldColumn(table: TableShape, field: FieldNode, value?: unknown): ColumnShape | undefined {
    const isSaid = field.rule.type !== undefined || field.rule.name !== undefined;
    if (!isSaid && !this.drift.mayAddColumn(table, field, value)) return undefined;
    field.column = table.addDataColumn(field.parts, field.rule);
    // a declared type makes a column at once, others when the first value shows its type
    if (field.rule.type !== undefined) this.version++;
    return field.column;
  }

  /** Makes the child table for a field's lists of objects. */
  addChildTable(parent: TableShape, field: FieldNode): TableShape | "whole" | undefined {
    const isSaid = this.isDeclared([...field.parts, "[*]"]) || this.isDeclared(field.parts);
    if (!isSaid && !this.drift.mayAddTable(parent, field)) return undefined;
    if (isSaid || this.tables.length < MOST_TABLES) return this.newChildTable(parent, field);
    if (field.column === undefined) this.notes.push(tooManyTables(field.parts));
    return "whole";
  }

  private newChildTable(parent: TableShape, field: FieldNode, knownName?: string): TableShape {
    const root = this.tables[0]!;
    const parts = [...field.parts, "[*]"];
    const plain = parts.filter((part) => part !== "[*]");
    const wanted = field.rule.name === undefined ? [root.name, ...plain] : [field.rule.name];
    const name = knownName ?? nameForPath(wanted, this.takenTables, this.spec.names);
    this.takenTables.add(name);
    const child = new TableShape(name, parts, this.spec.names, RESERVED);
    child.isNew = this.isRestored;
    for (const key of this.keyColumns) {
      const linkName = nameForPath([root.name, key.name], new Set(RESERVED), this.spec.names);
      child.links.push(child.addColumn(new ColumnShape(linkName, key.path, "link", key.rule, key)));
    }
    const identity = this.life.addTo(child);
    if (identity !== undefined) child.links.push(identity);
    for (const positionName of positionNames(parent, this.spec.names)) {
      const rule: ColumnRule = { type: { kind: "int64" } };
      child.positions.push(child.addColumn(new ColumnShape(positionName, "", "position", rule)));
    }
    field.children = child;
    this.tables.push(child);
    this.version++;
    return child;
  }

  addField(node: ObjectNode, key: string): FieldNode {
    const parts = [...node.parts, key];
    const rule = ruleAt(this.spec, parts);
    const concealedBelow = this.concealed.flatMap(({ steps, conceal }) =>
      steps.length > parts.length && parts.every((part, i) => part === steps[i])
        ? [{ steps: steps.slice(parts.length), conceal }]
        : [],
    );
    const empty = { column: undefined, object: undefined, children: undefined, wide: false };
    const field: FieldNode = { key, index: node.order.length, parts, rule, concealedBelow, ...empty };
    node.fields.set(key, field);
    node.order.push(field);
    return field;
  }

  isDeclared(parts: readonly string[]): boolean {
    return this.declared.has(formatPath(parts));
  }

  putMore(table: TableShape, row: number, parts: readonly string[], value: unknown): void {
    if (!table.hasMore) {
      this.notes.push(tooManyFields(table.name, parts));
      this.version++;
    }
    const column = table.addMore();
    const held = (column.values[row] as Record<string, unknown> | undefined) ?? {};
    held[formatPath(parts)] = value;
    column.put(row, held);
  }

  /** The field at a path within a table; objects on the way are made. */
  private fieldAt(table: TableShape, own: readonly string[]): FieldNode {
    let node = table.root;
    for (const key of own.slice(0, -1)) {
      const field: FieldNode = node.fields.get(key) ?? this.addField(node, key);
      field.object ??= newObjectNode(field.parts);
      node = field.object;
    }
    const last = own[own.length - 1]!;
    return node.fields.get(last) ?? this.addField(node, last);
  }

  private restore(known: KnownColumn, keepsType: boolean): void {
    const table = this.tableAt(parsePath(known.tablePath) ?? [], known.table);
    if (known.role === "more") table.addMore();
    if (known.role !== "data") return;
    const parts = parsePath(known.path);
    if (parts === undefined) return;
    restoreColumn(table, this.fieldAt(table, parts.slice(table.parts.length)), known, keepsType);
  }

  /** The table of the lists that a path leads through; they are made where they are new, the last by a name. */
  private tableAt(parts: readonly string[], name?: string): TableShape {
    let table = this.tables[0]!;
    let from = 0;
    for (let at = 0; at < parts.length; at++) {
      if (parts[at] !== "[*]") continue;
      const field = this.fieldAt(table, parts.slice(from, at));
      const last = at === parts.length - 1;
      table = field.children ?? this.newChildTable(table, field, last ? name : undefined);
      from = at + 1;
    }
    return table;
  }
}
