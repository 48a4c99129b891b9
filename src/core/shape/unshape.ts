/** Records built again from the tables that they became: the way back, by the paths that the ledger keeps. */

import { parseExactJson } from "./exact-json.js";
import { formatPath, parsePath } from "./naming.js";
import { levelsOf } from "./place-names.js";
import { keyOfStep, MAP_STEP } from "./steps.js";
import type { ColumnSchema, TableSchema } from "./table-shape.js";

/** A table with its rows: values as `batchRows` gives them, by column name. */
export interface FilledTable extends Pick<TableSchema, "path" | "recordKey"> {
  readonly columns: readonly Pick<ColumnSchema, "name" | "path" | "role" | "type">[];
  readonly rows: readonly Readonly<Record<string, unknown>>[];
}

/**
 * The records that a stream's tables hold, in the order of the stream's own table, which comes first.
 *
 * They are as they were but for what tables do not tell apart: fields that are null or missing; objects and lists that
 * are empty, and nulls in their place within a list; the order of keys; forms of one instant; and values of several
 * kinds in one field, which all are texts. What was hashed, masked, dropped or left out does not come back.
 */
export function unshape(tables: readonly FilledTable[]): unknown[] {
  const [root, ...others] = tables;
  if (root === undefined) return [];
  const records = new Map<string, Place>();
  const rootKey = keyOf(root);
  for (const row of root.rows) {
    const record = new Place();
    fill(record, root, row, 0);
    records.set(rootKey(row), record);
  }
  for (const table of others) addItems(table, records);
  return [...records.values()].map((record) => record.toValue() ?? {});
}

/** A value that is being put together: what it is shows by what is put into it. */
class Place {
  private value: unknown;
  private readonly fields = new Map<string, Place>();
  private readonly items = new Map<number, Place>();

  put(value: unknown): void {
    this.value = value;
  }

  at(step: number | string): Place {
    const inner = typeof step === "number" ? this.items : this.fields;
    const known = (inner as Map<number | string, Place>).get(step);
    if (known !== undefined) return known;
    const place = new Place();
    (inner as Map<number | string, Place>).set(step, place);
    return place;
  }

  /** Undefined where nothing was put into it. */
  toValue(): unknown {
    if (this.items.size > 0) {
      const length = [...this.items.keys()].reduce((most, place) => Math.max(most, place), 0) + 1;
      return Array.from({ length }, (_, i) => this.items.get(i)?.toValue() ?? null);
    }
    if (this.fields.size === 0) return this.value;
    const fields = [...this.fields].map(([key, place]) => [key, place.toValue()] as const);
    return Object.fromEntries(fields.map(([key, value]) => [key, value ?? null]));
  }
}

/** Puts what a row holds of its item into the item's place. */
function fill(item: Place, table: FilledTable, row: Readonly<Record<string, unknown>>, above: number): void {
  for (const { name, path, role, type } of table.columns) {
    const stored = row[name];
    if (stored === null || stored === undefined) continue;
    if (role === "data") at(item, stepsOf(path).slice(above)).put(jsonValue(stored, type.kind));
    if (role !== "more") continue;
    const more = parseExactJson(String(stored)) as Record<string, unknown>;
    for (const [inner, value] of Object.entries(more)) at(item, stepsOf(inner).slice(above)).put(value);
  }
}

/** The places of a child table's rows: each in its list or map, which stands in an item of the table above. */
function addItems(table: FilledTable, records: ReadonlyMap<string, Place>): void {
  const steps = stepsOf(table.path);
  const recordKey = keyOf(table);
  const levels = levelColumns(table, steps);
  for (const row of table.rows) {
    let place = records.get(recordKey(row));
    if (place === undefined) continue;
    for (const { own, isMap, placeColumn, withinColumn } of levels) {
      const within = withinColumn === undefined ? null : row[withinColumn];
      const outer = typeof within === "string" ? within.split("/").map(pointerKey) : [];
      for (const step of [...outer, String(row[placeColumn])])
        place = at(place, own).at(isMap ? step : Number(step));
    }
    fill(place, table, row, steps.length);
  }
}

interface Level {
  /** from the item above to the list or map */
  readonly own: readonly string[];
  readonly isMap: boolean;
  readonly placeColumn: string;
  readonly withinColumn: string | undefined;
}

/** By level, the columns that say where a row stands: their path is that of the list or map. */
function levelColumns({ columns }: FilledTable, steps: readonly string[]): Level[] {
  let from = 0;
  return levelsOf(steps).map((level) => {
    const path = formatPath(level);
    const nameOf = (...roles: string[]) =>
      columns.find((column) => column.path === path && roles.includes(column.role))?.name;
    const own = steps.slice(from, level.length - 1);
    from = level.length;
    const placeColumn = nameOf("position", "map_key")!;
    return { own, isMap: level.at(-1) === MAP_STEP, placeColumn, withinColumn: nameOf("within") };
  });
}

function at(place: Place, steps: readonly string[]): Place {
  return steps.reduce((inner, step) => inner.at(keyOfStep(step)), place);
}

function keyOf({ recordKey }: FilledTable): (row: Readonly<Record<string, unknown>>) => string {
  return (row) => JSON.stringify(recordKey.map((name) => String(row[name])));
}

function stepsOf(path: string): readonly string[] {
  return parsePath(path) ?? [];
}

/** A step as RFC 6901, section 4 reads it. */
function pointerKey(step: string): string {
  return step.replaceAll("~1", "/").replaceAll("~0", "~");
}

/** A value as JSON had it. */
function jsonValue(stored: unknown, kind: ColumnSchema["type"]["kind"]): unknown {
  if (kind === "json" || kind === "decimal") return parseExactJson(String(stored));
  if (typeof stored === "bigint" && stored <= Number.MAX_SAFE_INTEGER && stored >= Number.MIN_SAFE_INTEGER)
    return Number(stored);
  return stored;
}
