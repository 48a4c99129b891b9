/** The examples of README and docs are not prose: TypeScript compiles, YAML is accepted and asks as it is said to. */

import { execFile } from "node:child_process";
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { dirname, join, resolve } from "node:path";
import { pathToFileURL } from "node:url";
import { promisify } from "node:util";
import ts from "typescript";
import { describe, expect, it } from "vitest";
import { rulesText } from "../scripts/shape-rules.mjs";
import { checkValue, parseYaml } from "../src/core/define/check.js";
import { checkConnector } from "../src/core/define/connector.js";
import { projectSchema } from "../src/core/define/project-schema.js";
import { shape, unshape } from "../src/core/index.js";
import { openBridge, type TokenStore, type Warehouse } from "../src/index.js";
import { BOOKINGS_DEFAULTS } from "../src/standins/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { type Asked, fakeApi } from "./support/fake-api.js";
import { inLong } from "./support/long.js";
import { bookingsService, command, temporaryFolder } from "./support/project.js";

const README = readFileSync("README.md", "utf8");
const PAGES = ["paging", "requests", "parts", "cursors", "pace"];
const PROGRAMS = [...PAGES, "browser", "extending", "first-hour", "tables"];

/** Fenced blocks of a page, in order. */
function fenced(text: string): { readonly language: string; readonly text: string }[] {
  return [...text.matchAll(/^```(\w+)\n([\s\S]*?)^```/gm)].map(([, language, inner]) => ({
    language: language!,
    text: inner!,
  }));
}

const blocks = (language: string) =>
  fenced(README).flatMap((block) => (block.language === language ? [block.text] : []));

/**
 * What the compiler says of texts as if they stood in this folder, the package's own name leading to what was
 * built.
 */
function complaints(texts: readonly string[]): string[] {
  const files = new Map(texts.map((text, i) => [resolve(`test/docs-example-${i}.ts`), text]));
  const options: ts.CompilerOptions = {
    strict: true,
    noEmit: true,
    skipLibCheck: true,
    target: ts.ScriptTarget.ES2022,
    module: ts.ModuleKind.NodeNext,
    moduleResolution: ts.ModuleResolutionKind.NodeNext,
    types: ["node"],
    paths: {
      "early-bridge": [resolve("dist/index.d.ts")],
      "early-bridge/core": [resolve("dist/core/index.d.ts")],
      "early-bridge/testing": [resolve("dist/testing/index.d.ts")],
      "early-bridge/duckdb": [resolve("dist/warehouse/duckdb/index.d.ts")],
    },
  };
  const host = ts.createCompilerHost(options);
  const { getSourceFile, fileExists } = host;
  host.fileExists = (file) => files.has(file) || fileExists.call(host, file);
  host.getSourceFile = (file, ...rest) => {
    const text = files.get(file);
    return text === undefined
      ? getSourceFile.call(host, file, ...rest)
      : ts.createSourceFile(file, text, options.target!);
  };
  const program = ts.createProgram([...files.keys()], options, host);
  return ts
    .getPreEmitDiagnostics(program)
    .map((each) => ts.flattenDiagnosticMessageText(each.messageText, " "));
}

describe("README and docs", () => {
  inLong("hold TypeScript that compiles", () => {
    const pages = PROGRAMS.flatMap((page) => fenced(readFileSync(`docs/${page}.md`, "utf8")));
    const examples = [
      ...blocks("ts"),
      ...pages.flatMap(({ language, text }) => (language === "ts" ? [text] : [])),
    ];
    expect(examples).toHaveLength(11);
    // the one with a key too many shows that the compiler has looked
    const wrong = examples[0]!.replace('connector: "bookings",', 'connector: "bookings", nonsense: 1,');
    expect(complaints([...examples, wrong])).toEqual([expect.stringContaining("'nonsense' does not exist")]);
  });
});

describe("the README", () => {
  it("links every page and every picture", () => {
    const shown = [
      ...readdirSync("docs"),
      ...readdirSync("docs/screenshots").map((name) => `screenshots/${name}`),
    ];
    const files = shown.filter((name) => /\.(md|png)$/.test(name)).map((name) => `docs/${name}`);
    expect(files.length).toBeGreaterThan(12);
    expect(files.filter((path) => !README.includes(`](${path})`))).toEqual([]);
  });

  it("holds a program that runs as it stands, against the demo's service", async () => {
    const { url } = await bookingsService({ bookings: 700 });
    const code = ts.transpile(blocks("ts")[0]!, {
      target: ts.ScriptTarget.ES2022,
      module: ts.ModuleKind.ESNext,
    });
    const program = join(temporaryFolder(), "program.mjs");
    const here = (path: string) => JSON.stringify(pathToFileURL(resolve(path)).href);
    const text = code
      .replace("http://127.0.0.1:4180", url)
      .replace('"early-bridge"', here("dist/index.js"))
      .replace('"early-bridge/duckdb"', here("dist/warehouse/duckdb/index.js"));
    writeFileSync(program, text);
    const env = { ...process.env, BOOKINGS_SECRET: BOOKINGS_DEFAULTS.clientSecret };
    const ended = await promisify(execFile)(process.execPath, [program], { cwd: dirname(program), env });
    expect(ended).toEqual({ stdout: "the first of them: HB-0000000\ndone 700\n", stderr: "" });
  });

  it("holds a connector and a project that are accepted", () => {
    const [connector, project] = blocks("yaml").map((text, i) => parseYaml(text, `README ${i}`));
    expect(checkConnector(connector!.value, connector!).connector).toBe("bookings");
    expect(Object.keys(checkValue(projectSchema, project!.value, project!).bridges)).toEqual(["bookings"]);
  });
});

describe("the page about tables", () => {
  it("shows what shape makes of the records beside it, and a program that runs", () => {
    const page = readFileSync("docs/tables.md", "utf8");
    // the formatter has its own ways with blanks and lines
    const bare = (text: string) => text.replaceAll(/[\s-]/g, "");
    expect(bare(page)).toContain(bare(rulesText()));
    const [program] = fenced(page).filter(({ language }) => language === "ts");
    const lines: unknown[][] = [];
    const code = ts
      .transpile(program!.text, { target: ts.ScriptTarget.ES2022, module: ts.ModuleKind.ESNext })
      .replace(/^import.*$/m, "");
    new Function("shape", "unshape", "console", code)(shape, unshape, {
      log: (...cells: unknown[]) => lines.push(cells),
    });
    expect(lines).toEqual([
      ["huts", 1],
      ["huts_rooms", 2],
      [[{ id: 1, name: "Adlerhorst", rooms: [{ beds: 4 }, { beds: 12 }] }], [], []],
    ]);
  });
});

describe("the page about the first hour", () => {
  inLong("leads from an address to rows, command by command", async () => {
    const { url } = await bookingsService({ bookings: 300 });
    const folder = temporaryFolder();
    const shell = fenced(readFileSync("docs/first-hour.md", "utf8")).filter(
      ({ language }) => language === "sh",
    );
    const [first, ...others] = shell.flatMap(({ text }) => text.replaceAll("\\\n", "").trim().split("\n"));
    const env = Object.fromEntries(
      [...first!.matchAll(/(\w+)=(\S+)/g)].map(([, name, value]) => [name!, value!]),
    );
    expect(others).toHaveLength(10);
    const told: string[] = [];
    for (const line of others) {
      const words = line.match(/'[^']*'|\S+/g)!.map((word) => word.replace(/^'([\s\S]*)'$/, "$1"));
      const args = words.slice(2).map((word) => word.replace("http://127.0.0.1:4180", url));
      const { code, stdout, stderr } = await command(args, folder, env);
      expect([code, stderr], line).toEqual([0, ""]);
      told.push(stdout);
    }
    expect(told.join("\n")).toMatch(/where keeps \d+, and leaves out \d+/);
    expect(told.at(-2)).toMatch(/bookings +~?\d+ +~?300/);
  });
});

describe("the page about extending", () => {
  it("holds a warehouse that keeps rows and cursors, and a token store", async () => {
    const [store, memory] = fenced(readFileSync("docs/extending.md", "utf8")).map(({ text }) => text);
    const module = async (text: string) => {
      const path = join(temporaryFolder(), "page.mjs");
      const options = { target: ts.ScriptTarget.ES2022, module: ts.ModuleKind.ESNext };
      const index = JSON.stringify(pathToFileURL(resolve("dist/index.js")).href);
      writeFileSync(path, ts.transpile(text, options).replace('"early-bridge"', index));
      return (await import(path)) as Record<string, unknown>;
    };
    const { MemoryWarehouse } = (await module(memory!)) as { MemoryWarehouse: new () => Memory };
    const warehouse = new MemoryWarehouse();
    let body: unknown = [
      { id: 1, at: 5, beds: 2 },
      { id: 2, at: 6 },
    ];
    const stream = { get: "/stays", key: "id", cursor: { field: "at", query: "since" } } as const;
    const run = async () => {
      const code = { streams: { s: { gone: ({ gone }: { readonly gone?: unknown }) => gone === true } } };
      const fake = fakeApi(stream, () => ({ body }), code);
      const report = await (await openBridge({ from: fake.api, to: warehouse, name: "b" })).run();
      return { stream: report.streams[0], asked: fake.log.map(({ query }) => query.get("since")) };
    };
    expect(await run()).toMatchObject({ stream: { outcome: "done", added: 2 }, asked: [null] });
    body = [
      { id: 1, at: 7, gone: true },
      { id: 2, at: 8 },
    ];
    expect(await run()).toMatchObject({ stream: { outcome: "done", changed: 1, removed: 1 }, asked: ["5"] });
    expect([...warehouse.tables.get("s")!.values()]).toEqual([{ id: 2n, at: 8n, beds: null }]);

    const { keptIn } = (await module(store!)) as { keptIn: (service: Map<string, string>) => TokenStore };
    const service = new Map<string, string>();
    const tokens = keptIn(service);
    await tokens.write("k", { refreshToken: "r", savedAtMs: 1 });
    expect(await tokens.read("k")).toEqual({ refreshToken: "r", savedAtMs: 1 });
    await tokens.remove("k");
    expect([await tokens.read("k"), service.size]).toEqual([undefined, 0]);
  });
});

interface Memory extends Warehouse {
  readonly tables: Map<string, Map<string, unknown>>;
}

/** One exchange as a page shows it: `GET /path [header: value] body → status answer | header: value`. */
interface Shown {
  readonly asked: string;
  readonly status: number;
  readonly body: string;
  readonly headers: Readonly<Record<string, string>>;
}

function shownExchange(line: string): Shown {
  const [asked, answer] = line.split(" → ");
  const [body, ...headers] = answer!.split(" | ");
  const [, status, text] = /^(\d{3} )?([\s\S]*)$/.exec(body!)!;
  return {
    asked: asked!,
    status: Number(status ?? 200),
    body: text!.replaceAll("\\n", "\n"),
    headers: Object.fromEntries(headers.map((each) => each.split(/: (.*)/).slice(0, 2) as [string, string])),
  };
}

/** Carries an example's streams once for each run that is shown; gives what is shown and was not asked. */
async function neverAsked(yaml: string, runs: readonly (readonly Shown[])[]): Promise<string[]> {
  const value = parseYaml(yaml, "example").value as { api?: object; streams?: object };
  const streams = value.streams ?? value;
  // the streams before the last one are its parents, which it asks for itself
  const carried = value.api === undefined ? { [Object.keys(streams).at(-1)!]: {} } : undefined;
  const database = duckdb(join(temporaryFolder(), "docs.duckdb"));
  const never: string[] = [];
  for (const run of runs) {
    const left = [...run];
    const fake = fakeApi({ streams, api: value.api ?? {} } as never, (asked) => {
      const text = lineOf(asked);
      const at = left.findIndex((each) => each.asked === text);
      if (at < 0) throw new Error(`The example asks "${text}", which is not shown.`);
      return left.splice(at, 1)[0]!;
    });
    const bridge = await openBridge({ from: fake.api, to: database, schema: "docs", streams: carried });
    expect((await bridge.run()).error, yaml).toBeUndefined();
    never.push(...left.map(({ asked }) => asked));
  }
  return never;
}

function lineOf({ method, path, query, headers, body }: Asked): string {
  const pairs = [...query].map((pair) => pair.map(encodeURIComponent).join("="));
  const own = Object.entries(headers).filter(([name]) => name.startsWith("x-"));
  const address = `${method} ${path}${pairs.length === 0 ? "" : `?${pairs.join("&")}`}`;
  return [
    address,
    ...own.map(([name, text]) => `[${name}: ${text}]`),
    ...(body === undefined ? [] : [body]),
  ].join(" ");
}

describe.each(PAGES)("docs/%s.md", (page) => {
  const found = fenced(readFileSync(`docs/${page}.md`, "utf8"));
  const examples = found.flatMap(({ language, text }, i) =>
    language === "yaml" ? [[text, found[i + 1]] as const] : [],
  );

  it("shows the requests of every example", () => {
    expect(examples.length).toBeGreaterThan(1);
    for (const [yaml, exchanges] of examples) expect(exchanges?.language, yaml).toBe("text");
  });

  it.each(
    examples.map(([yaml, exchanges]) => [yaml.split("\n").slice(0, 4).join(" "), yaml, exchanges!.text]),
  )("asks as it says: %s", async (_begin, yaml, text) => {
    const runs = text
      .trim()
      .split("\n--- next run\n")
      .map((run) => run.split("\n").map(shownExchange));
    expect(await neverAsked(yaml, runs)).toEqual([]);
  });
});
