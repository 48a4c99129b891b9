/** The connector file's schema: the one source of YAML checking, TypeScript types and JSON Schema. */

import { z } from "zod";
import { compileJsonPath } from "../ask/json-path.js";
import { parseColumnType, TYPE_WORDS } from "../shape/column-type.js";
import { parsePath } from "../shape/naming.js";
import { isDuration } from "./duration.js";

export const nameText = z
  .string()
  .regex(/^[a-z][a-z0-9_]*$/, "must be lower-case letters, digits and _, beginning with a letter");

const jsonPathText = z
  .string()
  .refine(isJsonPath, "must be a JSONPath (RFC 9535), such as $.items[*]")
  .describe("A JSONPath, RFC 9535");

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
    format: z.enum(["uri"]).optional().describe("uri: a whole http(s) address"),
    secret: z.boolean().optional().describe("Never shown; an account gives it as $NAME only"),
    default: scalar.optional().describe("Used when an account leaves it out"),
    title: z.string().optional(),
    description: z.string().optional(),
  })
  .describe("A value that every account fills in");

const clientCredentials = z
  .strictObject({
    oauth2: z.literal("client_credentials").describe("RFC 6749, section 4.4"),
    token_url: z.string().describe("The token endpoint; a URI template over the settings"),
    scope: z.string().optional().describe("Scopes to ask for, separated by spaces"),
    client_id: z.string().default("{client_id}").describe("A URI template over the settings"),
    client_secret: z.string().default("{client_secret}").describe("A URI template over the settings"),
    client_auth: z
      .enum(["header", "body"])
      .default("header")
      .describe("Where id and secret are sent: HTTP Basic header or form body (RFC 6749, section 2.3.1)"),
  })
  .describe("OAuth 2.0 client credentials");

const paceSchema = z
  .strictObject({
    per_second: z.number().positive().optional().describe("Requests per second, at most"),
    per_minute: z.number().positive().optional().describe("Requests per minute, at most"),
    at_once: z.int().min(1).max(64).default(4).describe("Requests under way at the same time, at most"),
  })
  .describe("What the API allows, as its documentation publishes it");

const apiSchema = z.strictObject({
  url: z.string().describe("The base address; a URI template (RFC 6570) over the settings"),
  sign_in: z.union([z.literal("none"), clientCredentials]).default("none"),
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
/** A connector, checked, with its defaults filled in. */
export type Connector = z.output<typeof connectorSchema>;
export type StreamDefinition = Connector["streams"][string];
export type SignIn = Connector["api"]["sign_in"];
export type Setting = Connector["settings"][string];

function isJsonPath(text: string): boolean {
  try {
    compileJsonPath(text);
    return true;
  } catch {
    return false;
  }
}
