/** The JSON Schema files that ship, by a strict validator of others, over the files that ship. */

import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { Ajv2020 } from "ajv/dist/2020.js";
import addFormats from "ajv-formats";
import { describe, expect, it } from "vitest";
import { parse } from "yaml";
import { outputLine } from "../src/cli/json-lines.js";
import { connectorSchema } from "../src/core/define/connector-schema.js";
import { jsonSchemaOf } from "../src/core/define/json-schema.js";
import { projectSchema } from "../src/core/define/project-schema.js";
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

describe("the page about the ledger", () => {
  it("holds queries that run, over all tables there are", async () => {
    const text = readFileSync("docs/ledger.md", "utf8");
    const service = await bookingsService({ bookings: 60 });
    const project = demoProject(service.url);
    await command(["run"], project.folder);
    const queries = [...text.matchAll(/```sql\n([\s\S]*?)```/g)].map(([, sql]) => sql!);
    expect(queries).toHaveLength(4);
    const [ages, , columns] = await Promise.all(queries.map((sql) => queryFile(project.database, sql)));
    expect(ages).toHaveLength(2);
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
  it("says the same of every command's output, and of its failures", async () => {
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
    expect(plan.lines.map(({ type }) => type)).toEqual(["plan", "plan"]);
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
    expect((await printed("probe", "bookings")).lines.at(-1)).toMatchObject({ type: "check" });
    const usage = await printed("run", "--strem", "x");
    expect(usage).toMatchObject({
      code: 2,
      lines: [{ type: "error", error: { code: "USAGE", message: expect.stringContaining("--strem") } }],
    });
  });
});
