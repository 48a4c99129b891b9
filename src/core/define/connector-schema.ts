/** The connector file's schema: the one source of YAML checking, TypeScript types and JSON Schema. */

import { z } from "zod";
import { parseColumnType, TYPE_WORDS } from "../shape/column-type.js";
import { parsePath } from "../shape/naming.js";
import { isDuration } from "./duration.js";
import { jsonPathText, signInSchema, urlTemplate } from "./sign-in-schema.js";

export const nameText = z
  .string()
  .regex(/^[a-z][a-z0-9_]*$/, "must be lower-case letters, digits and _, beginning with a letter");

const fieldPath = z
  .string()
  .refine((text) => parsePath(text) !== undefined, "must be a field's path, such as lead_guest.email");

const apiPath = z
  .string()
  .startsWith("/", "must begin with / and is joined to api.url")
  .describe("Path below api.url");

const scalar = z.union([z.string(), z.number(), z.boolean()]);

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
    title: z.string().optional(),
    description: z.string().optional(),
  })
  .describe("A value that every account fills in");

const paceSchema = z
  .strictObject({
    per_second: z.number().positive().optional().describe("Requests per second, at most"),
    per_minute: z.number().positive().optional().describe("Requests per minute, at most"),
    at_once: z.int().min(1).max(64).default(4).describe("Requests under way at the same time, at most"),
  })
  .describe("What the API allows, as its documentation publishes it");

const apiSchema = z.strictObject({
  url: z.string().describe("The base address; a URI template (RFC 6570) over the settings"),
  sign_in: signInSchema,
  origins: z
    .array(urlTemplate)
    .default([])
    .describe("Other addresses of the API that credentials may go to as well; URI templates"),
  probe: z
    .strictObject({ get: apiPath })
    .optional()
    .describe("A cheap request that any signed-in account may make"),
  pace: paceSchema.prefault({}),
  headers: z.record(z.string(), z.string()).default({}).describe("Sent with every request"),
});

const columnSchema = z
  .strictObject({
    type: z
      .string()
      .refine((text) => parseColumnType(text) !== undefined, `must be one of ${TYPE_WORDS.join(", ")}`)
      .optional()
      .describe(`One of ${TYPE_WORDS.join(", ")}; it wins over what is inferred`),
    hash: z.boolean().optional().describe("Store the SHA-256 of the text instead of the text"),
    skip: z.boolean().optional().describe("Make no column of it"),
  })
  .refine((column) => !(column.hash === true && column.type !== undefined && column.type !== "text"), {
    message: "hash makes a text: leave type out, or say text",
    path: ["type"],
  });

const cursorSchema = z
  .strictObject({
    field: fieldPath.describe("The record's field that grows with every change"),
    query: z.string().describe("The query parameter that asks for records after a value"),
    begin: z
      .union([z.string(), z.int()])
      .optional()
      .describe("Where the first run begins: a value, or a duration before now such as -P90D"),
    overlap: z
      .union([z.string().refine(isDuration, "must be an ISO 8601 duration, such as PT5M"), z.int().min(0)])
      .optional()
      .describe(
        "Asked for again before the cursor: a duration (default PT1S), or a number for numeric fields",
      ),
    order: z
      .enum(["ascending", "any"])
      .default("any")
      .describe("ascending: records come in the cursor's order, so a broken-off run goes on by value"),
  })
  .describe("How the API is asked for changes only");

const streamSchema = z.strictObject({
  title: z.string().optional(),
  get: apiPath,
  query: z.record(z.string(), scalar).default({}).describe("Sent with every page's request"),
  headers: z.record(z.string(), z.string()).default({}),
  records: jsonPathText.default("$[*]").describe("Where the records are in a page"),
  pages: z
    .strictObject({
      token: jsonPathText.describe("Where the next page's token is; the last page has none"),
      query: z.string().describe("The query parameter that takes the token"),
    })
    .optional()
    .describe("How to get the next page; left out, a stream has one page"),
  cursor: cursorSchema.optional(),
  key: z
    .union([fieldPath, z.array(fieldPath).min(1)])
    .optional()
    .describe("The field, or fields, that identify a record"),
  columns: z.record(fieldPath, columnSchema).default({}).describe("Rules by field path"),
});

export const connectorSchema = z
  .strictObject({
    connector: nameText.describe("The connector's name"),
    title: z.string().optional(),
    version: z
      .string()
      .regex(/^\d+\.\d+\.\d+$/, "must be a version such as 1.0.0")
      .default("1.0.0"),
    settings: z.record(nameText, settingSchema).default({}),
    api: apiSchema,
    streams: z.record(nameText, streamSchema).refine((streams) => Object.keys(streams).length > 0, {
      message: "must hold at least one stream",
    }),
  })
  .describe("Early Bridge connector: what is known of one API");

/** A connector as it is written. */
export type ConnectorInput = z.input<typeof connectorSchema>;
/** A request on its way to the API, as a signer in TypeScript sees it. */
export interface SignableRequest {
  readonly method: string;
  readonly url: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly body?: string | undefined;
}

/** What a connector in TypeScript can do and a file cannot say. */
export interface ConnectorCode {
  /** Signs each request last, say by an HMAC over method, path and date; `values` are the account's settings. */
  readonly sign?: (
    request: SignableRequest,
    values: Readonly<Record<string, unknown>>,
  ) => Pick<SignableRequest, "url" | "headers"> | Promise<Pick<SignableRequest, "url" | "headers">>;
}

/** A connector, checked, with its defaults filled in. */
export type Connector = z.output<typeof connectorSchema> & { readonly code?: ConnectorCode };
export type StreamDefinition = Connector["streams"][string];
export type Setting = Connector["settings"][string];
