import { describe, expect, it } from "vitest";
import { isBridgeError } from "../errors.js";
import { compileJsonPath } from "./json-path.js";
import { readPage } from "./read-page.js";
import { pageRequest } from "./request-plan.js";
import { expandTemplate, templateNames } from "./template.js";

describe("templates", () => {
  it("follow RFC 6570, and name what has no value", () => {
    expect(expandTemplate("{+base}/v2/{hut}", { base: "https://a.example", hut: "a b/c" })).toBe(
      "https://a.example/v2/a%20b%2Fc",
    );
    expect(templateNames("{+base}/{x,y}{?q*}")).toEqual(["base", "x", "y", "q"]);
    expect(() => expandTemplate("{nix}", { base: "x" })).toThrow(/\{nix\}, which has no value/);
  });
});

describe("pageRequest", () => {
  it("encodes values, a space as %20, and lets the cursor and the token win", () => {
    const position = {
      since: { query: "after", value: "2026-01-01T00:00:00+02:00" },
      token: { query: "page", value: "a&b=ü" },
    };
    const { url } = pageRequest("https://a.example", "/x", { q: "a b", page: 1 }, {}, position);
    expect(url).toBe(
      "https://a.example/x?q=a%20b&page=a%26b%3D%C3%BC&after=2026-01-01T00%3A00%3A00%2B02%3A00",
    );
    expect(pageRequest("https://a.example", "/x?y=1", { z: true }, {}, {}).url).toBe(
      "https://a.example/x?y=1&z=true",
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
  const plan = { stream: "s", records: compileJsonPath("$.items[*]"), token: compileJsonPath("$.next") };
  const read = (text: string) => readPage(new TextEncoder().encode(text), plan, { stream: "s" });

  it.each([
    ['{"items":[1],"next":"t"}', "t"],
    ['{"items":[],"next":9007199254740993}', "9007199254740993"],
    ['{"items":[],"next":null}', undefined],
    ['{"items":[],"next":""}', undefined],
    ['{"items":[]}', undefined],
    ['\ufeff {"items":[],"next":false}', undefined],
  ])("reads the next token of %s", (text, token) => {
    expect(read(text).nextToken).toBe(token);
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
      read(text);
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
    expect(() => readPage(bytes, plan)).toThrow(/no valid JSON/);
  });

  it("suggests where the records may be", () => {
    expect(() => read('{"data":[]}')).toThrow(
      expect.objectContaining({ hint: "Perhaps records: $.data[*] is meant." }),
    );
  });
});
