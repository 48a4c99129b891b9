/** What a stream of a connector file says: a part of the connector's schema. */

import * as z from "zod";
import { durationSign, isDuration } from "../language/duration.js";
import { oneMethod, requestKeys } from "./ask-schema.js";
import { columnsSchema, fieldsSchema, roomSchema } from "./column-schema.js";
import {
  breakdownKeys,
  eachSchema,
  expandSchema,
  instantFormat,
  listsSchema,
  reportSchema,
  sweepSchema,
  windowsSchema,
} from "./parts-schema.js";
import { all, exactlyOne, has, needs, noTwo } from "./schema-facets.js";
import {
  conditionText,
  duration,
  expressionText,
  fieldPath,
  filled,
  jsonPathText,
  nameText,
} from "./text-schemas.js";

/** A text is any value, unless it is plainly meant as a duration. */
function isStart(text: string): boolean {
  return /^[+-]P/.test(text) || isDuration(text) ? durationSign(text) < 0 : true;
}

const cursorSchema = z
  .strictObject({
    field: fieldPath.optional().describe("The record's field that grows with every change"),
    delta: z
      .union([jsonPathText, z.literal(true)])
      .optional()
      .describe(
        "Where the last page gives a token or address for the next run's changes; true: where OData has it",
      ),
    last_run: z.literal(true).optional().describe("Asks for what has changed since the last whole run began"),
    query: z
      .string()
      .optional()
      .describe("The query parameter that asks for records after a value; or write {since} elsewhere"),
    start: z
      .union([z.string().refine(isStart, "must be a value, or a duration before now such as -P90D"), z.int()])
      .optional()
      .describe(
        "Where the first run begins: a value, sent as it stands, or a duration before now such as -P90D",
      ),
    overlap: z
      .union([duration, z.int().min(0)])
      .optional()
      .describe(
        "Asked for again before the cursor: a duration (default PT1S), or a number for numeric fields",
      ),
    order: z
      .enum(["ascending", "descending", "any"])
      .default("any")
      .describe(
        "ascending: a broken-off run goes on by value; descending: reading stops where what is known begins",
      ),
    bounds: z
      .enum(["inclusive", "exclusive"])
      .default("exclusive")
      .describe("inclusive: the API gives records at the value as well, so none need be asked for again"),
    format: instantFormat,
  })
  .superRefine((cursor, context) => {
    const kinds = (["field", "delta", "last_run"] as const).filter((kind) => cursor[kind] !== undefined);
    if (kinds.length !== 1)
      context.addIssue({ code: "custom", message: "must hold one of field, delta or last_run" });
  })
  .meta(exactlyOne("field", "delta", "last_run"))
  .describe("How the API is asked for changes only")
  .meta({ id: "Cursor" });

export const streamSchema = z
  .strictObject({
    title: z.string().optional().describe("A name for people"),
    set: z
      .string()
      .min(1)
      .optional()
      .describe("An entity set of an OData service: fields, types, key and paging come from its metadata"),
    ...requestKeys,
    report: reportSchema.optional(),
    lists: listsSchema,
    each: eachSchema.optional(),
    windows: windowsSchema.optional(),
    ...breakdownKeys,
    records: z
      .union([jsonPathText, z.array(jsonPathText).min(1)])
      .default("$[*]")
      .describe("Where the records are in a page; several places are read one after the other"),
    expand: expandSchema.optional(),
    where: conditionText("record")
      .optional()
      .describe("Records for which this CEL condition over record does not hold are left out"),
    sweep: sweepSchema.optional(),
    gone: conditionText("record")
      .optional()
      .describe(
        "Records for which this CEL condition over record holds tell that one is gone: it is removed",
      ),
    add: z
      .record(nameText, z.union([filled, z.number(), z.boolean()]))
      .default({})
      .describe("Fields put into every record: constants, or {name} of settings and parts"),
    compute: z
      .record(nameText, expressionText)
      .default({})
      .describe("Fields put into every record, each the value of a CEL expression over record"),
    cursor: cursorSchema.optional(),
    key: z
      .union([fieldPath, z.array(fieldPath).min(1)])
      .optional()
      .describe("The field, or fields, that identify a record"),
    columns: columnsSchema,
    fields: fieldsSchema.optional(),
    room: roomSchema.optional(),
    rate_limit: z
      .strictObject({
        group: nameText.optional().describe("One of api.rate_limit.groups"),
        cost: z.number().positive().default(1).describe("What one request counts in the limits"),
      })
      .optional()
      .describe("What this stream's requests count in the account's limits"),
  })
  .superRefine((stream, context) => {
    oneMethod(stream, context, "get, post, report or set");
    if (stream.windows !== undefined && stream.cursor !== undefined)
      context.addIssue({
        code: "custom",
        message: "does not go with windows: they are the cursor",
        path: ["cursor"],
      });
    if (stream.sweep !== undefined && stream.key === undefined && stream.set === undefined)
      context.addIssue({
        code: "custom",
        message: "needs a key: what is gone is found by it",
        path: ["sweep"],
      });
    const { cursor } = stream;
    if (stream.sweep?.reach !== undefined && (cursor?.field === undefined || cursor.query === undefined))
      context.addIssue({
        code: "custom",
        message: "needs a cursor with field and query: the API is asked from there on",
        path: ["sweep", "reach"],
      });
    if (stream.sweep?.part !== undefined && Object.keys(stream.each ?? {}).length !== 1)
      context.addIssue({
        code: "custom",
        message: "needs an each of one name: its values are compared with the field's",
        path: ["sweep", "part"],
      });
    if (stream.pages?.overlap !== undefined && stream.key === undefined)
      context.addIssue({
        code: "custom",
        message: "needs a key: records that come again are known by it",
        path: ["pages", "overlap"],
      });
    if (stream.gone !== undefined && stream.key === undefined && stream.set === undefined)
      context.addIssue({ code: "custom", message: "needs a key: a row is removed by it", path: ["gone"] });
    const isForSets = "is for entity sets: write set instead of get";
    if (stream.pages?.keyset !== undefined && stream.set === undefined)
      context.addIssue({ code: "custom", message: isForSets, path: ["pages", "keyset"] });
    if (stream.expand?.batch !== undefined && stream.set === undefined)
      context.addIssue({ code: "custom", message: isForSets, path: ["expand", "batch"] });
    for (const [name, source] of Object.entries(stream.each ?? {}))
      if (!Array.isArray(source) && "ranges" in source && stream.set === undefined)
        context.addIssue({ code: "custom", message: isForSets, path: ["each", name, "ranges"] });
    if (stream.report !== undefined && stream.pages !== undefined)
      context.addIssue({
        code: "custom",
        message: "does not go with report: it is one download",
        path: ["pages"],
      });
  })
  .meta(
    all(
      exactlyOne("get", "post", "report", "set"),
      needs("body", "post"),
      noTwo("windows", "cursor"),
      noTwo("report", "pages"),
      ...["gone", "sweep"].map((by) => ({
        not: { allOf: [has(by), { not: has("key") }, { not: has("set") }] },
      })),
      {
        not: {
          allOf: [
            { properties: { pages: { type: "object", ...has("overlap") } }, required: ["pages"] },
            { not: has("key") },
          ],
        },
      },
      {
        not: {
          allOf: [
            { not: has("set") },
            {
              anyOf: [
                { properties: { pages: { type: "object", ...has("keyset") } }, required: ["pages"] },
                { properties: { expand: { type: "object", ...has("batch") } }, required: ["expand"] },
                {
                  properties: {
                    each: {
                      type: "object",
                      not: { additionalProperties: { not: { type: "object", ...has("ranges") } } },
                    },
                  },
                  required: ["each"],
                },
              ],
            },
          ],
        },
      },
    ),
  )
  .describe("A series of records of one kind")
  .meta({ id: "Stream" });
