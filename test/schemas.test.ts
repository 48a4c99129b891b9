/** The JSON Schema files that ship, by a strict validator of others, over the files that ship. */

import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { Ajv2020 } from "ajv/dist/2020.js";
import addFormats from "ajv-formats";
import fc from "fast-check";
import { compile } from "json-schema-to-typescript";
import { describe, expect, it } from "vitest";
import { parse } from "yaml";
import { formatted, typesOf } from "../scripts/file-types.mjs";
import { outputLine } from "../src/cli/output-schema.js";
import { connectorSchema } from "../src/core/define/connector-schema.js";
import { jsonSchemaOf } from "../src/core/define/json-schema.js";
import { projectSchema } from "../src/core/define/project-schema.js";
import { inLong } from "./support/long.js";
import { outputLines } from "./support/output.js";
import { bookingsService, command, demoProject } from "./support/project.js";
import { queryFile } from "./support/truth.js";

const schemaFile = (name: string) =>
  JSON.parse(readFileSync(`schemas/${name}.schema.json`, "utf8")) as object;

function validator(name: string) {
  const ajv = new Ajv2020({ strict: true, allErrors: true, allowUnionTypes: true });
  (addFormats as unknown as (ajv: Ajv2020) => void)(ajv);
  return ajv.compile(schemaFile(name));
}

describe("the JSON Schema", () => {
  it("of connectors takes every connector of the demo, and refuses a key that is none", () => {
    const validate = validator("connector");
    for (const file of readdirSync("demo/connectors")) {
      const connector = parse(readFileSync(join("demo/connectors", file), "utf8")) as object;
      expect(validate(connector), `${file}: ${JSON.stringify(validate.errors)}`).toBe(true);
      expect(validate({ ...connector, sterams: {} })).toBe(false);
    }
  });

  it("of projects takes the demo's, and refuses one without bridges", () => {
    const validate = validator("bridges");
    const project = parse(readFileSync("demo/bridges.yaml", "utf8")) as Record<string, unknown>;
    expect(validate(project), JSON.stringify(validate.errors)).toBe(true);
    expect(validate({ ...project, bridges: undefined })).toBe(false);
  });

  it.each([
    ["connector", connectorSchema],
    ["bridges", projectSchema],
    ["output", outputLine],
  ])("of %s is the one that is checked by", (name, schema) => {
    expect(schemaFile(name)).toEqual(jsonSchemaOf(schema, name));
  });
});

describe("the types of files in TypeScript", () => {
  it.each([
    ["connector", "ConnectorInput"],
    ["bridges", "ProjectInput"],
  ])("are those of the JSON Schema of %s", async (name, type) => {
    const text = formatted(await typesOf(schemaFile(name), type, compile));
    expect(readFileSync(`src/core/define/${name}-input.ts`, "utf8")).toBe(text);
  });
});

/** Paths of properties that have no description. */
function undescribed(schema: unknown, path: string): string[] {
  if (typeof schema !== "object" || schema === null) return [];
  return Object.entries(schema).flatMap(([keyword, inner]) => {
    // rules over keys that are described elsewhere
    if (keyword === "not") return [];
    if (keyword !== "properties") return undescribed(inner, `${path}.${keyword}`);
    return Object.entries(inner as Record<string, unknown>).flatMap(([name, property]) => [
      ...(property === true || (property as { description?: string }).description !== undefined
        ? []
        : [`${path}.${name}`]),
      ...undescribed(property, `${path}.${name}`),
    ]);
  });
}

describe("every key of the JSON Schema", () => {
  it.each(["connector", "bridges", "output"])("of %s is described", (name) => {
    expect(undescribed(schemaFile(name), name)).toEqual([]);
  });
});

/** A stream with these keys, in a connector that is right. */
const connectorWith = (stream: object, rest: object = {}) => ({
  connector: "huts",
  api: { url: "https://api.huts.example" },
  streams: { stays: { get: "/stays", ...stream } },
  ...rest,
});
const report = (download: object) => ({
  report: {
    submit: { post: "/reports", id: "$.id" },
    poll: { get: "/reports/{report_id}", state: "$.state", done: ["done"] },
    download,
  },
});

describe("what the program refuses, an editor marks by the JSON Schema", () => {
  const validate = validator("connector");
  const isTaken = (value: unknown) => connectorSchema.safeParse(value).success;

  it.each([
    ["two ways to page", connectorWith({ pages: { token: "$.next", number: 1, query: "p" } })],
    ["no way to page", connectorWith({ pages: { query: "p" } })],
    ["an overlap of numbers", connectorWith({ key: "id", pages: { number: 1, overlap: 2 } })],
    ["an overlap without a key", connectorWith({ pages: { offset: 0, overlap: 2 } })],
    ["two methods", connectorWith({ post: "/stays" })],
    ["no method", connectorWith({ get: undefined })],
    ["a body that no POST sends", connectorWith({ body: { json: {} } })],
    ["a path without a slash", connectorWith({ get: "stays" })],
    [
      "windows and a cursor",
      connectorWith({ windows: { span: "P1D", start: "2026-01-01" }, cursor: { last_run: true } }),
    ],
    ["a window of no duration", connectorWith({ windows: { span: "a week", start: "2026-01-01" } })],
    ["a window that is negative", connectorWith({ windows: { span: "-P7D", start: "2026-01-01" } })],
    ["a smallest window with nothing in it", connectorWith({ windows: { span: "P", start: "2026-01-01" } })],
    [
      "a wait in months",
      connectorWith({}, { api: { url: "https://a.example", rate_limit: { max_wait: "P1M" } } }),
    ],
    ["a cursor of two kinds", connectorWith({ cursor: { field: "at", delta: "$.delta" } })],
    ["a cursor of none", connectorWith({ cursor: { query: "since" } })],
    ["a path that does not begin at the root", connectorWith({ records: "items[*]" })],
    ["a type that is none", connectorWith({ columns: { price: { type: "money" } } })],
    ["a hash that is to be a number", connectorWith({ columns: { price: { type: "int64", hash: true } } })],
    ["a part without names", connectorWith({ each: {} })],
    ["a report fetched in two ways", connectorWith({ get: undefined, ...report({ get: "/r", link: true }) })],
    ["a report in pages", connectorWith({ get: undefined, pages: { number: 1 }, ...report({ get: "/r" }) })],
    ["rows named twice", connectorWith({ response: { json: { header_row: true, names: "$.names" } } })],
    ["no stream at all", { ...connectorWith({}), streams: {} }],
    ["a stream with one of our names", { ...connectorWith({}), streams: { eb_stays: { get: "/" } } }],
    [
      "a session with token and cookie",
      connectorWith(
        {},
        { api: { url: "https://a.example", sign_in: { session: { post: "/", token: "$.t", cookie: "c" } } } },
      ),
    ],
  ])("%s", (_what, mistake) => {
    // as a file would hold it: what is undefined is not there
    const written = JSON.parse(JSON.stringify(mistake)) as unknown;
    expect(isTaken(written)).toBe(false);
    expect(validate(written)).toBe(false);
  });

  it("but no duration that the program takes", () => {
    const part = (letter: string) =>
      fc.option(
        fc.nat(400).map((n) => `${n}${letter}`),
        { nil: "" },
      );
    const date = fc.tuple(part("Y"), part("M"), part("W"), part("D")).map((parts) => parts.join(""));
    const time = fc.tuple(part("H"), part("M"), part("S")).map((parts) => parts.join(""));
    const text = fc
      .tuple(fc.constantFrom("", "+", "-"), date, time, fc.boolean())
      .map(([sign, days, hours, lower]) => {
        const whole = `${sign}P${days}${hours === "" ? "" : `T${hours}`}`;
        return lower ? whole.toLowerCase() : whole;
      });
    fc.assert(
      fc.property(text, (span) => {
        const connector = connectorWith({ windows: { span: "P1D", start: "2026-01-01", overlap: span } });
        expect(validate(connector), span).toBe(isTaken(connector));
      }),
    );
  });
});

describe("the page about the ledger", () => {
  it("holds queries that run, over all tables there are", async () => {
    const text = readFileSync("docs/ledger.md", "utf8");
    const service = await bookingsService({ bookings: 60 });
    const project = demoProject(service.url);
    await command(["run"], project.folder);
    const queries = [...text.matchAll(/```sql\n([\s\S]*?)```/g)].map(([, sql]) => sql!);
    expect(queries).toHaveLength(6);
    const [ages, , days, tablesTold, columns] = await Promise.all(
      queries.map((sql) => queryFile(project.database, sql)),
    );
    expect(ages).toHaveLength(2);
    expect(days).toEqual([expect.objectContaining({ bridge: "bookings", runs: "1", added: "100" })]);
    expect(tablesTold).toContainEqual(
      expect.objectContaining({ table_name: "bookings_guests", key_columns: "bookings_id, eb_position" }),
    );
    expect(columns).toContainEqual(
      expect.objectContaining({ table_name: "bookings", column_name: "price_amount", path: "price.amount" }),
    );
    const tables = await queryFile(
      project.database,
      "SELECT table_name FROM information_schema.tables WHERE table_schema = 'early_bridge' ORDER BY 1",
    );
    const told = [...text.matchAll(/^\| `(\w+)`/gm)].map(([, name]) => name);
    expect(told.sort()).toEqual(tables.map(({ table_name }) => table_name));
  });
});

describe("--json", () => {
  inLong("says the same of every command's output, and of its failures", async () => {
    const validate = validator("output");
    const service = await bookingsService({ bookings: 60 });
    const project = demoProject(service.url);
    const printed = async (...args: string[]) => {
      const { stdout, stderr, code } = await command([...args, "--json"], project.folder);
      expect(stderr).toBe("");
      for (const line of stdout.trim().split("\n"))
        expect(validate(JSON.parse(line)), `${line} ${JSON.stringify(validate.errors)}`).toBe(true);
      return { code, lines: outputLines(stdout) };
    };
    const plan = await printed("plan");
    expect(plan.lines.map(({ type }) => type)).toEqual(["plan", "plan", "view", "view"]);
    const run = await printed("run");
    expect(run.lines.at(-1)).toMatchObject({
      type: "run_ended",
      run: 1,
      bridge: "bookings",
      outcome: "done",
    });
    expect(run.lines.every((line) => "run" in line && line.bridge === "bookings")).toBe(true);
    project.edit("connectors/bookings.connector.yaml", "get: /huts", "get: /hutz");
    const failed = await printed("run");
    expect(failed.code).toBe(4);
    const error = { code: "NOT_FOUND", kind: "api", where: expect.stringContaining("stream huts") };
    expect(failed.lines.at(-1)).toMatchObject({ type: "run_ended", outcome: "failed", error });
    const history = await printed("history");
    expect(history.lines).toMatchObject([
      { type: "run", run: 2, error },
      { type: "run", run: 1, outcome: "done" },
    ]);
    expect((await printed("drift")).lines.map(({ type }) => type)).toContain("change");
    expect((await printed("rewind", "bookings", "bookings", "--yes")).lines).toMatchObject([
      { type: "rewound", parts: [{ part: "" }] },
    ]);
    expect((await printed("mend", "--retry")).lines).toEqual([
      { version: 1, type: "mended", bridge: "bookings", streams: [] },
    ]);
    expect((await printed("probe", "bookings")).lines.at(-1)).toMatchObject({ type: "check" });
    const usage = await printed("run", "--strem", "x");
    expect(usage).toMatchObject({
      code: 2,
      lines: [{ type: "error", error: { code: "USAGE", message: expect.stringContaining("--strem") } }],
    });
  });
});
