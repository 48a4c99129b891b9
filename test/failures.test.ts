/** Failures: what passes is tried again, what stays is told in the API's words, with the place and the next step. */

import { describe, expect, it } from "vitest";
import { openTransport } from "../src/http/transport.js";
import { connect, defineConnector, openBridge, type RunEvent } from "../src/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { carried } from "./support/carried.js";
import { failure } from "./support/failure.js";
import { fakeApi, recordsOf } from "./support/fake-api.js";
import { temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";

const items = (count: number) => Array.from({ length: count }, (_, i) => ({ id: i + 1 }));

describe("a redirect of a GET", () => {
  it.each([301, 302, 303, 307, 308])("(%i) is followed within the API's own origin", async (status) => {
    const { run, notices } = carried({ get: "/s", key: "id" }, ({ path }) =>
      path === "/s" ? { status, headers: { location: "/v1/huts" } } : { body: items(2) },
    );
    const { stream, asked } = await run();
    expect(stream).toMatchObject({ outcome: "done", added: 2 });
    expect(asked).toEqual(["/s", "/huts"]);
    // one that is for good is told, once
    const moved = "https://api.huts.example/v1/s has moved to https://api.huts.example/v1/huts";
    expect(notices()).toEqual(
      status === 301 || status === 308 ? [`${moved} (${status}): write that address instead.`] : [],
    );
  });

  it("is not followed to another origin, in a circle, or to a page where people sign in", async () => {
    const to = (location: string) =>
      failure(recordsOf(fakeApi({ get: "/s" }, () => ({ status: 302, headers: { location } }))));
    expect(await to("https://elsewhere.example/s")).toMatchObject({
      code: "REDIRECTED",
      message: expect.stringContaining("https://elsewhere.example/s"),
    });
    expect((await to("/v1/s")).code).toBe("REDIRECTED");
    expect((await to("/login")).hint).toContain("Check the sign-in");
  });
});

describe("one odd response", () => {
  it("(401 to good credentials) is asked for again; a second one fails", async () => {
    const answering = (bad: number) =>
      carried({ get: "/s", key: "id" }, ({ turn }) => (turn <= bad ? { status: 401 } : { body: items(2) }));
    expect((await answering(1).run()).stream).toMatchObject({ outcome: "done", retries: 1 });
    expect((await answering(2).run()).stream).toMatchObject({
      outcome: "failed",
      error: { code: "TOKEN_REFUSED" },
    });
  });

  it("(a page that repeats the one before it) is asked for again", async () => {
    const stream = { get: "/s", key: "id", pages: { number: 1, query: "page" } } as const;
    let slip = true;
    const { run, ids } = carried(stream, ({ query }) => {
      const page = Number(query.get("page"));
      const shown = page === 2 && slip ? 1 : page;
      if (page === 2) slip = false;
      return { body: shown > 3 ? [] : items(6).slice((shown - 1) * 2, shown * 2) };
    });
    expect((await run()).stream).toMatchObject({ outcome: "done", doubled: 0 });
    expect(await ids()).toEqual([1, 2, 3, 4, 5, 6]);
  });
});

describe("what the API says", () => {
  it.each([
    [{ title: "Closed", detail: "the hut is closed" }, "Closed: the hut is closed"],
    [{ error: "invalid_filter", error_description: "no such field" }, "invalid_filter: no such field"],
    [{ error: { code: 17, reason: "too steep" } }, "too steep"],
    [{ errors: [{ message: "first" }, { message: "second" }] }, "first"],
    [{ code: "E42" }, "E42"],
  ])("in %j is quoted", async (body, words) => {
    const error = await failure(recordsOf(fakeApi({ get: "/s" }, () => ({ status: 422, body }))));
    expect(error.message).toContain(`It says: ${words}`);
  });

  it("of a missing scope is told with the scope", async () => {
    const headers = { "www-authenticate": 'Bearer error="insufficient_scope", scope="huts.write"' };
    const error = await failure(recordsOf(fakeApi({ get: "/s" }, () => ({ status: 403, headers }))));
    expect(error).toMatchObject({ code: "FORBIDDEN", hint: expect.stringContaining("the scope huts.write") });
  });
});

describe("a rule that compares unlike kinds", () => {
  it.each([
    ["body.code == 5", "body.code is a text, and is compared with a number"],
    ["status == '200'", "status is a number, and is compared with a text"],
    ["body['code'] > 5", "body['code'] is a text, and is compared with a number"],
  ])("(%s) is told at the first response", async (when, words) => {
    const stream = { get: "/s", records: "$.items[*]", rules: [{ when, means: "stop" as const }] };
    const { run, notices } = carried(stream, () => ({ body: { code: "5", items: items(1) } }));
    await run();
    expect(notices()).toEqual([`The rule ${when} can never hold: ${words}.`]);
  });
});

describe("a detail", () => {
  const list = [
    { id: 1, kind: "hut", href: "https://api.huts.example/v1/items/1" },
    { id: 2, kind: "path", href: "/v1/items/2" },
  ];

  it("is asked for at the address that the record holds, within the API's origins", async () => {
    const fake = fakeApi({ get: "/s", expand: { link: "href" } }, ({ path }) => ({
      body: path === "/s" ? list : { height: path.length },
    }));
    expect(await recordsOf(fake)).toMatchObject([{ height: 8 }, { height: 8 }]);
    const elsewhere = fakeApi({ get: "/s", expand: { link: "href" } }, () => ({
      body: [{ href: "https://elsewhere.example/1" }],
    }));
    expect((await failure(recordsOf(elsewhere))).code).toBe("LINK_NOT_OURS");
  });

  it("is not asked for where the list itself shows that the record is left out", async () => {
    const stream = { get: "/s", where: "record.kind == 'hut'", expand: { link: "href" } };
    const fake = fakeApi(stream, ({ path }) => ({ body: path === "/s" ? list : {} }));
    expect(await recordsOf(fake)).toHaveLength(1);
    expect(fake.log.map(({ path }) => path)).toEqual(["/s", "/items/1"]);
  });
});

describe("a proxy that is not there", () => {
  it("is named, and not the API", async () => {
    const { send, close } = openTransport({ proxy: "http://127.0.0.1:9" });
    const error = await failure(send({ method: "GET", url: "https://api.huts.example/s", headers: {} }));
    expect(error).toMatchObject({
      code: "PROXY_REFUSED",
      message: "The proxy 127.0.0.1:9 refuses connections.",
    });
    await close();
  });
});

describe("several streams", () => {
  it("that fail say each its own; one that is stopped because of another says so", async () => {
    const url = await serve((request, response) => {
      if (request.url === "/token") return response.writeHead(401).end('{"error":"invalid_client"}');
      if (request.url?.startsWith("/a")) return response.writeHead(404).end();
      // the other one is still on its way when the sign-in fails
      return setTimeout(() => response.end('[{"id":1}]'), 300);
    });
    const signIn = {
      oauth2: "client_credentials",
      token_url: `${url}/token`,
      client_id: "me",
      client_secret: "hush-hush",
    };
    const connector = defineConnector({
      connector: "several",
      api: { url, sign_in: signIn as never, rate_limit: { concurrency: 1 } },
      streams: { a: { get: "/a", key: "id" }, b: { get: "/b", key: "id" } },
    });
    await using api = connect(connector, {}, { retry: { tries: 1 } });
    const events: RunEvent[] = [];
    const to = duckdb(`${temporaryFolder()}/several.duckdb`);
    const report = await (await openBridge({ from: api, to })).run({
      onEvent: (event) => events.push(event),
    });
    expect(report).toMatchObject({ outcome: "failed", error: { code: "SIGN_IN_REFUSED" } });
    const [first, second] = report.streams;
    expect(first?.error?.code).toBe("SIGN_IN_REFUSED");
    expect(second).toMatchObject({
      outcome: "stopped",
      error: {
        code: "STOPPED",
        message: expect.stringContaining("stream a has failed with SIGN_IN_REFUSED"),
      },
    });
  });

  it("does not call it a stop when nobody has asked for one", async () => {
    const url = await serve((_request, response) => response.end("[]"));
    const connector = defineConnector({
      connector: "c",
      api: { url },
      streams: { s: { get: "/s", key: "id" } },
    });
    const onRecord = () => {
      throw new DOMException("given up", "AbortError");
    };
    await using api = connect(connector, {}, { onRecord, retry: { tries: 1 } });
    const report = await (await openBridge({ from: api, to: duckdb(`${temporaryFolder()}/s.duckdb`) })).run();
    expect(report).toMatchObject({ outcome: "failed", error: { code: "INTERNAL", kind: "internal" } });
  });
});
