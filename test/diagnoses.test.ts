/** Every diagnosis of docs/sign-in.md: each is produced here, and the page says what the user sees. */

import { readFileSync, writeFileSync } from "node:fs";
import { createServer as createTlsServer } from "node:https";
import { join } from "node:path";
import { exportPKCS8, generateKeyPair } from "jose";
import selfsigned from "selfsigned";
import { describe, expect, it, vi } from "vitest";
import { memoryTokenStore } from "../src/auth/token-store.js";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import { nodeClock } from "../src/http/node-clock.js";
import { type BridgeError, type ConnectOptions, connect, defineConnector, probe } from "../src/index.js";
import { temporaryFolder } from "./support/project.js";
import { listen, proxyAnswering, serve } from "./support/serve.js";
import { whenDone } from "./support/when-done.js";

const PAGE = readFileSync("docs/sign-in.md", "utf8");

/** A service that gives every request the same answer. */
const answering = (status: number, body: string) => () =>
  serve((_request, response) => response.writeHead(status, { "content-type": "application/json" }).end(body));

interface Case {
  /** how the row of the page begins */
  readonly title: string;
  readonly url?: () => string | Promise<string>;
  readonly settings?: Record<string, string>;
  readonly define?: (url: string) => Partial<ConnectorInput["api"]>;
  readonly options?: (url: string) => ConnectOptions | Promise<ConnectOptions>;
}

const oauth = (grant: object) => (url: string) => ({
  sign_in: { token_url: `${url}/token`, client_id: "desk", ...grant } as ConnectorInput["api"]["sign_in"],
});
const clientCredentials = oauth({ oauth2: "client_credentials", client_secret: "hush-hush" });

interface TlsService {
  readonly url: string;
  readonly ca: string;
  readonly cert: string;
  readonly key: string;
}

/** A service with a certificate of its own making; `mutual`: it wants one of ours, and takes its own. */
async function tlsService(options: {
  notAfterDate?: Date;
  name?: string;
  mutual?: boolean;
}): Promise<TlsService> {
  const { notAfterDate, name = "localhost", mutual = false } = options;
  const notBeforeDate = new Date(Date.UTC(2020, 0, 1));
  const pems = await selfsigned.generate([{ name: "commonName", value: name }], {
    keySize: 2048,
    algorithm: "sha256",
    notBeforeDate,
    notAfterDate: notAfterDate ?? new Date(Date.UTC(2050, 0, 1)),
    extensions: [{ name: "subjectAltName", altNames: [{ type: 2, value: name }] }],
  });
  const asks = mutual ? { requestCert: true, rejectUnauthorized: true, ca: pems.cert } : {};
  const server = createTlsServer({ key: pems.private, cert: pems.cert, ...asks }, (_request, response) =>
    response.end("[]"),
  );
  return {
    url: `https://localhost:${await listen(server)}`,
    ca: pems.cert,
    cert: pems.cert,
    key: pems.private,
  };
}

async function robotKey(): Promise<string> {
  const path = join(temporaryFolder(), "robot.json");
  const { privateKey } = await generateKeyPair("RS256", { extractable: true });
  writeFileSync(
    path,
    JSON.stringify({ issuer: "robot@huts.example", private_key: await exportPKCS8(privateKey) }),
    { mode: 0o600 },
  );
  return path;
}

const jwtBearer = (url: string) => ({
  sign_in: { oauth2: "jwt_bearer", token_url: `${url}/token`, key_file: "{key_file}" } as const,
});

const CASES: readonly Case[] = [
  { title: "Base address without scheme", url: () => "api.huts.example/v2" },
  { title: "http for https", url: () => "http://api.huts.example" },
  {
    title: "A scheme in a host setting",
    settings: { tenant: "https://north.huts.example/v2" },
    define: () => ({ url: "https://{tenant}/v2" }),
  },
  {
    title: "A name that is none of the choices",
    settings: { region: "nort" },
    define: () => ({ url: "{+region}" }),
  },
  { title: "Unknown host", url: () => "https://no-such-host.invalid" },
  { title: "Nothing listens there", url: () => "http://127.0.0.1:9" },
  { title: "A path stands twice", url: async () => `${await answering(404, "")()}/v2/v2` },
  { title: "A path is missing", url: answering(404, '{"message":"no route"}') },
  { title: "Certificate for another name" },
  { title: "Certificate expired" },
  { title: "Certificate signed by itself" },
  {
    title: "https at a port that speaks http",
    url: async () => (await answering(200, "[]")()).replace("http:", "https:"),
  },
  {
    title: "The proxy refuses",
    url: () => "https://api.huts.example",
    options: async () => ({ http: { proxy: await proxyAnswering(407) } }),
  },
  {
    title: "Unknown client or wrong secret",
    url: answering(401, '{"error":"invalid_client"}'),
    define: clientCredentials,
  },
  {
    title: "Granted once, now expired, revoked or rotated away",
    url: answering(400, '{"error":"invalid_grant","error_description":"token has been revoked"}'),
    define: oauth({ oauth2: "refresh_token", refresh_token: "rt-1-old" }),
  },
  { title: "Wrong scope", url: answering(400, '{"error":"invalid_scope"}'), define: clientCredentials },
  {
    title: "Redirect address not registered",
    url: answering(400, '{"error":"invalid_grant","error_description":"redirect_uri does not match"}'),
    define: oauth({ oauth2: "refresh_token", refresh_token: "rt-1-old" }),
  },
  {
    title: "Clock off by minutes",
    url: answering(400, '{"error":"invalid_grant","error_description":"iat is in the future"}'),
    define: jwtBearer,
    settings: { key_file: "ROBOT" },
  },
  {
    title: "Wrong audience",
    url: answering(400, '{"error":"invalid_grant","error_description":"aud is not this server"}'),
    define: jwtBearer,
    settings: { key_file: "ROBOT" },
  },
  {
    title: "The token endpoint is something else",
    url: answering(200, '{"hello":"world"}'),
    define: clientCredentials,
  },
  {
    title: "Nobody has signed in yet",
    url: () => "https://api.huts.example",
    define: oauth({ oauth2: "authorization_code", authorize_url: "https://api.huts.example/a" }),
  },
  { title: "Not allowed for this account", url: answering(403, '{"message":"needs the role warden"}') },
  {
    title: "Not allowed from this address",
    url: answering(403, '{"message":"IP address not on the allow list"}'),
  },
  {
    title: "Sandbox key at production, or wrong region",
    url: answering(401, '{"message":"this is a sandbox key"}'),
  },
  {
    title: "A sign-in page with status 200",
    url: answering(200, "<html><title>Welcome, please sign in</title></html>"),
  },
  {
    title: "A redirect to a sign-in page",
    url: () =>
      serve((_request, response) =>
        response.writeHead(302, { location: "https://huts.example/login" }).end(),
      ),
  },
];

/** Reads the one stream; gives what went wrong. */
async function failureOf(
  { url, settings = {}, define, options }: Case,
  address: string,
): Promise<BridgeError> {
  const given: Record<string, string> = {};
  for (const [name, value] of Object.entries(settings))
    given[name] = value === "ROBOT" ? await robotKey() : value;
  const kinds = (name: string) =>
    name === "tenant"
      ? { format: "host" as const }
      : name === "region"
        ? { choices: { north: "https://north.huts.example" } }
        : {};
  try {
    const connector = defineConnector({
      connector: "plain",
      settings: Object.fromEntries(
        Object.keys(settings).map((name) => [name, { type: "string" as const, ...kinds(name) }]),
      ),
      api: { url: address, ...define?.(address) },
      streams: { things: { get: "/things" } },
    });
    const more = (await options?.(address)) ?? {};
    await using api = connect(connector, given, {
      name: "north",
      tokens: memoryTokenStore(),
      retry: { tries: 1 },
      ...more,
    });
    for await (const _ of api.records("things"));
  } catch (error) {
    return error as BridgeError;
  }
  throw new Error(`${String(url)} went well`);
}

/** The page's rows of diagnoses, their cells trimmed. */
const ROWS = PAGE.split("\n")
  .map((line) => line.split("|").map((cell) => cell.trim()))
  .filter(([, , seen]) => /^`[A-Z_]+` /.test(seen ?? ""));

/** What the user sees, as code and message, and the next step. */
function rowOf(title: string): { code: string; message: string; next: string } {
  const row = ROWS.find((cells) => cells[1] === title);
  if (row === undefined) throw new Error(`docs/sign-in.md has no row "${title}"`);
  const [, code = "", message = ""] = /^`([A-Z_]+)` (.*)$/.exec(row[2]!) ?? [];
  return { code, message, next: row[3]! };
}

/** Texts compared without what differs from machine to machine: ports, addresses, numbers of tries. */
const plain = (text: string) =>
  text.replaceAll(/127\.0\.0\.1:\d+|localhost:\d+/g, "HOST").replaceAll("`", "");

describe("what a user is told", () => {
  const simple = CASES.filter(({ title }) => !title.startsWith("Certificate"));

  it.each(simple)("$title", async (each) => {
    const address = (await each.url?.()) ?? "https://api.huts.example";
    const error = await failureOf(each, address);
    const { code, message, next } = rowOf(each.title);
    expect({ code: error.code, message: plain(error.message), next: plain(error.hint) }).toEqual({
      code,
      message: plain(message),
      next: plain(next),
    });
  });

  it.each([
    ["Certificate for another name", { name: "other.huts.example" }, true],
    ["Certificate expired", { notAfterDate: new Date(Date.UTC(2021, 0, 1)) }, true],
    ["Certificate signed by itself", {}, false],
  ] as const)("%s", async (title, certificate, trusted) => {
    const { url, ca } = await tlsService(certificate);
    const error = await failureOf({ title, options: () => (trusted ? { http: { tls: { ca } } } : {}) }, url);
    const { code, message, next } = rowOf(title);
    expect({ code: error.code, message: plain(error.message), next: plain(error.hint) }).toEqual({
      code,
      message: plain(message),
      next: plain(next),
    });
  });

  it("a custom authority is trusted where the account names it, and our own certificate is shown", async () => {
    const { url, ca, key, cert } = await tlsService({ mutual: true });
    const connector = defineConnector({
      connector: "plain",
      api: { url },
      streams: { things: { get: "/things" } },
    });
    const read = async (tls: { ca: string; cert?: string; key?: string }) => {
      await using api = connect(connector, {}, { http: { tls }, retry: { tries: 1 } });
      const records: unknown[] = [];
      for await (const record of api.records("things")) records.push(record);
      return records;
    };
    expect(await read({ ca, cert, key })).toEqual([]);
    await expect(read({ ca })).rejects.toMatchObject({
      code: "CONNECTION_LOST",
      hint: expect.stringContaining("http.cert and http.key"),
    });
  });

  it("a proxy of the environment counts, except for hosts of NO_PROXY", async () => {
    whenDone(() => vi.unstubAllEnvs());
    const address = await answering(200, "[]")();
    for (const name of ["HTTP_PROXY", "HTTPS_PROXY"]) vi.stubEnv(name, await proxyAnswering(403));
    expect((await failureOf({ title: "" }, "https://api.huts.example")).code).toBe("PROXY_REFUSED");
    vi.stubEnv("NO_PROXY", "127.0.0.1");
    await expect(failureOf({ title: "" }, address)).rejects.toThrow("went well");
  });
});

describe("probe", () => {
  it("names the one stream of five that the account may not read, and a clock that is off", async () => {
    const url = await serve((request, response) => {
      const allowed = request.url !== "/hut_keys";
      response.writeHead(allowed ? 200 : 403, {
        "content-type": "application/json",
        date: "Thu, 01 Jan 2026 00:00:00 GMT",
      });
      response.end(allowed ? '[{"id":1}]' : '{"message":"needs the role warden"}');
    });
    const names = ["huts", "guests", "hut_keys", "meals", "trails"];
    const connector = defineConnector({
      connector: "plain",
      api: { url, probe: { get: "/me" } },
      streams: Object.fromEntries(names.map((name) => [name, { get: `/${name}` }])),
    });
    await using api = connect(
      connector,
      {},
      { retry: { tries: 1 }, clock: { ...nodeClock, now: () => Date.UTC(2026, 0, 1, 0, 7) } },
    );
    const lines = await probe({ api });
    const streams = lines.filter(({ check }) => check.startsWith("stream "));
    expect(streams.map(({ outcome }) => outcome)).toEqual(["good", "good", "bad", "good", "good"]);
    expect(streams[2]).toMatchObject({
      check: "stream hut_keys",
      error: { code: "FORBIDDEN" },
      found: expect.stringContaining("needs the role warden"),
    });
    expect(lines.find(({ check }) => check === "clock")).toMatchObject({
      outcome: "note",
      found: "this machine is 420 s ahead of the API: set its clock",
    });
  });
});

describe("the page of diagnoses", () => {
  it("has a row for every case, and no other", () => {
    expect(ROWS.map((row) => row[1]).sort()).toEqual(CASES.map(({ title }) => title).sort());
  });
});
