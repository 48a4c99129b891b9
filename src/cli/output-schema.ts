/**
 * The form of `--json`: one JSON object on each line, for machines.
 *
 * Names are in snake_case; moments are RFC 3339 in UTC and end in `_at`, spans are whole ms and end in `_ms`. The form
 * is described in schemas/output.schema.json; a change that a reader could stumble over raises `version`.
 */

import * as z from "zod";

export const OUTPUT_VERSION = 1;

const count = z.int().min(0);
const ms = count.describe("ms");
const moment = z.iso.datetime().describe("RFC 3339, in UTC");

const errorObject = z
  .strictObject({
    code: z.string().describe("Stable; docs and messages may change, codes do not"),
    kind: z.string().describe("What kind of thing failed; the exit code follows from it"),
    message: z.string().describe("What went wrong, in words"),
    where: z.string().describe("The place, on one line; empty where none is known"),
    hint: z.string().describe("What to do next"),
  })
  .describe("A failure, the same everywhere");

const outcome = z
  .enum(["running", "done", "incomplete", "paused", "stopped", "failed", "broken_off"])
  .describe("paused: the API's limit is used up; broken_off: the process was gone");

const bridge = z.string().describe("The bridge's name");
const stream = z.string().describe("The stream's name");
const ofSample = { account: z.string().describe("The account's name"), stream };
const figure = z.strictObject({
  value: z.number().optional().describe("Left out where nothing is known"),
  sureness: z.enum(["counted", "likely", "rough", "unknown"]).describe("How far it can be trusted"),
  rests_on: z.string().describe("What it comes from"),
});
const scalar = z.union([z.string(), z.number(), z.boolean()]).describe("A value");

const changed = {
  table: z.string().describe("The table's name"),
  column: z.string().optional().describe("The column's name, where it is one of a column"),
  change: z
    .enum([
      "table_added",
      "column_added",
      "type_widened",
      "column_ignored",
      "table_ignored",
      "column_stopped",
      "column_returned",
    ])
    .describe("What was changed, or left out"),
  from_type: z.string().optional().describe("The type before"),
  to_type: z.string().optional().describe("The type now"),
  path: z.string().optional().describe("The field's path"),
  example: z.string().optional().describe("What a value looked like that brought it"),
};
const changesSchema = z
  .array(z.strictObject(changed))
  .describe("What changed in the form of the tables, or was left out of them");

/** The counts of a stream that was read to its end add up to what was received. */
const streamRecord = {
  stream,
  outcome,
  received: count.describe("Records that the API gave"),
  left_out: count.describe("Left out by where, or older than the cursor"),
  records: count.describe("Kept"),
  added: count.describe("Rows that were not there before"),
  changed: count.describe("Rows that are different now"),
  unchanged: count.describe("Came again as they stood, or were told to be gone and were not there"),
  removed: count.describe("Rows told to be gone; of a table that is replaced, those that did not come again"),
  quarantined: count.describe("Records that could not be stored as their table demands"),
  doubled: count.describe("Came more than once between two checkpoints; the last one counts"),
  passed_over: count.describe(
    "Let be by the way of writing into a table that stands: nothing there to update or delete, there already where rows are inserted only, gone where rows stay",
  ),
  pages: count.describe("Pages taken"),
  checkpoints: count.describe("Commits of rows and cursor"),
  requests: count.describe("Requests sent, tried again or not"),
  retries: count.describe("Requests tried again"),
  waited_ms: ms.describe("Waited for limits and before tries, in ms"),
  bytes: count.describe("Of responses, as they came"),
  ask_ms: ms.describe("Waited for pages, in ms"),
  shape_ms: ms.describe("Spent on shaping, in ms"),
  load_ms: ms.describe("Waited for the warehouse, in ms"),
  changes: changesSchema,
  error: errorObject.optional(),
};

const streamReport = z.strictObject({
  ...streamRecord,
  rows_by_table: z.record(z.string(), count).describe("Rows written, child tables as well"),
  cursor: z.string().optional().describe("Where the stream stands, in words"),
  parts: count.describe("Parts that were asked for"),
  failed_parts: z
    .array(z.strictObject({ part: z.string().describe("Its values"), error: errorObject }))
    .describe("Those of them that failed"),
});

const runReport = {
  outcome,
  started_at: moment,
  ended_at: moment.optional(),
  error: errorObject.optional(),
};

const line = <T extends string, S extends z.ZodRawShape>(type: T, shape: S) =>
  z.strictObject({
    version: z.literal(OUTPUT_VERSION).describe("Of this form of lines"),
    type: z.literal(type).describe("What the line is of"),
    ...shape,
  });
const ofRun = { run: count.describe("The run's number"), bridge };
const ofStream = { ...ofRun, stream };

export const outputLine = z
  .discriminatedUnion("type", [
    line("run_started", { ...ofRun, streams: z.array(z.string()).describe("Those that the run carries") }),
    line("stream_started", {
      ...ofStream,
      since: z.string().optional().describe("The value from which is asked"),
      goes_on: z.boolean().describe("In the middle of a pass that broke off"),
      parts: count.describe("To ask for"),
      windows: count.optional().describe("Of time, in all parts"),
    }),
    line("page", {
      ...ofStream,
      part: z.string().describe("Empty for a stream without parts"),
      page: count.describe("Its number among all of the stream"),
      records: count.describe("Kept"),
      rows: count.describe("Of all tables"),
      bytes: count.describe("Of the response"),
      requests_left: count.optional().describe("In the API's limit, as it says"),
    }),
    line("waiting", {
      ...ofStream,
      reason: z.enum(["pace", "api_asked"]).describe("Our own limit, or a wait that the API has asked for"),
      ms,
    }),
    line("retry", {
      ...ofStream,
      attempt: count.describe("Its number"),
      ms,
      why: z.string().describe("What went wrong before"),
    }),
    line("notice", { ...ofStream, message: z.string().describe("What somebody should look at") }),
    line("checkpoint", {
      ...ofStream,
      number: count.describe("Its number in the stream's run"),
      cursor: z.string().optional().describe("Where the stream stands, in words"),
    }),
    line("schema_changed", { ...ofStream, ...changed }),
    line("quarantined", {
      ...ofStream,
      reason: z.string().describe("Which rule the record breaks"),
      path: z.string().describe("The field"),
      message: z.string().describe("The same in words"),
    }),
    line("stream_ended", { ...ofStream, report: streamReport.describe("What the stream has done") }),
    line("run_ended", {
      ...ofRun,
      ...runReport,
      streams: z.array(streamReport).describe("What each stream has done"),
      views: z
        .array(
          z.strictObject({
            view: z.string().describe("Its name"),
            outcome: z.enum(["made", "dropped", "failed"]).describe("dropped: its file is gone"),
            problem: z.string().optional().describe("Why it failed"),
          }),
        )
        .describe("What became of the bridge's views"),
    }),
    line("run", {
      ...ofRun,
      ...runReport,
      streams: z.array(z.strictObject(streamRecord)).describe("What each stream has done"),
    }).describe("A run of the history"),
    line("plan", {
      bridge,
      stream,
      table: z.string().describe("Schema and table that its records go into"),
      write: z.string().describe("How they are written"),
      lines: z
        .array(
          z.strictObject({
            label: z.string().describe("What is told"),
            text: z.string().describe("In words"),
          }),
        )
        .describe("What would be asked, in the order of the work"),
      warnings: z.array(z.string()).describe("What can go wrong with it"),
    }),
    line("view", {
      bridge,
      view: z.string().describe("Schema and name"),
      warnings: z.array(z.string()).describe("What would keep it from being made, as its tables are now"),
    }).describe("A view that a run would make"),
    line("forecast", {
      bridge,
      stream,
      requests: figure.describe("For a reading of all there is"),
      records: figure.describe("That the API gives"),
      rows: figure.describe("In all tables"),
      bytes: figure.describe("Of responses"),
      ms: figure.describe("ms at the pace that is permitted"),
      days: figure.optional().describe("Where the requests of a day are limited"),
      later: figure.describe("Requests of a later run"),
      asked: count.describe("Requests that were sent for all this"),
    }).describe("What a stream will take"),
    line("check", {
      check: z.string().describe("What was looked at"),
      outcome: z
        .enum(["good", "note", "bad", "left_out"])
        .describe("note: good to know; left_out: another line must be good first"),
      ms,
      found: z.string().describe("In words"),
      error: errorObject.optional(),
    }).describe("A line of the probe"),
    line("resource", {
      account: z.string().describe("The account's name"),
      name: z.string().describe("The set's name, or that of the stream that it would be"),
      kind: z.enum(["set", "singleton", "function", "list"]).describe("A list is one of a REST API"),
      path: z.string().optional().describe("Of a list, below the API's address"),
      stream: z.string().optional().describe("The stream that carries it"),
      key: z.array(z.string()).describe("Properties of the key"),
      columns: z
        .array(
          z.strictObject({
            path: z.string().describe("Where it is in an entity"),
            declared: z.string().describe("As the API declares it; empty where it does not"),
            type: z.string().optional().describe("The column's type; left out where what comes decides"),
            description: z.string().optional().describe("The service's own words"),
          }),
        )
        .describe("Columns as they would be"),
      navigation: z
        .array(
          z.strictObject({
            name: z.string().describe("The property"),
            to: z.string().describe("The type that it leads to"),
            many: z.boolean().describe("It leads to several"),
          }),
        )
        .describe("Ways to other entities"),
      cursors: z.array(z.string()).describe("Columns that may tell of changes, the likeliest first"),
      tracks_changes: z.boolean().describe("The service says that it gives delta links"),
      pages: z.string().optional().describe("How they follow each other, in words"),
      scopes: z.array(z.string()).describe("Scopes that it wants"),
      missing: z.array(z.string()).describe("What has to be given for it, and no list gives"),
      description: z.string().optional().describe("The service's own words"),
      rows: count.optional().describe("As the service counts them"),
    }).describe("What the survey has found"),
    line("sample", {
      ...ofSample,
      places: z
        .array(
          z.strictObject({
            place: z.enum(["first", "middle", "last"]).describe("Of the pages, the windows or the parts"),
            of: z.string().optional().describe("The part or the window"),
            records: count.describe("Taken there"),
          }),
        )
        .describe("Where its records stood"),
      total: count.optional().describe("Records of the stream, as the API counts them"),
      taken_at: moment,
      requests: count.describe("Requests sent for it"),
      records: count.describe("Records in it"),
      quarantined: count.describe("Those that would go to quarantine"),
      left_out: count.describe("Those that where leaves out"),
    }).describe("What peek has looked at"),
    line("field", {
      ...ofSample,
      path: z.string().describe("Where it is in a record"),
      of: count.describe("Objects that could hold it"),
      filled: count.describe("Those in which it holds something"),
      types: z.record(z.string(), count).describe("How often each type came"),
      distinct: count.describe("Different values"),
      is_capped: z.boolean().describe("There are more values than are told apart"),
      least: scalar.optional().describe("Of numbers by size, else of texts"),
      greatest: scalar.optional().describe("Of numbers by size, else of texts"),
      frequent: z
        .array(z.strictObject({ value: scalar, times: count.describe("How often it came") }))
        .describe("Values that came more than once"),
      longest: count.optional().describe("Code units of the longest text"),
      example: scalar.optional().describe("One of its values"),
    }).describe("A field of the sample"),
    line("sample_table", {
      ...ofSample,
      name: z.string().describe("The table's name"),
      columns: z
        .array(
          z.strictObject({
            name: z.string().describe("The column's name"),
            path: z.string().describe("The field that it holds"),
            role: z.string().describe("data, or what it is for"),
            declared: z.boolean().describe("Its type was not found out, but told"),
            type: z.string().describe("The column's type"),
            description: z.string().optional().describe("What it holds, where somebody says so"),
          }),
        )
        .describe("In their order"),
      rows: z.array(z.record(z.string(), z.unknown())).describe("Values by column"),
    }).describe("A table that the sample becomes"),
    line("decision", {
      ...ofSample,
      record: count.describe("Its number in the sample, from 0 on"),
      key: z.array(z.unknown()).describe("Its key's values"),
      holds: z.boolean().optional().describe("Whether it is kept; left out where it cannot be judged"),
      part: z.string().describe("The part of the condition that decides"),
      values: z
        .array(
          z.strictObject({
            field: z.string().describe("A field that it names"),
            value: z.unknown().optional().describe("What it holds"),
          }),
        )
        .describe("What it has looked at"),
    }).describe("What where makes of a record"),
    line("misfit", {
      ...ofSample,
      reason: z.string().describe("Why it cannot be stored"),
      path: z.string().describe("The field; empty where it is the whole record"),
      message: z.string().describe("In words"),
      record: z.unknown().describe("The record, whole"),
    }).describe("A record that would go to quarantine"),
    line("record", { ...ofSample, record: z.unknown().describe("As the API gave it") }).describe(
      "A record of the sample",
    ),
    line("change", {
      run: count.describe("The run's number"),
      bridge: z.string().optional().describe("Its bridge"),
      stream: z.string().optional().describe("Its stream"),
      schema: z.string().describe("The table's schema"),
      ...changed,
      changed_at: moment,
    }).describe("A change of the tables' form"),
    line("in_quarantine", {
      ...ofStream,
      id: z.string().describe("The begin of the record's digest"),
      reason: z.string().describe("Which rule the record breaks"),
      path: z.string().describe("The field"),
      message: z.string().describe("The same in words"),
      page: count.optional().describe("Where it came"),
      quarantined_at: moment,
      record: z.unknown().describe("The record, whole"),
    }).describe("A record that did not fit"),
    line("mended", {
      bridge,
      run: count.optional().describe("Its number in the history; left out where there was nothing to do"),
      streams: z
        .array(
          z.strictObject({
            stream,
            tried: count.describe("Records tried again"),
            mended: count.describe("In the tables now"),
            outdated: count.describe("What stands of them is newer, or the same"),
            left_out: count.describe("By rules"),
            left: count.describe("Still in quarantine"),
            message: z.string().optional().describe("Why, of the first that is left"),
          }),
        )
        .describe("What became of each stream's records"),
    }),
    line("rewound", {
      bridge,
      stream,
      parts: z
        .array(
          z.strictObject({
            part: z.string().describe("Empty for a stream without parts"),
            before: z.string().optional().describe("Where it stood; left out: at its beginning"),
            after: z.string().optional().describe("Where it stands now"),
          }),
        )
        .describe("Those that are set back"),
      of: count.describe("Parts in all"),
      dropped: z.array(z.string()).describe("Tables that are gone"),
    }),
    line("error", { error: errorObject }).describe("The command could not do its work"),
  ])
  .describe("Early Bridge output: one line of --json");
