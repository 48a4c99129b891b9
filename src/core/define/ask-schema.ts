/** How a connector says what to ask: requests, answers, pages, parts, windows, reports. */

import * as z from "zod";
import { instantMicros } from "../shape/date-time.js";
import { all, exactlyOne, needs } from "./schema-facets.js";
import {
  checkTemplate,
  conditionText,
  duration,
  fieldPath,
  filled,
  isZone,
  jsonPathText,
  moment,
  nameText,
  pastMoment,
  positiveDuration,
  positiveFixed,
  scalar,
} from "./text-schemas.js";

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
    const kinds = (["token", "link", "number", "offset", "after"] as const).filter(
      (kind) => pages[kind] !== undefined,
    );
    if (kinds.length !== 1)
      context.addIssue({ code: "custom", message: "must hold one of token, link, number, offset or after" });
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
  .meta(all(exactlyOne("token", "link", "number", "offset", "after"), needs("overlap", "offset")))
  .describe("How to get the next page")
  .meta({ id: "Pages" });

const requestShape = {
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
const ONE_METHOD = all(exactlyOne("get", "post"), needs("body", "post"));

export function oneMethod(
  request: { get?: string | undefined; post?: string | undefined; body?: unknown; report?: unknown },
  context: z.RefinementCtx,
  words = "get or post",
): void {
  const kinds = [request.get, request.post, request.report].filter((each) => each !== undefined);
  if (kinds.length !== 1) context.addIssue({ code: "custom", message: `must hold one of ${words}` });
  if (request.body !== undefined && request.post === undefined)
    context.addIssue({ code: "custom", message: "goes with post", path: ["body"] });
}

export const valuesRequest = z
  .strictObject({ ...requestKeys, values: jsonPathText.describe("Where the values are in the response") })
  .superRefine((request, context) => oneMethod(request, context))
  .meta(ONE_METHOD)
  .describe("A request that gives values")
  .meta({ id: "ValuesRequest" });

export const listsSchema = z
  .record(
    nameText,
    z
      .strictObject({
        ...requestKeys,
        values: jsonPathText.describe("Where the values are in the response"),
        join: z.string().optional().describe("Join them into one text with this between"),
      })
      .superRefine((request, context) => oneMethod(request, context))
      .meta(ONE_METHOD),
  )
  .default({})
  .describe("Values that another request gives first; {name} stands for them");

export const eachSchema = z
  .record(
    nameText,
    z.union([
      z.array(scalar).min(1),
      z.strictObject({
        file: z.string().describe("A .csv, .json, .jsonl or .txt file, from the project's folder"),
        field: fieldPath.optional().describe("Column or field; a .txt file has one value on each line"),
      }),
      z
        .strictObject({
          stream: nameText.describe("Name of the other stream"),
          field: fieldPath.describe("Its records' field"),
        })
        .describe("A field of another stream's records"),
      valuesRequest,
    ]),
  )
  .refine((each) => Object.keys(each).length > 0, "must hold a name")
  .meta({ minProperties: 1 })
  .describe("Asked once for each value; {name} stands for it. Several names are nested, in their order");

export const instantFormat = z
  .enum(["date_time", "date", "seconds", "milliseconds"])
  .default("date_time")
  .describe("How a time is sent: RFC 3339, its date, or the time since 1970");

export const windowsSchema = z
  .strictObject({
    span: positiveDuration.describe("Length of a window, such as P7D or P1M"),
    from: z
      .string()
      .optional()
      .describe("Parameter that takes the window's start; or write {from} elsewhere"),
    to: z.string().optional().describe("Parameter that takes the window's end; or write {to} elsewhere"),
    to_is: z
      .enum(["exclusive", "inclusive"])
      .default("exclusive")
      .describe(
        "inclusive: the API gives records at `to` as well, so the last moment before the end is sent",
      ),
    start: pastMoment.describe(
      "Where the first window begins: a time, or a duration before now such as -P1Y",
    ),
    end: moment
      .optional()
      .describe("Where the last window ends: a time or a duration from now; default: now"),
    order: z
      .enum(["oldest_first", "newest_first"])
      .default("oldest_first")
      .describe("In which order windows are asked for"),
    overlap: duration
      .default("PT0S")
      .describe("Asked for again before what is done, for records that come late"),
    zone: z
      .string()
      .refine(isZone, "must be a time zone of the IANA database, such as Europe/Vienna")
      .default("UTC")
      .describe("Time zone in which windows of days and months begin"),
    format: instantFormat,
    smallest: positiveDuration.default("PT1M").describe("A window is not halved below this"),
    max_records: z
      .int()
      .min(1)
      .optional()
      .describe("The API gives this many records at most, and silently leaves out the rest"),
  })
  .superRefine(({ start, end }, context) => {
    // a relative one compared with an absolute one changes with time
    if (end !== undefined && instantMicros(start) >= instantMicros(end))
      context.addIssue({ code: "custom", message: "must be later than start", path: ["end"] });
  })
  .describe("Asked in windows of time; which are done is kept")
  .meta({ id: "Windows" });

export const reportSchema = z
  .strictObject({
    submit: z
      .strictObject({
        ...requestShape,
        id: jsonPathText.describe("Where the report's id is; {report_id} stands for it"),
      })
      .superRefine((request, context) => oneMethod(request, context))
      .meta(ONE_METHOD)
      .describe("Asks for the report"),
    poll: z
      .strictObject({
        ...requestShape,
        state: jsonPathText.describe("Where the report's state is"),
        done: z.array(scalar).min(1).describe("States in which it can be fetched"),
        failed: z.array(scalar).default([]).describe("States in which it never will"),
        wait: positiveFixed.default("PT1S").describe("Before the first look; it grows by half each time"),
        longest: positiveFixed.default("PT1M").describe("Between two looks, at most"),
        give_up: positiveFixed.default("PT2H").describe("After this, it is asked for anew next time"),
        link: jsonPathText.optional().describe("Where the address of the finished report is"),
      })
      .superRefine((request, context) => oneMethod(request, context))
      .meta(ONE_METHOD)
      .describe("Looks whether it is done"),
    download: z
      .strictObject({
        get: apiPath.optional(),
        link: z
          .literal(true)
          .optional()
          .describe("Get it from poll.link, without credentials where that is another origin"),
      })
      .refine(({ get, link }) => (get === undefined) !== (link === undefined), "must hold one of get or link")
      .meta(exactlyOne("get", "link"))
      .describe("Fetches the finished report"),
    concurrency: z.int().min(1).default(1).describe("Reports under way at the same time, at most"),
    resubmit_states: z
      .array(scalar)
      .default([])
      .describe("States after which it is submitted anew: expired, say"),
  })
  .describe("Asked for in three steps: submit, look until it is done, download")
  .meta({ id: "Report" });

const namesSchema = z
  .strictObject({
    names: z.array(z.string()).min(1).describe("As the API calls them"),
    max_per_request: z.int().min(1).optional().describe("How many the API takes in one request"),
  })
  .describe("Names to ask for")
  .meta({ id: "Names" });

export const breakdownKeys = {
  dimensions: namesSchema
    .optional()
    .describe("What figures are broken down by; {dimensions} stands for them"),
  measures: namesSchema
    .optional()
    .describe("Figures to ask for; {measures}. More than the API takes are asked for in turn and joined"),
} as const;

export const expandSchema = z
  .strictObject({
    ...requestShape,
    link: fieldPath
      .optional()
      .describe("The record's field that holds the address to ask, within the API's own origins"),
    fields: z
      .record(nameText, fieldPath)
      .default({})
      .describe("Values for the request's {name}, from the record's fields"),
    record: jsonPathText.default("$").describe("Where what is wanted is in the response"),
    at: fieldPath.optional().describe("Put it there; left out, its fields join the record's own"),
  })
  .superRefine((request, context) => {
    if (request.link === undefined) oneMethod(request, context);
    else if (request.get !== undefined || request.post !== undefined)
      context.addIssue({ code: "custom", message: "must hold one of get, post or link" });
  })
  .meta(all(exactlyOne("get", "post", "link"), needs("body", "post")))
  .describe("One more request for each record; with a cursor, for changed records only")
  .meta({ id: "Expand" });

export type RequestDefinition = z.output<z.ZodObject<typeof requestShape>>;
export type PagesDefinition = z.output<typeof pagesSchema>;
export type ResponseDefinition = z.output<typeof responseSchema>;
export type CsvDefinition = z.output<typeof csvSchema>;
export type BodyDefinition = z.output<typeof bodySchema>;
export type Place = z.output<typeof place>;
export type FailRuleDefinition = z.output<typeof failRuleSchema>;
export type WindowsDefinition = z.output<typeof windowsSchema>;
export type EachDefinition = z.output<typeof eachSchema>;
export type ValuesRequest = z.output<typeof valuesRequest>;
export type ReportDefinition = z.output<typeof reportSchema>;
export type ExpandDefinition = z.output<typeof expandSchema>;
export type InstantFormat = z.output<typeof instantFormat>;
