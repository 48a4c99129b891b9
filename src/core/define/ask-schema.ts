/** How a connector says what to ask: requests, answers, pages, parts, windows, reports. */

import * as z from "zod";
import { all, exactlyOne, needs } from "./schema-facets.js";
import { checkTemplate, conditionText, fieldPath, filled, jsonPathText, scalar } from "./text-schemas.js";

export const apiPath = z
  .string()
  .startsWith("/", "must begin with / and is joined to api.url")
  .superRefine(checkTemplate)
  .describe("Path below api.url; a URI template (RFC 6570)");

const place = z
  .union([jsonPathText, z.strictObject({ header: z.string().min(1).describe("Name of a response header") })])
  .describe("Where a value is: a JSONPath into the body, or a response header")
  .meta({ id: "Place" });

const bodySchema = z
  .union([
    z
      .strictObject({ json: z.json().describe("The body, as it is sent") })
      .describe("JSON; texts in it may hold {name}, a lone {name} keeps its type"),
    z
      .strictObject({ form: z.record(z.string(), filled).describe("Fields of the form") })
      .describe("application/x-www-form-urlencoded"),
    z.strictObject({ xml: filled }).describe("XML text; values are escaped"),
    z
      .strictObject({
        text: filled,
        type: z.string().default("text/plain; charset=utf-8").describe("Its media type"),
      })
      .describe("Text as it is"),
  ])
  .describe("What a POST sends")
  .meta({ id: "Body" });

function isEncoding(label: string): boolean {
  try {
    return new TextDecoder(label).encoding !== "";
  } catch {
    return false;
  }
}

const csvSchema = z
  .strictObject({
    delimiter: z.string().min(1).default(",").describe("Between two fields"),
    quote: z.string().length(1).nullable().default('"').describe("Around fields; null: quotes mean nothing"),
    header: z
      .union([z.literal(true), z.array(z.string()).min(1)])
      .default(true)
      .describe(
        "true: the first line names the columns; a list: these are the names, and the first line is data",
      ),
    encoding: z
      .string()
      .refine(isEncoding, "must be an encoding's name, such as utf-8 or windows-1252")
      .default("utf-8")
      .describe("As the WHATWG Encoding standard names it"),
    final_line_break: z
      .boolean()
      .default(false)
      .describe("Every line ends with a line break, the last one too: a body that does not broke off"),
    skip_lines: z.int().min(0).default(0).describe("Lines before the header"),
  })
  .describe("CSV, RFC 4180")
  .meta({ id: "Csv" });

const responseSchema = z
  .union([
    z.enum(["json", "json_lines", "csv", "xml"]),
    z.strictObject({ csv: csvSchema }),
    z.strictObject({
      xml: z
        .strictObject({
          lists: z
            .array(fieldPath)
            .default([])
            .describe("Elements that are lists even where there is one only"),
        })
        .describe("XML, with what its form does not tell"),
    }),
    z.strictObject({
      json: z
        .strictObject({
          header_row: z
            .literal(true)
            .optional()
            .describe("Records are lists of values; a page's first holds the names"),
          names: jsonPathText
            .optional()
            .describe("Records are lists of values; the names are there in the response"),
        })
        .refine(
          ({ header_row, names }) => (header_row === undefined) !== (names === undefined),
          "must hold one of header_row or names",
        )
        .meta(exactlyOne("header_row", "names"))
        .describe("JSON whose records are lists of values"),
    }),
  ])
  .describe("How a response is written")
  .meta({ id: "Response" })
  .default("json")
  .describe("How the response is written. gzip and zip are undone by themselves");

export const failRuleSchema = z
  .strictObject({
    when: conditionText("response").describe("A CEL condition over status, headers and body"),
    means: z
      .enum(["retry", "stop", "skip", "halve"])
      .describe("retry: it passes; stop: it fails; skip: nothing is there; halve: the window is too large"),
    message: jsonPathText.optional().describe("Where the API's own words are in the body"),
  })
  .describe("What a response means beyond its status")
  .meta({ id: "Rule" });

export const pagesSchema = z
  .strictObject({
    token: place.optional().describe("Where the next page's token is; the last page has none"),
    link: z
      .union([z.literal("header"), place])
      .optional()
      .describe("Where the next page's address is; header: Link, RFC 8288"),
    number: z.int().optional().describe("Pages have numbers: that of the first"),
    offset: z.int().optional().describe("Pages begin at an offset: that of the first"),
    after: fieldPath.optional().describe("Pages begin after the last record's field (keyset)"),
    keyset: z
      .literal(true)
      .optional()
      .describe("Pages of an entity set begin after the last entity's key, by a filter; size.query is $top"),
    query: z
      .string()
      .optional()
      .describe("Parameter that takes token, number, offset or key; or write {token} … elsewhere"),
    size: z
      .strictObject({
        query: z.string().optional().describe("Parameter that takes the size; or write {size} elsewhere"),
        records: z.int().min(1).describe("Records per page"),
        smaller: z.array(z.int().min(1)).default([]).describe("Tried in turn where the API refuses the size"),
      })
      .optional()
      .describe("How many records a page is to hold"),
    more: place.optional().describe("A flag that is true while there are more pages"),
    last: place.optional().describe("A flag that is true on the last page"),
    total: place.optional().describe("How many records there are in all"),
    total_pages: place.optional().describe("How many pages there are in all"),
    end: z
      .enum(["empty", "short"])
      .default("empty")
      .describe("Without a word from the API: an empty page ends, or one that is not full"),
    after_last_page: z
      .enum(["empty", "repeats"])
      .default("empty")
      .describe("repeats: past its end the API gives its last page again"),
    overlap: z
      .int()
      .min(1)
      .optional()
      .describe("Records asked for again with each offset, against records that move meanwhile"),
    max_pages: z.int().min(1).optional().describe("Pages that the API gives at most, however many there are"),
  })
  .superRefine((pages, context) => {
    const kinds = (["token", "link", "number", "offset", "after", "keyset"] as const).filter(
      (kind) => pages[kind] !== undefined,
    );
    if (kinds.length !== 1)
      context.addIssue({
        code: "custom",
        message: "must hold one of token, link, number, offset, after or keyset",
      });
    const { overlap, size } = pages;
    if (overlap !== undefined && pages.offset === undefined)
      context.addIssue({ code: "custom", message: "is for pages by offset", path: ["overlap"] });
    if (overlap !== undefined && size !== undefined && overlap >= Math.min(size.records, ...size.smaller))
      context.addIssue({
        code: "custom",
        message: "must be less than the records of a page",
        path: ["overlap"],
      });
  })
  .meta(all(exactlyOne("token", "link", "number", "offset", "after", "keyset"), needs("overlap", "offset")))
  .describe("How to get the next page")
  .meta({ id: "Pages" });

/** What every request may say. */
export const requestShape = {
  get: apiPath.optional(),
  post: apiPath.optional(),
  safe_to_retry: z.boolean().default(false).describe("This POST changes nothing, so it may be sent again"),
  query: z
    .record(z.string(), z.union([scalar, z.array(scalar)]))
    .default({})
    .describe("Query parameters; a list is repeated; what has no value is left out"),
  headers: z.record(z.string(), filled).default({}).describe("Headers of this request"),
  body: bodySchema.optional(),
  response: responseSchema,
  rules: z.array(failRuleSchema).default([]).describe("What responses mean; the first that holds counts"),
} as const;

export const requestKeys = { ...requestShape, pages: pagesSchema.optional() } as const;

/** What `oneMethod` checks, in JSON Schema. */
export const ONE_METHOD = all(exactlyOne("get", "post"), needs("body", "post"));

export function oneMethod(
  request: {
    get?: string | undefined;
    post?: string | undefined;
    body?: unknown;
    report?: unknown;
    set?: unknown;
  },
  context: z.RefinementCtx,
  words = "get or post",
): void {
  const kinds = [request.get, request.post, request.report, request.set].filter((each) => each !== undefined);
  if (kinds.length !== 1) context.addIssue({ code: "custom", message: `must hold one of ${words}` });
  if (request.body !== undefined && request.post === undefined)
    context.addIssue({ code: "custom", message: "goes with post", path: ["body"] });
}

export type RequestDefinition = z.output<z.ZodObject<typeof requestShape>>;
export type PagesDefinition = z.output<typeof pagesSchema>;
export type ResponseDefinition = z.output<typeof responseSchema>;
export type CsvDefinition = z.output<typeof csvSchema>;
export type BodyDefinition = z.output<typeof bodySchema>;
export type Place = z.output<typeof place>;
export type FailRuleDefinition = z.output<typeof failRuleSchema>;
