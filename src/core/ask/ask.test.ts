import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { jsonDecoder } from "../decode/json.js";
import { type BodyDefinition, pagesSchema } from "../define/ask-schema.js";
import { isBridgeError } from "../errors.js";
import { compileJsonPath } from "../language/json-path.js";
import { expandTemplate, type TemplateValues, templateNames } from "../language/template.js";
import { compilePages } from "./page-rule.js";
import { type ReadPlan, readPage } from "./read-page.js";
import { planRequest, resolveLink } from "./request-plan.js";

describe("templates", () => {
  it("follow RFC 6570, and name what has no value", () => {
    expect(expandTemplate("{+base}/v2/{hut}", { base: "https://a.example", hut: "a b/c" })).toBe(
      "https://a.example/v2/a%20b%2Fc",
    );
    expect(templateNames("{+base}/{x,y}{?q*}")).toEqual(["base", "x", "y", "q"]);
    expect(() => expandTemplate("{nix}", { base: "x" })).toThrow(/\{nix\}, which has no value/);
  });
});

/** Texts with everything that an address gives a meaning to. */
const anyText = fc.oneof(
  fc.string({ unit: "grapheme" }),
  fc.constantFrom("a b", "ü/é?#&=%+", "{x}", "100%", "..", "漢字"),
);

describe("templates, over any values", () => {
  it("keep a value whole in the path and in the query", () => {
    fc.assert(
      fc.property(anyText, anyText, fc.array(anyText, { maxLength: 4 }), (hut, search, ids) => {
        // a path segment of dots alone is resolved away by every client
        fc.pre(hut !== "" && !/^\.{1,2}$/.test(hut));
        const template = {
          get: "/huts/{hut}/x",
          query: { q: "{search}", id: "{ids*}", fixed: 1 },
          headers: {},
          safe_to_retry: false,
        };
        const url = new URL(planRequest("https://a.example", template, {}, { hut, search, ids }).url);
        expect(decodeURIComponent(url.pathname.split("/")[2]!)).toBe(hut);
        expect(url.pathname.split("/")).toHaveLength(4);
        expect(decodeURIComponent(/[?&]q=([^&]*)/.exec(url.search)![1]!)).toBe(search);
        expect(url.searchParams.getAll("id")).toEqual(ids);
        expect([...url.searchParams.keys()].filter((name) => name !== "id")).toEqual(["q", "fixed"]);
        expect(url.href).not.toContain("+");
      }),
    );
  });

  it("keep a value whole in a JSON body, whatever it holds", () => {
    fc.assert(
      fc.property(anyText, fc.integer(), fc.array(anyText, { minLength: 1 }), (text, n, list) => {
        const template = {
          post: "/x",
          query: {},
          headers: {},
          safe_to_retry: true,
          body: { json: { text: "{text}", n: "{n}", list: "{list}", in: ["<{text}>"] } },
        };
        const { body } = planRequest("https://a.example", template, {}, { text, n, list });
        expect(JSON.parse(body!)).toEqual({ text, n, list, in: [`<${text}>`] });
      }),
    );
  });
});

describe("planRequest", () => {
  const template = { get: "/x", query: {}, headers: {}, safe_to_retry: false };
  const url = (
    query: Record<string, string | number | boolean | (string | number)[]>,
    values: TemplateValues = {},
    parameters = {},
  ) =>
    planRequest("https://a.example", { ...template, query }, {}, values, parameters).url.slice(
      "https://a.example/x".length,
    );

  it("encodes values, a space as %20, and lets the cursor and the token win", () => {
    expect(url({ q: "a b", page: 1 }, {}, { page: "a&b=ü", after: "2026-01-01T00:00:00+02:00" })).toBe(
      "?q=a%20b&page=a%26b%3D%C3%BC&after=2026-01-01T00%3A00%3A00%2B02%3A00",
    );
    expect(
      planRequest(
        "https://a.example",
        { ...template, get: "/h/{hut}?y=1", query: { z: true } },
        {},
        { hut: "a b/c" },
      ).url,
    ).toBe("https://a.example/h/a%20b%2Fc?y=1&z=true");
  });

  it.each([
    ["a list is repeated", { id: ["a", 2] }, {}, "?id=a&id=2"],
    ["a list value is joined", { id: "{ids}" }, { ids: ["a b", "c"] }, "?id=a%20b%2Cc"],
    ["a list value with * is repeated", { id: "{ids*}" }, { ids: ["a b", "c"] }, "?id=a%20b&id=c"],
    [
      "what has no value is left out",
      { a: "{x}", b: "from {x}", c: "{ids}", d: "" },
      { x: undefined, ids: [] },
      "?d=",
    ],
    [
      "braces that are no name are text",
      { q: "{ huts { id } }" },
      {},
      "?q=%7B%20huts%20%7B%20id%20%7D%20%7D",
    ],
  ])("%s", (_what, query, values, expected) => {
    expect(url(query as Record<string, string>, values)).toBe(expected);
  });

  it("fills bodies: kinds stay in JSON, XML is escaped, forms are encoded", () => {
    const post = (body: BodyDefinition, values: TemplateValues) => {
      const {
        body: text,
        headers,
        method,
      } = planRequest("https://a.example", { ...template, get: undefined, post: "/x", body }, {}, values);
      return [method, text, headers["content-type"]];
    };
    const values = { n: 7, ids: ["a", "b"], text: 'x"<y>', none: undefined };
    expect(
      post({ json: { page: { size: "{n}", ids: "{ids}", q: "at {text}", gone: "{none}" } } }, values),
    ).toEqual(["POST", '{"page":{"size":7,"ids":["a","b"],"q":"at x\\"<y>"}}', "application/json"]);
    expect(post({ xml: "<q t='1'>{text}</q>" }, values)[1]).toBe("<q t='1'>x&quot;&lt;y&gt;</q>");
    expect(post({ form: { a: "{text}", b: "{ids*}", c: "{none}" } }, values)[1]).toBe(
      "a=x%22%3Cy%3E&b=a&b=b",
    );
    expect(post({ text: "after={none};", type: "text/plain" }, values).slice(1)).toEqual([
      "after=;",
      "text/plain",
    ]);
  });
});

describe("resolveLink", () => {
  const page = "https://api.huts.example/v2/stays?page=1";
  const origins = ["https://api.huts.example"];

  it.each([
    ["https://api.huts.example/v2/stays?page=2", "https://api.huts.example/v2/stays?page=2"],
    ["/v2/stays?page=2", "https://api.huts.example/v2/stays?page=2"],
    ["?page=2", "https://api.huts.example/v2/stays?page=2"],
    ["stays?page=2&q=a b", "https://api.huts.example/v2/stays?page=2&q=a%20b"],
    ["http://api.huts.example/v2/stays?page=2", "https://api.huts.example/v2/stays?page=2"],
    ["//api.huts.example/v2", "https://api.huts.example/v2"],
  ])("makes %s whole", (link, whole) => {
    expect(resolveLink(link, page, origins)).toBe(whole);
  });

  it("does not follow to another origin", () => {
    for (const link of [
      "https://elsewhere.example/v2",
      "//elsewhere.example/",
      "https://api.huts.example:8443/",
    ])
      expect(() => resolveLink(link, page, origins)).toThrow(
        expect.objectContaining({ code: "LINK_NOT_OURS" }),
      );
  });
});

describe("JSONPath", () => {
  const body = {
    items: [{ id: 1 }, { id: 2, deep: { list: [3] } }],
    "odd key": { next: "n" },
    map: { a: 1 },
  };

  it.each([
    ["$.items[*]", body.items],
    ["$", [body]],
    ["$.map[*]", [1]],
    ["$.nothing[*]", undefined],
    ["$['odd key'].next", ["n"]],
    ["$.items[?@.id > 1].deep.list[*]", [3]],
    ["$..id", [1, 2]],
  ])("%s is found", (path, found) => {
    expect(compileJsonPath(path).all(body)).toEqual(found);
  });

  it("does not find what only the prototype has", () => {
    expect(compileJsonPath("$.constructor").first({})).toBeUndefined();
  });

  it("refuses what is none", () => {
    for (const path of ["items", "$.", "$[", ""]) expect(() => compileJsonPath(path)).toThrow();
  });
});

describe("readPage", () => {
  const pages = compilePages(pagesSchema.parse({ token: "$.next", query: "after" }));
  const plan: ReadPlan = {
    stream: "s",
    decoder: jsonDecoder(),
    records: [compileJsonPath("$.items[*]")],
    envelope: pages.envelope,
  };
  const bytesOf = (text: string) => ({ body: new TextEncoder().encode(text), headers: {} });
  const read = (text: string) => readPage(bytesOf(text), plan, { stream: "s" });
  const next = (text: string) =>
    pages.next(
      { at: "start" },
      read(text),
      { pages: 1, records: 0, shift: 0, stale: false, fullPage: 10, totalHolds: true },
      { stream: "s" },
    );

  it.each([
    ['{"items":[1],"next":"t"}', "t"],
    ['{"items":[],"next":9007199254740993}', "9007199254740993"],
    ['{"items":[],"next":null}', undefined],
    ['{"items":[],"next":""}', undefined],
    ['{"items":[]}', undefined],
    ['\ufeff {"items":[],"next":false}', undefined],
  ])("reads the next token of %s", (text, token) => {
    expect(next(text)).toEqual(token === undefined ? { at: "end" } : { at: "token", token });
  });

  it.each([
    ["", "BODY_TRUNCATED", "nothing came"],
    ['{"items":[{"id":1},{"i', "BODY_TRUNCATED", "breaks off after 22 bytes"],
    ['{"items":[1,]}', "BODY_NOT_JSON", "it begins"],
    ["<!doctype html><title>Sign in</title>", "BODY_HTML", 'titled "Sign in"'],
    ['{"data":[{"id":1}],"n":1}', "RECORDS_NOT_FOUND", "data (list), n (number)"],
    ["[1]", "RECORDS_NOT_FOUND", "a list"],
    ['{"items":[],"next":{"a":1}}', "TOKEN_NOT_TEXT", "object"],
  ])("tells what is wrong with %s", (text, code, message) => {
    try {
      next(text);
      expect.unreachable();
    } catch (error) {
      expect(isBridgeError(error)).toBe(true);
      expect(error).toMatchObject({
        code,
        message: expect.stringContaining(message),
        where: { stream: "s" },
      });
    }
  });

  it("refuses bytes that are no UTF-8", () => {
    const bytes = new Uint8Array([
      ...new TextEncoder().encode('{"items":["'),
      0xff,
      ...new TextEncoder().encode('"]}'),
    ]);
    expect(() => readPage({ body: bytes, headers: {} }, plan)).toThrow(/not valid JSON/);
  });

  it("suggests where the records may be", () => {
    expect(() => read('{"data":[]}')).toThrow(
      expect.objectContaining({ hint: "Perhaps records: $.data[*] is meant." }),
    );
  });
});
