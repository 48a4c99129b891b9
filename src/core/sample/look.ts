/** A sample of a stream's records, looked at as a run would: tables, fields, quarantine, and what rules decide. */

import { pageOfRecords } from "../ask/read-page.js";
import { applyRules } from "../ask/record-rules.js";
import type { Condition, Decided } from "../language/condition.js";
import { batchRows } from "../shape/batch-rows.js";
import { formatColumnType } from "../shape/column-type.js";
import {
  concealedIn,
  concealedPaths,
  type FieldSteps,
  recordable,
  withoutAt,
} from "../shape/concealed-values.js";
import { isPlainObject } from "../shape/exact-json.js";
import { parsePath } from "../shape/naming.js";
import { getByPath } from "../shape/path-get.js";
import type { Issue } from "../shape/shaped.js";
import type { ColumnRule, ColumnSchema } from "../shape/table-shape.js";
import type { CompiledStream } from "../stream/compile-stream.js";
import { ANY_NAMES, shapeOf } from "../stream/shape-of.js";
import { type FieldStats, fieldStatsOf } from "./field-stats.js";

/** A table that the records become. */
export interface SampleTable {
  readonly name: string;
  readonly columns: readonly (Pick<ColumnSchema, "name" | "path" | "role" | "declared" | "description"> & {
    /** as users write it, such as decimal(12,2) */
    readonly type: string;
  })[];
  readonly rows: readonly Readonly<Record<string, unknown>>[];
}

/** What `where` makes of one record; `record` counts from 0 in the sample. */
export interface Decision extends Decided {
  readonly record: number;
  /** its key's values, as far as it has them */
  readonly key: readonly unknown[];
}

/** What a sample shows. */
export interface LookedAt {
  readonly tables: readonly SampleTable[];
  /** over all records of the sample, those that rules leave out as well */
  readonly fields: readonly FieldStats[];
  readonly quarantined: readonly Issue[];
  /** empty where the stream has no `where` */
  readonly decisions: readonly Decision[];
  /** records that are left out, by `where` or by the connector's own `keep` */
  readonly leftOut: number;
  /** the records as they may be shown: what is not to be seen concealed, what has no column left out */
  readonly records: readonly unknown[];
}

/** Looks at records as they come from the API, before any rule. */
export function lookAt(stream: CompiledStream, records: readonly unknown[]): LookedAt {
  const { key, columns, isRemoval, isControl, faultOf, where, compute, code } = stream;
  const page = applyRules(pageOfRecords(records, 0), {
    where,
    keep: code?.keep,
    add: {},
    compute,
    faultOf,
    isRemoval,
  });
  const shape = shapeOf(stream, { names: ANY_NAMES });
  const rows = new Map<string, Record<string, unknown>[]>();
  const quarantined: Issue[] = [];
  for (const { batches, issues } of page.shape(shape)) {
    for (const batch of batches) {
      const table = rows.get(batch.table) ?? [];
      rows.set(batch.table, table);
      for (const row of batchRows(batch)) table.push(row);
    }
    quarantined.push(...issues);
  }
  const shownRecords =
    isControl === undefined ? records : records.map((each) => withoutControl(each, isControl));
  return {
    tables: shape.schema().map((table) => ({
      name: table.name,
      columns: table.columns.map(({ name, path, role, declared, description: words, type }) => ({
        name,
        path,
        role,
        declared,
        description: words,
        type: formatColumnType(type),
      })),
      rows: rows.get(table.name) ?? [],
    })),
    fields: fieldStatsOf(shownRecords, columns),
    quarantined: quarantined.map((issue) => ({ ...issue, record: shown(issue.record, columns) })),
    decisions: where === undefined ? [] : records.flatMap((record, i) => decision(where, record, i, key)),
    leftOut: page.leftOut,
    records: records.map((record) => shown(record, columns)),
  };
}

/** A record as it may be kept: what is not to be seen concealed, what has no column left out. */
export function keepable(record: unknown, columns: ReadonlyMap<string, ColumnRule>): unknown {
  return skippedPaths(columns).reduce(withoutAt, recordable(record, concealedPaths(columns)));
}

function shown(record: unknown, columns: ReadonlyMap<string, ColumnRule>): unknown {
  return skippedPaths(columns).reduce(withoutAt, concealedIn(record, concealedPaths(columns)));
}

function skippedPaths(columns: ReadonlyMap<string, ColumnRule>): FieldSteps[] {
  return [...columns].flatMap(([path, { skip }]) => (skip === true ? [parsePath(path) ?? []] : []));
}

function withoutControl(record: unknown, isControl: (name: string) => boolean): unknown {
  if (!isPlainObject(record)) return record;
  return Object.fromEntries(Object.entries(record).filter(([name]) => !isControl(name)));
}

function decision(where: Condition, record: unknown, index: number, key: CompiledStream["key"]): Decision[] {
  if (!isPlainObject(record)) return [];
  const values = key.map((steps) => getByPath(record, steps));
  return [{ record: index, key: values, ...where.decidedBy({ record }) }];
}
