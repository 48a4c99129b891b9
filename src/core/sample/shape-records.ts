/** Records into tables, with no warehouse: for scripts, pages in a browser and tests. */

import * as z from "zod";
import { checkValue } from "../define/check.js";
import { columnsSchema, fieldsSchema, roomSchema } from "../define/column-schema.js";
import { codeSource } from "../define/connector.js";
import { fieldPath, nameText } from "../define/text-schemas.js";
import { batchRows } from "../shape/batch-rows.js";
import { fieldParts } from "../shape/naming.js";
import { Shape } from "../shape/shape.js";
import type { Issue } from "../shape/shaped.js";
import type { TableSchema } from "../shape/table-shape.js";
import { wantedFields } from "../shape/wanted-fields.js";
import { compileColumns } from "../stream/compile-stream.js";
import { ANY_NAMES } from "../stream/shape-of.js";

const optionsSchema = z.strictObject({
  name: nameText.default("records"),
  key: z.union([fieldPath, z.array(fieldPath)]).default([]),
  columns: columnsSchema,
  fields: fieldsSchema.optional(),
  room: roomSchema.optional(),
});

/** How records become tables: as a connector's stream says it. */
export type ShapeOptions = z.input<typeof optionsSchema>;

/** A table with its rows: values as `batchRows` gives them. */
export interface ShapedTable extends TableSchema {
  readonly rows: readonly Readonly<Record<string, unknown>>[];
}

/** What records became. */
export interface ShapedRecords {
  /** the records' own first, then those of their lists and maps */
  readonly tables: readonly ShapedTable[];
  /** records that cannot be stored as their tables demand */
  readonly issues: readonly Issue[];
  /** what there is to tell of the data's form */
  readonly notes: readonly string[];
}

/**
 * Shapes records as a run does; they are kept in memory.
 * @throws BridgeError CONFIG_INVALID, CONFIG_UNKNOWN_KEY for options that cannot be
 */
export function shape(records: Iterable<unknown>, options: ShapeOptions = {}): ShapedRecords {
  const { name, key, columns, fields, room } = checkValue(optionsSchema, options, codeSource("options"));
  const keys = [key].flat().map(fieldParts);
  const shaping = new Shape({
    stream: name,
    key: keys,
    columns: compileColumns(columns),
    isWanted: fields && wantedFields(fields, keys),
    names: ANY_NAMES,
    takenTables: new Set(),
    room,
  });
  const { batches, issues } = shaping.shapeRecords([...records]);
  const rows = new Map(batches.map((batch) => [batch.table, batchRows(batch)]));
  const tables = shaping.schema().map((table) => ({ ...table, rows: rows.get(table.name) ?? [] }));
  return { tables, issues, notes: shaping.takeNotes() };
}
