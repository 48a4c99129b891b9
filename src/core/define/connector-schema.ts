/** The connector file's schema: the one source of YAML checking, TypeScript types and JSON Schema. */

import * as z from "zod";
import { apiPath, failRuleSchema } from "./ask-schema.js";
import { has } from "./schema-facets.js";
import { signInSchema } from "./sign-in-schema.js";
import { streamSchema } from "./stream-schema.js";
import { fixedDuration, jsonPathText, nameText, scalar, urlTemplate } from "./text-schemas.js";

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
  survey: z
    .strictObject({
      get: apiPath,
      names: jsonPathText
        .optional()
        .describe("Where names are; left out, the response is an OpenAPI document"),
      fields: z
        .strictObject({
          get: apiPath.describe("The request for one of them; {name} stands for its name"),
          names: jsonPathText.describe("Where the names of its fields are"),
        })
        .optional()
        .describe("How one of them is described"),
    })
    .optional()
    .describe("A request whose response tells what the API has"),
  rate_limit: rateLimitSchema.prefault({}),
  headers: z.record(z.string(), z.string()).default({}).describe("Sent with every request"),
  rules: z
    .array(failRuleSchema)
    .default([])
    .describe("What responses mean, for all streams; a stream's own rules go first"),
});

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
  readonly keep?: ((record: Readonly<Record<string, unknown>>) => boolean) | undefined;
  /** Fields put into every record, each worked out from it. */
  readonly compute?: Readonly<Record<string, (record: Readonly<Record<string, unknown>>) => unknown>>;
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
