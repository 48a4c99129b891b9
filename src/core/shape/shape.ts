/** A stream's shape: walks records into columns, learns types, and gives typed batches. */

import { aTypeName } from "../errors.js";
import type { ColumnBatch, TableBatch } from "./batch.js";
import { checkDeclared } from "./check-declared.js";
import { classifyColumn } from "./classify.js";
import { type ColumnType, sameSeen, sameType } from "./column-type.js";
import { recordable, rowIds } from "./concealed-values.js";
import { stoppedComing } from "./drift.js";
import { encodeColumn } from "./encode.js";
import { ExactNumber, isPlainObject } from "./exact-json.js";
import { inTableOrder } from "./life-columns.js";
import { formatPath } from "./naming.js";
import { getByPath } from "./path-get.js";
import type { Digest, StepsIn } from "./record-state.js";
import { exampleOf } from "./redacted-example.js";
import { ShapeTables } from "./shape-tables.js";
import type { Issue, KnownColumn, RecordLife, SchemaChange, Shaped, ShapeSpec } from "./shaped.js";
import { ColumnShape, type TableSchema, TableShape } from "./table-shape.js";
import { storedValue, Unfit, Walk } from "./walk.js";

const TEXT: ColumnType = { kind: "text" };

/** What records are scanned by: their tables, the stream's own first, and the columns of its key. */
export interface Scannable {
  readonly tables: readonly TableShape[];
  readonly key: readonly ColumnShape[];
  /** gives the value of that column, where records have no key */
  readonly nextRowId: (() => string) | undefined;
  /** members that are not to be passed over */
  readonly isTelling: ShapeSpec["isTelling"];
  readonly life: ScannableLife;
}

/** What a record's own row says of its life. */
export interface ScannableLife {
  /** the column of its digest, and what of it is stored */
  readonly state: ColumnShape | undefined;
  readonly stepsIn: StepsIn;
  readonly digest: Digest | undefined;
  /** what tells its states apart */
  readonly identity: ColumnShape | undefined;
  readonly validFrom: RecordLife["validFrom"];
}

/** Rows that were scanned out of bytes. */
export interface Scanned {
  readonly batches: readonly TableBatch[];
  readonly filled: readonly ScannedRows[];
}

/** Rows of a table, and for each of its data columns behind which of them it has no value any more. */
export interface ScannedRows {
  readonly table: TableShape;
  readonly rows: number;
  readonly last: ReadonlyMap<ColumnShape, number>;
}

/** The shape of one stream: fed with pages of records, it gives typed batches and the tables' schema as it grows. */
export class Shape {
  private readonly tables: ShapeTables;
  private readonly keyColumns: readonly ColumnShape[];
  /** keys of records that are gone; its columns follow those of the stream's own table */
  private readonly removed: TableShape;
  /** names records that have no key */
  private readonly nextRowId: (() => string) | undefined;

  constructor(
    readonly spec: ShapeSpec,
    known: readonly KnownColumn[] = [],
  ) {
    this.tables = new ShapeTables(spec, known);
    this.keyColumns = this.tables.keyColumns;
    this.nextRowId = spec.key.length === 0 ? rowIds(spec.load) : undefined;
    this.removed = new TableShape(this.tables.root.name, [], spec.names, []);
    for (const key of this.keyColumns)
      this.removed.addColumn(new ColumnShape(key.name, key.path, "data", key.rule, key));
  }

  /** counts up whenever a table, a column or a type changes */
  get version(): number {
    return this.tables.version;
  }

  /** whether records have told what they are like */
  get hasRows(): boolean {
    return this.tables.root.rowsSoFar > 0;
  }

  /** The tables and columns that have a type by now, in a stable order. */
  schema(): TableSchema[] {
    return this.tables.all.map((table) => ({
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
                came: column.came,
                missingRows: column.missingRows,
                hasStopped: column.hasStopped,
              },
            ],
      ),
    }));
  }

  private linksOf(table: TableShape): readonly ColumnShape[] {
    if (table.parts.length > 0) return table.links;
    const { identity } = this.tables.life;
    return identity === undefined ? this.keyColumns : [...this.keyColumns, identity];
  }

  /** Walks one page of records. Records that cannot be stored come back as issues; the others go on. */
  shapeRecords(records: readonly unknown[]): Shaped {
    const issues: Issue[] = [];
    const skip = new Set<number>();
    let again: boolean;
    do {
      again = this.walkRecords(records, skip, issues);
      this.tables.declareColumns();
      this.tables.nameNew();
      const found = issues.length;
      if (!again) checkDeclared(this.everyTable(), records, skip, issues);
      again ||= issues.length > found;
    } while (again);
    // what was removed has a say in the key's type
    for (const [i, column] of this.removed.columns.entries())
      this.learnType(this.keyColumns[i]!, column.values);
    const batches = this.tables.all.flatMap((table) => this.encodeTable(table) ?? []);
    return {
      batches,
      removed: this.encodeTable(this.removed),
      issues: this.hide(issues),
      drift: this.tables.drift.take(),
    };
  }

  /** What records are scanned by, out of their bytes; no tables where each record has to be looked at. */
  get scannable(): Scannable {
    const { isTelling } = this.spec;
    const { all, life, stepsIn, concealed } = this.tables;
    const { state, identity } = life;
    // a digest is made of what is stored
    const isScanned = state === undefined || concealed.length === 0;
    return {
      tables: isScanned ? all : [],
      key: this.keyColumns,
      nextRowId: this.nextRowId,
      isTelling,
      life: { state, stepsIn, digest: life.life.digest, identity, validFrom: life.life.validFrom },
    };
  }

  /** Rows that were scanned: they are as the tables have them. */
  scanned({ batches, filled }: Scanned): Shaped {
    const { drift } = this.tables;
    for (const { table, rows, last } of filled) {
      table.rowsSoFar += rows;
      for (const column of table.columns)
        if (column.role === "data") drift.watch(table.name, column, rows, last.get(column) ?? 0);
    }
    return { batches, removed: undefined, issues: [], drift: drift.take() };
  }

  /** What has stopped coming, at the end of a run. `isWhole`: the run has read all that the API has. */
  stopped(isWhole: boolean): readonly SchemaChange[] {
    return this.tables.all.flatMap((table) =>
      table.columns.flatMap((column) => stoppedComing(table, column, isWhole) ?? []),
    );
  }

  /**
   * The keys of records that are there, as columns of the stream's own table, in the types that those have by now;
   * undefined where one has no key, or one of another type.
   */
  shapeKeys(records: readonly unknown[]): TableBatch | undefined {
    const keys = records.map((record) => (isPlainObject(record) ? this.keyOf(record) : ""));
    const columns: ColumnBatch[] = [];
    for (const [k, { name, type = TEXT }] of this.keyColumns.entries()) {
      const values = keys.map((key) => (typeof key === "string" ? undefined : key[k]));
      const { column, misfits } = encodeColumn(name, type, values, values.length);
      if (misfits.length > 0 || values.includes(undefined)) return undefined;
      columns.push(column);
    }
    const recordOf = Int32Array.from(records, (_, i) => i);
    return { table: this.tables.root.name, rows: records.length, recordOf, columns };
  }

  /** What there is to tell of the data's form since the last call. */
  takeNotes(): readonly string[] {
    return this.tables.takeNotes();
  }

  /** What is not to be seen stands in no record of the quarantine; shaped again, it gives the same rows. */
  hide(issues: readonly Issue[]): readonly Issue[] {
    const { concealed } = this.tables;
    if (concealed.length === 0) return issues;
    return issues.map((issue) => ({ ...issue, record: recordable(issue.record, concealed) }));
  }

  /** Whether a record turned out to nest too deep: then the others are to be walked again without it. */
  private walkRecords(records: readonly unknown[], skip: Set<number>, issues: Issue[]): boolean {
    for (const table of this.everyTable()) table.clearRows();
    const { root, life } = this.tables;
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
        new Walk(this.tables, i, [...key, ...life.put(record, row)]).object(root.root, record, root, row, 0);
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
    if (this.nextRowId !== undefined) return [this.nextRowId()];
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
    return [...this.tables.all, this.removed];
  }

  /** The table's rows of this page; undefined where it has none. */
  private encodeTable(table: TableShape): TableBatch | undefined {
    for (const column of table.columns) this.learnType(column);
    for (const { field, row } of table.emptyLists) {
      // that a list is empty does not say what kind of column the field has
      const isJson = field.column?.type?.kind === "json";
      if (isJson && field.column?.values[row] === undefined) field.column?.put(row, []);
    }
    const columns: ColumnBatch[] = [];
    for (const column of table.columns) {
      if (column.role === "data") this.tables.drift.watch(table.name, column, table.rows);
      if (column.type === undefined || table.rows === 0) continue;
      columns.push(
        column.encoded ?? encodeColumn(column.name, column.type, column.values, table.rows).column,
      );
    }
    if (table.rows === 0) return undefined;
    table.rowsSoFar += table.rows;
    return { table: table.name, rows: table.rows, recordOf: Int32Array.from(table.recordOf), columns };
  }

  private learnType(column: ColumnShape, values: readonly unknown[] = column.values): void {
    const { type, seen } = column;
    if (column.source !== undefined) column.type = column.source.type;
    else if (column.rule.type === undefined) {
      column.learn(classifyColumn(values, column.seen));
      if (!sameType(type, column.type)) {
        column.example = exampleOf(values, column);
        this.tables.drift.checkType(column, type, column.example);
      }
    }
    // what was seen decides later widenings: the ledger must learn of it even where the type stays
    if (!sameType(type, column.type) || !sameSeen(seen, column.seen)) this.tables.version++;
  }
}
