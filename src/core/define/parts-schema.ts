/** How a connector says what a stream is put together from: values, windows, reports, figures, expansions. */

import * as z from "zod";
import { instantMicros } from "../shape/date-time.js";
import { apiPath, ONE_METHOD, oneMethod, pagesSchema, requestKeys, requestShape } from "./ask-schema.js";
import { all, exactlyOne, needs, noTwo } from "./schema-facets.js";
import {
  duration,
  fieldPath,
  isZone,
  jsonPathText,
  moment,
  nameText,
  pastMoment,
  positiveDuration,
  positiveFixed,
  scalar,
} from "./text-schemas.js";

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
      z
        .strictObject({
          ranges: z
            .int()
            .min(2)
            .max(1000)
            .describe("How many; they are found once, and hold about as many each"),
        })
        .describe("Ranges of an entity set's key, read side by side"),
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
    batch: z
      .int()
      .min(2)
      .max(1000)
      .optional()
      .describe("For entity sets: as many of these requests go in one, by the service's $batch"),
  })
  .superRefine((request, context) => {
    if (request.link === undefined) oneMethod(request, context);
    else if (request.get !== undefined || request.post !== undefined)
      context.addIssue({ code: "custom", message: "must hold one of get, post or link" });
  })
  .meta(all(exactlyOne("get", "post", "link"), needs("body", "post")))
  .describe("One more request for each record; with a cursor, for changed records only")
  .meta({ id: "Expand" });

/** A whole listing of a stream's keys, by which records are found that are gone. */
export const sweepSchema = z
  .strictObject({
    every: duration.describe("How long after a sweep the next run sweeps again: P1D, PT6H"),
    share: z
      .number()
      .gt(0)
      .max(1)
      .default(0.2)
      .describe("What may be gone at once, of the records that stand; where it is more, nothing is deleted"),
    reach: positiveDuration
      .optional()
      .describe(
        "Only as far back by the cursor's field, P30D: what is older is neither asked for nor deleted",
      ),
    part: fieldPath
      .optional()
      .describe(
        "The field with the value of each: a part that does not come whole keeps its records, the others go on",
      ),
    get: requestShape.get.describe(
      "Another request for the keys; left out, the stream's own, without its cursor",
    ),
    post: requestShape.post,
    query: requestShape.query.describe(
      "Query parameters, beside those of the stream's own request or of this one",
    ),
    body: requestShape.body,
    records: z
      .union([jsonPathText, z.array(jsonPathText).min(1)])
      .optional()
      .describe("Where the records are"),
    pages: pagesSchema.optional(),
  })
  .superRefine((request, context) => {
    if (request.get !== undefined || request.post !== undefined || request.body !== undefined)
      oneMethod(request, context);
  })
  .meta(all(noTwo("get", "post"), needs("body", "post")))
  .describe("Asks for all keys at times: what stands and is not among them is gone")
  .meta({ id: "Sweep" });

export type SweepDefinition = z.output<typeof sweepSchema>;
export type WindowsDefinition = z.output<typeof windowsSchema>;
export type EachDefinition = z.output<typeof eachSchema>;
export type ValuesRequest = z.output<typeof valuesRequest>;
export type ReportDefinition = z.output<typeof reportSchema>;
export type ExpandDefinition = z.output<typeof expandSchema>;
export type InstantFormat = z.output<typeof instantFormat>;
