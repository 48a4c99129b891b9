/** What TypeScript knows of a connector that was written in it: names complete, and typos are refused. */

import { describe, expect, expectTypeOf, it } from "vitest";
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
