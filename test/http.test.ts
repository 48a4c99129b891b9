/** What servers answer, and what a user is told: one real server that misbehaves in every way we name. */

import { brotliCompressSync, deflateSync, gzipSync } from "node:zlib";
import { DuckDBInstance } from "@duckdb/node-api";
import { describe, expect, it } from "vitest";
import { Redactor } from "../src/core/redact.js";
import { createExchange, newTally } from "../src/http/exchange.js";
import { PaceGate } from "../src/http/pace-gate.js";
import { openTransport } from "../src/http/transport.js";
import { type ConnectOptions, connect, defineConnector } from "../src/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { temporaryFolder } from "./support/project.js";
import { type Handler, serve } from "./support/serve.js";

const quick: ConnectOptions = { retry: { tries: 2, baseMs: 1 } };

/** Reads the one stream; rejects with what went wrong. */
async function read(url: string, options: ConnectOptions = quick, signIn?: string): Promise<unknown[]> {
  const connector = defineConnector({
    connector: "plain",
    api: {
      url,
      ...(signIn === undefined
        ? {}
        : {
            sign_in: {
              oauth2: "client_credentials",
              token_url: signIn,
              client_id: "me",
              client_secret: "hush-hush",
            },
          }),
    },
    streams: { things: { get: "/things" } },
  });
  await using api = connect(connector, {}, options);
  const records: unknown[] = [];
  for await (const record of api.records("things")) records.push(record);
  return records;
}

/** A clock that jumps to the end of every sleep. */
function jumpingClock() {
  let now = 1_000_000;
  return {
    now: () => now,
    async sleep(ms: number) {
      now += ms;
    },
  };
}

describe("a request that waits for the pace", () => {
  it("is signed after its wait, and counts again where it is sent again with a new token", async () => {
    const clock = jumpingClock();
    const times: string[] = [];
    let token = 1;
    const exchange = createExchange({
      clock,
      random: Math.random,
      gate: new PaceGate({ perMinute: 1, atOnce: 4 }, clock),
      redactor: new Redactor(),
      sign: (next) => async (request) => {
        times.push(`signed at ${(clock.now() - 1_000_000) / 60_000}`);
        const first = await next({ ...request, headers: { token: String(token) } });
        return first.status === 401 ? next({ ...request, headers: { token: String(++token) } }) : first;
      },
      async send({ url, headers }) {
        times.push(`sent ${headers.token} at ${(clock.now() - 1_000_000) / 60_000}`);
        const status = headers.token === "1" && times.length > 2 ? 401 : 200;
        return { status, headers: {}, body: new TextEncoder().encode("[]"), url };
      },
    });
    const ask = () =>
      exchange.ask({ method: "GET", url: "http://127.0.0.1/x", headers: {} }, () => 0, {
        where: {},
        tally: newTally(),
      });
    await ask();
    await ask();
    expect(times).toEqual(["signed at 0", "sent 1 at 0", "signed at 1", "sent 1 at 1", "sent 2 at 2"]);
  });
});

const status =
  (code: number, body = ""): Handler =>
  (_request, response) =>
    response.writeHead(code, { "content-type": "application/json" }).end(body);

describe("a body that is packed", () => {
  const body = Buffer.from('[{"id":1},{"id":2}]');
  it.each([
    ["gzip", gzipSync(body)],
    ["GZIP", gzipSync(body)],
    ["deflate", deflateSync(body)],
    ["br", brotliCompressSync(body)],
    ["gzip, br", brotliCompressSync(gzipSync(body))],
    ["identity", body],
  ])("as %s is unpacked, in memory and on its way to a file", async (coding, packed) => {
    const url = await serve((_request, response) =>
      response.writeHead(200, { "content-encoding": coding }).end(packed),
    );
    expect(await read(url)).toEqual([{ id: 1 }, { id: 2 }]);
    const { send, close } = openTransport();
    const answer = await send({ method: "GET", url, headers: {}, spoolAbove: 1000 });
    expect(Buffer.from(answer.body).toString()).toBe(body.toString());
    await close();
  });
});

describe("a server that answers with", () => {
  it.each<[string, Handler, string, string, ConnectOptions?]>([
    ["401", status(401, '{"message":"no such key"}'), "TOKEN_REFUSED", "It says: no such key"],
    ["403", status(403, '{"error":"ask the warden"}'), "FORBIDDEN", "ask the warden"],
    ["404", status(404, "<html><title>Lost</title>"), "NOT_FOUND", "It says: Lost"],
    ["400", status(400, '{"detail":"per_page is too large"}'), "REQUEST_REFUSED", "per_page is too large"],
    ["429 for ever", status(429), "RATE_LIMITED", "tried 2 times"],
    ["503 for ever", status(503), "SERVER_FAILED", "tried 2 times"],
    ["a closed connection", (request) => request.socket.destroy(), "CONNECTION_LOST", "was lost"],
    [
      "less than it promised",
      (request, response) => {
        response.writeHead(200, { "content-length": "1000" }).write('[{"a":1}');
        setImmediate(() => request.socket.destroy());
      },
      "CONNECTION_LOST",
      "was lost",
    ],
    [
      "broken compression",
      (_request, response) => response.writeHead(200, { "content-encoding": "gzip" }).end("not gzip at all"),
      "BODY_TRUNCATED",
      "broke off",
    ],
    [
      "nothing, for too long",
      () => {},
      "TIMED_OUT",
      "did not answer in time",
      { ...quick, http: { headersMs: 60 } },
    ],
    [
      "a body that stops half-way",
      (_request, response) => response.writeHead(200).write("["),
      "TIMED_OUT",
      "did not answer in time",
      { ...quick, http: { bodyMs: 60 } },
    ],
    [
      "far too much",
      status(200, `["${"x".repeat(2000)}"]`),
      "BODY_TOO_LARGE",
      "larger than what is read at once",
      { ...quick, http: { maxBodyBytes: 999 } },
    ],
  ])("%s", async (_name, answer, code, words, options) => {
    const url = await serve(answer);
    await expect(read(url, options)).rejects.toMatchObject({
      code,
      message: expect.stringContaining(words),
      where: { stream: "things", page: 1, request: `GET ${url}/things` },
    });
  });

  it("a fault once, and then well, is read without a word", async () => {
    let asked = 0;
    const url = await serve((request, response) =>
      asked++ === 0 ? request.socket.destroy() : response.end('[{"a":1}]'),
    );
    expect(await read(url)).toEqual([{ a: 1 }]);
  });
});

describe("a token endpoint that answers with", () => {
  it.each([
    ["something that is no token", '{"hello":"world"}', 200, "SIGN_IN_FAILED", "token was expected"],
    ["a web page", "<html>sign in</html>", 200, "SIGN_IN_FAILED", "token was expected"],
    ["404", "", 404, "SIGN_IN_FAILED", "no token endpoint at this address (404)"],
    ["a wrong scope", '{"error":"invalid_scope"}', 400, "SIGN_IN_REFUSED", "invalid_scope"],
    [
      "the secret, quoted",
      '{"error":"invalid_client","error_description":"hush-hush is wrong"}',
      401,
      "SIGN_IN_REFUSED",
      "[secret] is wrong",
    ],
  ])("%s", async (_name, body, code, error, words) => {
    const url = await serve(status(code, body));
    const failed = read(url, quick, `${url}/token`);
    await expect(failed).rejects.toMatchObject({ code: error, message: expect.stringContaining(words) });
    await expect(failed).rejects.toMatchObject({ where: { request: `POST ${url}/token` } });
  });

  it("503 once is asked again", async () => {
    let asked = 0;
    const url = await serve((request, response) => {
      if (request.url !== "/token") return response.end(`[${JSON.stringify(request.headers.authorization)}]`);
      if (asked++ === 0) return response.writeHead(503).end();
      return response
        .writeHead(200, { "content-type": "application/json" })
        .end('{"access_token":"t","token_type":"bearer"}');
    });
    expect(await read(url, quick, `${url}/token`)).toEqual(["Bearer t"]);
  });
});

describe("a ledger of a newer version", () => {
  it("is not touched", async () => {
    const path = `${temporaryFolder()}/t.duckdb`;
    await (await duckdb(path).open()).close();
    const instance = await DuckDBInstance.create(path);
    const connection = await instance.connect();
    await connection.run("UPDATE early_bridge.ledger_version SET version = 99");
    connection.closeSync();
    instance.closeSync();
    await expect(duckdb(path).open()).rejects.toMatchObject({
      code: "WAREHOUSE_NEWER",
      hint: expect.stringContaining("Update early-bridge"),
    });
    // nor is it held: others in this process can open it
    const again = await DuckDBInstance.create(path);
    again.closeSync();
  });
});
