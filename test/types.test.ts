/** What TypeScript knows of a connector that was written in it: names complete, and typos are refused. */

import { resolve } from "node:path";
import ts from "typescript";
import { describe, expect, expectTypeOf, it } from "vitest";
import type * as z from "zod";
import type { ProjectInput } from "../src/core/define/bridges-input.js";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import type { connectorSchema } from "../src/core/define/connector-schema.js";
import type { projectSchema } from "../src/core/define/project-schema.js";
import { type Api, connect, defineConnector } from "../src/index.js";

const huts = defineConnector({
  connector: "huts",
  settings: {
    base: { type: "string", format: "uri" },
    token: { type: "string", secret: true },
    year: { type: "number", default: 2026 },
    region: { type: "string", choices: { north: 1, south: 2 }, optional: true },
  },
  api: { url: "{+base}/v1", sign_in: { bearer: "{token}" } },
  streams: { huts: { get: "/huts", key: "id" }, stays: { get: "/stays" } },
});

const PLAIN = { url: "https://api.huts.example" };

interface Stay {
  readonly id: number;
  readonly hut: string;
}

describe("a connector in TypeScript", () => {
  it("knows its streams by name", async () => {
    const api = connect(huts, {
      base: "https://api.huts.example",
      token: process.env.HUTS_TOKEN ?? "hush-1",
    });
    expectTypeOf(api).toExtend<Api<"huts" | "stays">>();
    expectTypeOf(api.records).parameter(0).toEqualTypeOf<"huts" | "stays">();
    expectTypeOf(api.records<Stay>("stays")).toEqualTypeOf<AsyncIterableIterator<Stay>>();
    // @ts-expect-error: there is no such stream
    await expect(api.pages("stasy").next()).rejects.toThrow("no stream stasy");
    // @ts-expect-error: what holds the secrets is not for users
    expect(api.redactor).toBeUndefined();
    expect(JSON.stringify(api)).not.toContain("hush-1");
  });

  it("knows its settings: which there are, which may be left out, and what they hold", () => {
    // @ts-expect-error: the token is missing
    expect(() => connect(huts, { base: "https://api.huts.example" })).toThrow("token");
    // @ts-expect-error: a year is a number
    expect(() => connect(huts, { base: "https://api.huts.example", token: "t", year: "soon" })).toThrow(
      "year",
    );
    // @ts-expect-error: there is no such setting
    expect(() => connect(huts, { base: "https://a.example", token: "t", yaer: 2026 })).toThrow(
      "yaer is no setting",
    );
    connect(huts, { base: "https://a.example", token: "t", year: 2025, region: "north" });
    // @ts-expect-error: some have to be told
    expect(() => connect(huts)).toThrow("base");
    connect(defineConnector({ ...huts, settings: { year: { type: "number", default: 2026 } }, api: PLAIN }));
    connect(defineConnector({ connector: "huts", api: PLAIN, streams: { huts: { get: "/huts" } } }));
  });

  it("refuses what the schema refuses, while it is written", () => {
    const define = () =>
      defineConnector({
        connector: "huts",
        api: { url: "https://a.example" },
        // @ts-expect-error: no key of a stream
        streams: { huts: { get: "/huts", kye: "id" } },
      });
    expect(define).toThrow("streams.huts.kye");
  });

  it("from a file takes any names: they are checked when it runs", () => {
    const api = connect(huts as Parameters<typeof connect>[0], { base: "https://a.example", token: "t" });
    expectTypeOf(api.records).parameter(0).toEqualTypeOf<string>();
  });
});

/** What is read once for all programs. */
const registry = ts.createDocumentRegistry();

/** What an editor shows in a program: at the place of `|`. */
function editorAt(program: string) {
  const file = resolve("test/program.ts");
  const at = program.indexOf("|");
  const text = program.slice(0, at) + program.slice(at + 1);
  const options: ts.CompilerOptions = {
    strict: true,
    skipLibCheck: true,
    target: ts.ScriptTarget.ES2022,
    module: ts.ModuleKind.NodeNext,
    moduleResolution: ts.ModuleResolutionKind.NodeNext,
    paths: { "early-bridge": [resolve("dist/index.d.ts")] },
  };
  const host: ts.LanguageServiceHost = {
    getCompilationSettings: () => options,
    getScriptFileNames: () => [file],
    getScriptVersion: (name) => (name === file ? program : "1"),
    getScriptSnapshot: (name) => {
      const content = name === file ? text : ts.sys.readFile(name);
      return content === undefined ? undefined : ts.ScriptSnapshot.fromString(content);
    },
    getCurrentDirectory: () => resolve("."),
    getDefaultLibFileName: (wanted) => ts.getDefaultLibFilePath(wanted),
    fileExists: ts.sys.fileExists,
    readFile: ts.sys.readFile,
    directoryExists: ts.sys.directoryExists,
  };
  const service = ts.createLanguageService(host, registry);
  return {
    hover: () => ts.displayPartsToString(service.getQuickInfoAtPosition(file, at)?.documentation),
    completions: () => service.getCompletionsAtPosition(file, at, {})?.entries.map(({ name }) => name) ?? [],
  };
}

const written = (api: string, stream: string) =>
  `import { defineConnector } from "early-bridge";
  export const c = defineConnector({
    connector: "huts", api: { url: "https://a.example", ${api} }, streams: { huts: { get: "/huts", ${stream} } },
  });`;

describe("an editor", () => {
  it.each([
    ["rate_limit: { per_|second: 2 }", "", "Requests per second, at most"],
    ["rate_|limit: {}", "", "What the API allows, as its documentation publishes it"],
    [
      "",
      "key: 'id', pages: { tok|en: '$.next', query: 'after' }",
      "Where the next page's token is; the last page has none",
    ],
    ["", "safe_to_|retry: true", "This POST changes nothing, so it may be sent again. Default: false"],
    ["sign_in: { oauth2: 'client_credentials', sco|pe: 'x' }", "", "Scopes to ask for, separated by spaces"],
  ])("shows what the schema says of %s%s", (api, stream, text) => {
    expect(editorAt(written(api, stream)).hover()).toBe(text);
  });

  it("completes keys, and the words that a key takes", () => {
    expect(editorAt(written("", "cursor: { | }")).completions()).toEqual(
      expect.arrayContaining(["field", "delta", "last_run", "overlap"]),
    );
    const words = editorAt(written("", "response: '|'")).completions();
    expect(words.sort()).toEqual(["csv", "json", "json_lines", "xml"]);
  });
});

describe("the types of files", () => {
  it("take what the schemas take; those of connectors nothing else", () => {
    expectTypeOf<z.input<typeof connectorSchema>>().toExtend<ConnectorInput>();
    expectTypeOf<ConnectorInput>().toExtend<z.input<typeof connectorSchema>>();
    expectTypeOf<z.input<typeof projectSchema>>().toExtend<ProjectInput>();
  });
});
