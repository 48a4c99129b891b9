/** A sample of a stream's records, looked at as a run would: tables, fields, quarantine, and what rules decide. */

import { applyRules, pageOfRecords } from "../ask/read-page.js";
import type { Condition, Decided } from "../language/condition.js";
import { batchRows } from "../shape/batch-rows.js";
import { formatColumnType } from "../shape/column-type.js";
import { isPlainObject } from "../shape/exact-json.js";
import { type FieldSteps, hashedAt, hashedPaths, markedAt, withoutAt } from "../shape/hashed-values.js";
import { parsePath } from "../shape/naming.js";
import { getByPath } from "../shape/path-get.js";
import { Shape } from "../shape/shape.js";
import type { Issue } from "../shape/shaped.js";
import type { ColumnRule, ColumnSchema } from "../shape/table-shape.js";
import type { CompiledStream } from "../stream/compile-stream.js";
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
  /** the records as they may be shown: hashed columns as hashes, skipped ones left out */
  readonly records: readonly unknown[];
}

/** Names are as long as they like: no warehouse is there to limit them. */
const NAMES = { maxBytes: Number.MAX_SAFE_INTEGER };

/** Looks at records as they come from the API, before any rule. */
export function lookAt(stream: CompiledStream, records: readonly unknown[]): LookedAt {
  const { key, columns, description, isRemoval, isControl, faultOf, where, code } = stream;
  const page = applyRules(pageOfRecords(records, 0), {
    where,
    keep: code?.keep,
    add: {},
    faultOf,
    isRemoval,
  });
  const spec = { stream: stream.name, description, key, columns, names: NAMES, isRemoval, isControl };
  const shape = new Shape({ ...spec, takenTables: new Set() });
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
  const own = isControl === undefined ? records : records.map((each) => withoutControl(each, isControl));
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
    fields: fieldStatsOf(own, columns),
    quarantined: quarantined.map((issue) => ({ ...issue, record: shown(issue.record, columns) })),
    decisions: where === undefined ? [] : records.flatMap((record, i) => decision(where, record, i, key)),
    leftOut: page.leftOut,
    records: records.map((record) => shown(record, columns)),
  };
}

/** A record as it may be kept: hashed columns as marked hashes, skipped ones left out. */
export function keepable(record: unknown, columns: ReadonlyMap<string, ColumnRule>): unknown {
  return skippedPaths(columns).reduce(withoutAt, hashedPaths(columns).reduce(markedAt, record));
}

function shown(record: unknown, columns: ReadonlyMap<string, ColumnRule>): unknown {
  return skippedPaths(columns).reduce(withoutAt, hashedPaths(columns).reduce(hashedAt, record));
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
