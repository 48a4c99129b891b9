/** The core by itself: bundled for a browser, it needs nothing of Node. And what must never be shown. */

import { readFileSync } from "node:fs";
import { runInNewContext } from "node:vm";
import { gzipSync } from "node:zlib";
import { build } from "esbuild";
import { describe, expect, it } from "vitest";
import { ERROR_CODES } from "../src/core/errors.js";
import { Redactor } from "../src/core/redact.js";

describe("the core in a browser", () => {
  it("bundles without Node and shapes a page there", async () => {
    const { outputFiles } = await build({
      stdin: { contents: 'export * from "early-bridge/core"', resolveDir: "." },
      bundle: true,
      write: false,
      platform: "browser",
      format: "iife",
      globalName: "core",
      logLevel: "silent",
    });
    const code = outputFiles[0]!.text;
    // a browser's globals, and nothing of Node's: no process, no Buffer, no require
    const page = { TextEncoder, TextDecoder, URL, Intl, result: undefined as unknown };
    runInNewContext(
      `${code};
      const connector = core.defineConnector({
        connector: "demo", api: { url: "https://api.huts.example" },
        streams: { stays: { get: "/stays", records: "$.items[*]", key: "id", pages: { token: "$.next", query: "after" } } },
      });
      const stream = core.compileStream(connector, "stays", connector.streams.stays);
      const bytes = new TextEncoder().encode('{"items":[{"id":9007199254740993,"guests":[{"n":"Ana"}]}],"next":"t2"}');
      const read = core.readPage({ body: bytes, headers: {} }, stream.request.plan);
      const shape = new core.Shape({ stream: "stays", key: stream.key, columns: stream.columns, names: { maxBytes: 63 }, takenTables: new Set() });
      const [{ batches }] = [...read.shape(shape)];
      result = JSON.stringify({ next: read.envelope.token, tables: batches.map((each) => each.table), types: shape.schema()[0].columns.map((each) => core.formatColumnType(each.type)) });`,
      page,
    );
    expect(JSON.parse(String(page.result))).toEqual({
      next: "t2",
      tables: ["stays", "stays_guests"],
      types: ["int64"],
    });
  });
});

/** What a browser loads for some names of the core: kB of one file, minified and packed. */
async function packedSize(names: string): Promise<number> {
  const taken = names === "*" ? "*" : `{ ${names} }`;
  const { outputFiles } = await build({
    stdin: { contents: `export ${taken} from "early-bridge/core"`, resolveDir: "." },
    bundle: true,
    minify: true,
    write: false,
    platform: "browser",
    format: "esm",
    logLevel: "silent",
  });
  return gzipSync(outputFiles[0]!.contents).length / 1000;
}

describe("sizes for a browser", () => {
  const told = [...readFileSync("docs/browser.md", "utf8").matchAll(/^\| `([^`]+)`.*\| (\d+) +\|$/gm)];

  it("are told for what stands by itself, and reading JSON is small", () => {
    expect(told.length).toBeGreaterThan(9);
    expect(Number(told[0]![2])).toBeLessThanOrEqual(40);
  });

  it.each(told.map(([, names, kB]) => [names!, Number(kB)] as const))(
    "of %s are as told",
    async (names, kB) => {
      const size = await packedSize(names);
      expect(size).toBeLessThanOrEqual(kB);
      // a figure that has become too large is no longer true either
      expect(size).toBeGreaterThan(kB * 0.75);
    },
  );
});

describe("the redactor", () => {
  const redactor = new Redactor();
  redactor.add('s3cret "with" ü/slash');

  it.each([
    ['said: s3cret "with" ü/slash!', "said: [secret]!"],
    [JSON.stringify({ a: 's3cret "with" ü/slash' }), '{"a":"[secret]"}'],
    [`GET /x?q=${encodeURIComponent('s3cret "with" ü/slash')}&b=1`, "GET /x?q=[secret]&b=1"],
    ["authorization: Bearer abc.def-ghi_jkl", "authorization: Bearer [secret]"],
    ["GET /x?api_key=abc123&page=2", "GET /x?api_key=[secret-1]&page=2"],
    ["nothing to hide: token ring, page 2", "nothing to hide: token ring, page 2"],
  ])("hides what is secret in %j", (text, shown) => {
    expect(redactor.hide(text)).toBe(shown);
  });
});

describe("the table of errors", () => {
  it("gives every code a remedy that is a sentence", () => {
    for (const [code, { hint }] of Object.entries(ERROR_CODES))
      expect(hint, code).toMatch(/^[A-Z].{12,}[.?]$/);
  });
});
