/** What happens when the API's data has changed its form since the tables were made. */

import { BridgeError } from "../errors.js";
import { type ColumnType, formatColumnType } from "./column-type.js";
import type { DriftPolicy } from "./drift-policy.js";
import { formatPath } from "./naming.js";
import { redactedExample } from "./redacted-example.js";
import type { SchemaChange } from "./shaped.js";
import { MAP_STEP } from "./steps.js";
import type { ColumnShape, FieldNode, TableShape } from "./table-shape.js";

/** Decides over what is new, and notes what was left out. */
export class Drift {
  private readonly ignored = new Set<string>();
  private notes: SchemaChange[] = [];

  /** `isStanding`: there are tables; else nothing is new. */
  constructor(
    readonly policy: DriftPolicy,
    private readonly isStanding: boolean,
  ) {}

  /** What was left out since it was taken last; undefined: nothing. */
  take(): readonly SchemaChange[] | undefined {
    const { notes } = this;
    if (notes.length === 0) return undefined;
    this.notes = [];
    return notes;
  }

  /** @throws BridgeError DRIFT_STOPPED */
  mayAddColumn(table: TableShape, field: FieldNode, value: unknown): boolean {
    if (!this.isStanding || table.isNew || this.policy.new_column === "add") return true;
    const path = formatPath(field.parts);
    const example = field.rule.conceal === undefined ? redactedExample(value) : undefined;
    if (this.policy.new_column === "stop")
      throw stopped(`Table ${table.name} has no column for the field ${path}${suchAs(example)}.`, table.name);
    this.ignore({ table: table.name, column: undefined, change: "column_ignored", path, example });
    return false;
  }

  /** @throws BridgeError DRIFT_STOPPED */
  mayAddTable(parent: TableShape, parts: readonly string[]): boolean {
    if (!this.isStanding || parent.isNew || this.policy.new_table === "add") return true;
    const path = formatPath(parts);
    const what = parts.at(-1) === MAP_STEP ? "map" : "list";
    if (this.policy.new_table === "stop")
      throw stopped(`There is no table for the ${what} ${path} of ${parent.name}.`, parent.name);
    this.ignore({ table: parent.name, column: undefined, change: "table_ignored", path });
    return false;
  }

  /** @throws BridgeError DRIFT_STOPPED */
  checkType(column: ColumnShape, before: ColumnType | undefined, example: string | undefined): void {
    if (this.policy.type_change !== "stop" || column.standing === undefined || before === undefined) return;
    const [from, to] = [before, column.type!].map(formatColumnType);
    throw stopped(`Column ${column.name} is ${from}, and ${to} is needed for what came${suchAs(example)}.`);
  }

  /**
   * Notes of a column's values on one page how long none has come, and that they come again. `last`: behind which row
   * there is none.
   */
  watch(table: string, column: ColumnShape, rows: number, last = column.values.length): void {
    column.missingRows = last === 0 ? column.missingRows + rows : rows - last;
    if (last === 0) return;
    column.came = true;
    if (!column.hasStopped) return;
    column.hasStopped = false;
    const { name, path, standing, type } = column;
    const [fromType, toType] = [standing, type].map((each) => each && formatColumnType(each));
    this.notes.push({ table, column: name, change: "column_returned", fromType, toType, path });
  }

  private ignore(change: SchemaChange): void {
    const name = `${change.change} ${change.path}`;
    if (this.ignored.has(name)) return;
    this.ignored.add(name);
    this.notes.push(change);
  }
}

/** So many rows without a value, over runs, are no chance; of a table that was read whole, these. */
const STOPPED_ROWS = 1000;
const STOPPED_ROWS_OF_WHOLE = 20;

/** That a column had values once and has none any more; told once. */
export function stoppedComing(
  { name: table, rowsSoFar }: TableShape,
  column: ColumnShape,
  isWhole: boolean,
): SchemaChange | undefined {
  const { came, missingRows, hasStopped, standing, name, path, role } = column;
  const isLong = missingRows >= STOPPED_ROWS || (isWhole && !came && rowsSoFar >= STOPPED_ROWS_OF_WHOLE);
  if (role !== "data" || standing === undefined || hasStopped || !isLong) return undefined;
  column.hasStopped = true;
  return { table, column: name, change: "column_stopped", fromType: formatColumnType(standing), path };
}

function suchAs(example: string | undefined): string {
  return example === undefined ? "" : `, such as ${example}`;
}

function stopped(message: string, table?: string): BridgeError {
  return new BridgeError("DRIFT_STOPPED", message, { where: { table } });
}
