/** How fields become columns: the part of a stream's schema that a bridge may also give. */

import * as z from "zod";
import { parseColumnType, TYPE_PATTERN, TYPE_WORDS } from "../shape/column-type.js";
import { ROOM } from "../shape/table-shape.js";
import { has, noTwo } from "./schema-facets.js";
import { fieldPath, nameText } from "./text-schemas.js";

const oneSign = z.string().length(1);
const words = z.array(z.string()).min(1);

/** How values are written, where it is not as JSON and RFC 3339 have them. */
export const formSchema = z
  .strictObject({
    time: z
      .enum(["seconds", "milliseconds", "/Date/"])
      .optional()
      .describe("Since 1970, or as /Date(milliseconds)/"),
    pattern: z
      .string()
      .min(1)
      .optional()
      .describe("Of dates and times, by Unicode's letters: dd.MM.yyyy HH:mm"),
    zone: z
      .string()
      .min(1)
      .optional()
      .describe("IANA time zone of times that have none, such as Europe/Vienna"),
    decimal: oneSign.optional().describe("The sign before the fraction of a number"),
    thousands: oneSign.optional().describe("The sign between groups of three digits"),
    yes: words.optional().describe("Words that mean true, in upper or lower case"),
    no: words.optional().describe("Words that mean false"),
  })
  .refine((form) => Object.keys(form).length > 0, "must say something of how values are written")
  .meta({ minProperties: 1, ...noTwo("time", "pattern") })
  .superRefine(({ time, pattern }, context) => {
    if (time !== undefined && pattern !== undefined)
      context.addIssue({ code: "custom", message: "does not go with time", path: ["pattern"] });
  })
  .describe("How values are written, where not as JSON and RFC 3339 have them")
  .meta({ id: "Form" });

/** What keeps values from being seen: one of them at most. */
const CONCEALING = ["hash", "mask", "drop"] as const;

/** What is said of single values does not go with what objects and lists become. */
const AS_EXCLUDES = ["type", "form", "hash", "mask", "drop"] as const;

const isSaid = (key: string) => ({ properties: { [key]: { not: { const: false } } }, required: [key] });
const notBoth = (...both: readonly object[]) => ({ not: { allOf: both } });

export const columnSchema = z
  .strictObject({
    type: z
      .string()
      .refine((text) => parseColumnType(text) !== undefined, `must be one of ${TYPE_WORDS.join(", ")}`)
      .meta({ pattern: TYPE_PATTERN })
      .optional()
      .describe(`One of ${TYPE_WORDS.join(", ")}; it wins over what is inferred`),
    as: z
      .enum(["table", "map", "columns", "json"])
      .optional()
      .describe(
        "What it becomes, whatever it comes as: rows of a table of its own, rows by an object's keys, columns, json",
      ),
    form: formSchema.optional(),
    name: nameText
      .refine((name) => !name.startsWith("eb_"), "must not begin with eb_: such names are our own")
      .meta({ pattern: "^(?!eb_)[a-z][a-z0-9_]*$" })
      .optional()
      .describe("Another name for the column, or for the table of a list"),
    hash: z
      .boolean()
      .optional()
      .describe("Store HMAC-SHA-256 under the account's hash_secret, or SHA-256 where it has none"),
    mask: z
      .int()
      .min(0)
      .max(64)
      .optional()
      .describe("Store *** and so many of the last signs: mask: 4 makes ***1234"),
    drop: z
      .boolean()
      .optional()
      .describe("Make no column of it; its values are in no quarantine, recording or message either"),
    description: z
      .string()
      .min(1)
      .optional()
      .describe("What it holds, in words: the column's comment where the warehouse has such"),
  })
  .superRefine((column, context) => {
    const [first, second] = CONCEALING.filter((key) => column[key] !== undefined && column[key] !== false);
    if (second !== undefined)
      context.addIssue({ code: "custom", message: `does not go with ${first}`, path: [second] });
    if (first === undefined) return;
    if (column.type !== undefined && column.type !== "text")
      context.addIssue({
        code: "custom",
        message: `${first} makes a text: leave type out, or say text`,
        path: ["type"],
      });
    if (column.form !== undefined)
      context.addIssue({ code: "custom", message: `does not go with ${first}`, path: ["form"] });
  })
  .superRefine((column, context) => {
    const other = AS_EXCLUDES.find((key) => column[key] !== undefined && column[key] !== false);
    if (column.as !== undefined && other !== undefined)
      context.addIssue({ code: "custom", message: `does not go with ${other}`, path: ["as"] });
  })
  .refine(({ form, type }) => form === undefined || type !== undefined, {
    message: "needs a type: the form says how values of it are written",
    path: ["form"],
  })
  .meta({
    dependentRequired: { form: ["type"] },
    allOf: [
      ...AS_EXCLUDES.map((key) => notBoth(isSaid(key), has("as"))),
      ...CONCEALING.flatMap((key, i) => [
        ...CONCEALING.slice(i + 1).map((other) => notBoth(isSaid(key), isSaid(other))),
        notBoth(isSaid(key), has("form")),
        notBoth(isSaid(key), { ...has("type"), properties: { type: { not: { const: "text" } } } }),
      ]),
    ],
  })
  .describe("How a field becomes a column")
  .meta({ id: "Column" });

export const columnsSchema = z.record(fieldPath, columnSchema).default({}).describe("Rules by field path");

const patterns = z.array(z.string().regex(/^[^\s]+$/, "must be a path or a pattern of paths")).min(1);

/** Which of a record's fields become columns at all. */
export const fieldsSchema = z
  .strictObject({
    only: patterns
      .optional()
      .describe("Only these, and the key: paths, * for one step and ** for any: lead_guest.*"),
    except: patterns.optional().describe("All but these"),
  })
  .refine((fields) => fields.only !== undefined || fields.except !== undefined, "must hold only or except")
  .meta({ minProperties: 1 })
  .describe("Which fields become columns; left out, all of them")
  .meta({ id: "Fields" });

const most = z.int().min(1).max(10_000).optional();

/** How much room tables have. */
export const roomSchema = z
  .strictObject({
    columns: most.describe(
      `Columns of a table, at most; what comes beyond stands in eb_more. Default: ${ROOM.columns}`,
    ),
    tables: most.describe(
      `Tables of the stream, at most; lists that come beyond stand in json columns. Default: ${ROOM.tables}`,
    ),
  })
  .describe("How much room tables have")
  .meta({ id: "Room" });
