/** The connector file's schema: the one source of YAML checking, TypeScript types and JSON Schema. */

import * as z from "zod";
import { durationSign, isDuration } from "../language/duration.js";
import { parseColumnType, TYPE_PATTERN, TYPE_WORDS } from "../shape/column-type.js";
import { apiPath, failRuleSchema, oneMethod, requestKeys } from "./ask-schema.js";
import {
  breakdownKeys,
  eachSchema,
  expandSchema,
  instantFormat,
  listsSchema,
  reportSchema,
  windowsSchema,
} from "./parts-schema.js";
import { all, exactlyOne, has, needs, noTwo } from "./schema-facets.js";
import { signInSchema } from "./sign-in-schema.js";
import {
  conditionText,
  duration,
  fieldPath,
  filled,
  fixedDuration,
  jsonPathText,
  nameText,
  scalar,
  urlTemplate,
} from "./text-schemas.js";

const settingSchema = z
  .strictObject({
    type: z.enum(["string", "number", "boolean"]).describe("JSON Schema type of the value"),
    format: z
      .enum(["uri", "host"])
      .optional()
      .describe("uri: a whole http(s) address; host: a host name or a part of one, without scheme"),
    choices: z
      .record(z.string(), scalar)
      .optional()
      .describe(
        "Names that an account may give, and the values they stand for: production, sandbox, regions",
      ),
    optional: z.boolean().optional().describe("An account may leave it out"),
    secret: z.boolean().optional().describe("Never shown; an account gives it as $NAME only"),
    default: scalar.optional().describe("Used when an account leaves it out"),
    title: z.string().optional().describe("A name for people"),
    description: z.string().optional().describe("What it is, and where an account finds it"),
  })
  .describe("A value that every account fills in")
  .meta({ id: "Setting" });

const rateKeys = {
  per_second: z.number().positive().optional().describe("Requests per second, at most"),
  per_minute: z.number().positive().optional().describe("Requests per minute, at most"),
  per_hour: z.number().positive().optional().describe("Requests per hour, at most"),
  per_day: z
    .number()
    .positive()
    .optional()
    .describe("Requests in 24 hours, at most; spent, a run ends at a checkpoint"),
} as const;

const rateLimitSchema = z
  .strictObject({
    ...rateKeys,
    concurrency: z.int().min(1).max(64).default(4).describe("Requests under way at the same time, at most"),
    max_wait: fixedDuration
      .default("PT15M")
      .describe("The longest wait for the API's limits; what takes longer ends the run at a checkpoint"),
    groups: z
      .record(
        nameText,
        z.strictObject({
          ...rateKeys,
          concurrency: z
            .int()
            .min(1)
            .max(64)
            .optional()
            .describe("Requests under way at the same time, at most"),
        }),
      )
      .default({})
      .describe("Narrower limits for some addresses; streams name their group"),
  })
  .describe("What the API allows, as its documentation publishes it")
  .meta({ id: "RateLimit" });

const apiSchema = z.strictObject({
  url: urlTemplate.describe("The base address; a URI template (RFC 6570) over the settings"),
  sign_in: signInSchema,
  origins: z
    .array(urlTemplate)
    .default([])
    .describe("Other addresses of the API that credentials may go to as well; URI templates"),
  probe: z
    .strictObject({ get: apiPath })
    .optional()
    .describe("A cheap request that any signed-in account may make"),
  rate_limit: rateLimitSchema.prefault({}),
  headers: z.record(z.string(), z.string()).default({}).describe("Sent with every request"),
  rules: z
    .array(failRuleSchema)
    .default([])
    .describe("What responses mean, for all streams; a stream's own rules go first"),
});

const columnSchema = z
  .strictObject({
    type: z
      .string()
      .refine((text) => parseColumnType(text) !== undefined, `must be one of ${TYPE_WORDS.join(", ")}`)
      .meta({ pattern: TYPE_PATTERN })
      .optional()
      .describe(`One of ${TYPE_WORDS.join(", ")}; it wins over what is inferred`),
    hash: z.boolean().optional().describe("Store the SHA-256 of the text instead of the text"),
    skip: z.boolean().optional().describe("Make no column of it"),
    description: z
      .string()
      .min(1)
      .optional()
      .describe("What it holds, in words: the column's comment where the warehouse has such"),
  })
  .refine((column) => !(column.hash === true && column.type !== undefined && column.type !== "text"), {
    message: "hash makes a text: leave type out, or say text",
    path: ["type"],
  })
  .meta({
    not: {
      properties: { hash: { const: true }, type: { not: { const: "text" } } },
      required: ["hash", "type"],
    },
  })
  .describe("How a field becomes a column")
  .meta({ id: "Column" });

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
    gone: conditionText("record")
      .optional()
      .describe(
        "Records for which this CEL condition over record holds tell that one is gone: it is removed",
      ),
    add: z
      .record(nameText, z.union([filled, z.number(), z.boolean()]))
      .default({})
      .describe("Fields put into every record: constants, or {name} of settings and parts"),
    cursor: cursorSchema.optional(),
    key: z
      .union([fieldPath, z.array(fieldPath).min(1)])
      .optional()
      .describe("The field, or fields, that identify a record"),
    columns: z.record(fieldPath, columnSchema).default({}).describe("Rules by field path"),
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
      { not: { allOf: [has("gone"), { not: has("key") }, { not: has("set") }] } },
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

const odataSchema = z
  .strictObject({
    version: z
      .enum(["2.0", "3.0", "4.0", "4.01"])
      .optional()
      .describe("The version to speak; left out, the one that the service's metadata tells"),
    sets: z
      .array(z.string().min(1))
      .optional()
      .describe(
        "Entity sets to carry beside those of streams, by name or pattern such as Order*; default: all",
      ),
  })
  .describe("An OData service: what it holds is found from its metadata")
  .meta({ id: "OData" });

/** The schema of connector files: what it outputs is checked and has all defaults. */
export const connectorSchema = z
  .strictObject({
    connector: nameText.describe("The connector's name"),
    title: z.string().optional().describe("A name for people"),
    version: z
      .string()
      .regex(/^\d+\.\d+\.\d+$/, "must be a version such as 1.0.0")
      .default("1.0.0")
      .describe("The connector's own version"),
    settings: z
      .record(nameText, settingSchema)
      .default({})
      .describe("What differs from account to account; {name} stands for a value"),
    api: apiSchema.describe("Where the API is, how to sign in, and what holds for all its requests"),
    odata: odataSchema.optional(),
    streams: z
      .record(nameText, streamSchema)
      .refine((streams) => Object.keys(streams).length > 0, "must hold at least one stream")
      .refine(
        (streams) => !Object.keys(streams).some((name) => name.startsWith("eb_")),
        "must have names that do not begin with eb_: such tables are our own",
      )
      .meta({ minProperties: 1, propertyNames: { pattern: "^(?!eb_)[a-z][a-z0-9_]*$" } })
      .default({})
      .describe("What can be carried, by name"),
  })
  .superRefine(({ odata, streams }, context) => {
    if (odata === undefined && Object.keys(streams).length === 0)
      context.addIssue({ code: "custom", message: "must hold at least one stream", path: ["streams"] });
    if (odata !== undefined) return;
    const message = "is for OData services: write odata: {} beside api";
    for (const [name, { set, cursor }] of Object.entries(streams)) {
      if (set !== undefined) context.addIssue({ code: "custom", message, path: ["streams", name, "set"] });
      else if (cursor?.delta === true)
        context.addIssue({ code: "custom", message, path: ["streams", name, "cursor", "delta"] });
    }
  })
  .meta({ anyOf: [has("streams"), has("odata")] })
  .describe("Early Bridge connector: what is known of one API");

/** A request on its way to the API, as a signer in TypeScript sees it. */
export interface SignableRequest {
  readonly method: string;
  readonly url: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly body?: string | undefined;
}

/** A page as a next-page rule in TypeScript sees it. */
export interface PageSeen {
  readonly body: unknown;
  /** by lower-case name */
  readonly headers: Readonly<Record<string, string | undefined>>;
  readonly url: string;
  readonly records: readonly unknown[];
  /** 1 for the first */
  readonly number: number;
}

/** What a stream in TypeScript can do beside its definition. */
export interface StreamCode {
  /** The next page's token, put where `pages` says, or its `link`; undefined ends the stream. */
  readonly next?: (page: PageSeen) => string | { readonly link: string } | undefined;
  /** Whether a record is kept. */
  readonly keep?: (record: Readonly<Record<string, unknown>>) => boolean;
  /** Whether a record only tells that one is gone: the row with its key, and its children, are removed. Needs a key. */
  readonly gone?: (record: Readonly<Record<string, unknown>>) => boolean;
}

/** What a connector in TypeScript can do and a file cannot say. */
export interface ConnectorCode {
  readonly streams?: Readonly<Record<string, StreamCode>>;
  /** Signs each request last, say by an HMAC over method, path and date; `values` are the account's settings. */
  readonly sign?: (
    request: SignableRequest,
    values: Readonly<Record<string, unknown>>,
  ) => Pick<SignableRequest, "url" | "headers"> | Promise<Pick<SignableRequest, "url" | "headers">>;
}

/** A connector, checked, with its defaults filled in. */
export type Connector = z.output<typeof connectorSchema> & { readonly code?: ConnectorCode };
/** One stream of a connector, checked, with its defaults. */
export type StreamDefinition = Connector["streams"][string];
export type Setting = Connector["settings"][string];
