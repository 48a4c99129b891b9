/** Every way of signing in, against a real OAuth server and plain services on loopback. */

import { fork } from "node:child_process";
import { createHmac } from "node:crypto";
import { chmodSync, readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
import { connect as connectTo } from "node:net";
import { join } from "node:path";
import { exportPKCS8, exportSPKI, generateKeyPair, importSPKI, jwtVerify } from "jose";
import { describe, expect, it } from "vitest";
import { fileTokenStore } from "../src/auth/file-token-store.js";
import { type LoginTalk, login } from "../src/auth/login.js";
import { tokenKey } from "../src/auth/stored-tokens.js";
import { memoryTokenStore } from "../src/auth/token-store.js";
import { resolveAccount } from "../src/core/define/connector.js";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import type { LoginScheme } from "../src/core/define/sign-in-schema.js";
import { Redactor } from "../src/core/redact.js";
import { nodeClock } from "../src/http/node-clock.js";
import { openTransport } from "../src/http/transport.js";
import { type ConnectOptions, connect, defineConnector } from "../src/index.js";
import { CLIENT_SECRET, LONG_SECRET, oauthServer } from "./support/oauth-server.js";
import { temporaryFolder, whenDone } from "./support/project.js";
import { serve } from "./support/serve.js";

type SignIn = ConnectorInput["api"]["sign_in"];
/** A service that gives back what came to it. */
const echo = () =>
  serve((request, response) => {
    const { authorization, cookie, "x-key": key, "x-signature": signature } = request.headers;
    response.end(JSON.stringify([{ url: request.url, authorization, cookie, key, signature }]));
  });

const quick: ConnectOptions = { retry: { tries: 2, baseMs: 1 } };

/** Reads one stream of a service under a sign-in; all settings are text, and given. */
async function read(
  url: string,
  signIn: SignIn,
  settings: Record<string, string> = {},
  options: ConnectOptions = {},
): Promise<Record<string, unknown>[]> {
  const connector = defineConnector({
    connector: "plain",
    settings: Object.fromEntries(
      Object.keys(settings).map((name) => [name, { type: "string" as const, secret: true }]),
    ),
    api: { url, sign_in: signIn },
    streams: { things: { get: "/things" } },
  });
  await using api = connect(connector, settings, { tokens: memoryTokenStore(), ...quick, ...options });
  const records: Record<string, unknown>[] = [];
  for await (const record of api.records("things")) records.push(record as Record<string, unknown>);
  return records;
}

/** The status that a server answers to a request line of any form. */
function rawStatus(host: string, line: string): Promise<number> {
  const [name, port] = host.split(":");
  return new Promise((resolve, reject) => {
    const socket = connectTo(Number(port), name, () => socket.write(`${line}\r\nHost: ${host}\r\n\r\n`));
    socket.once("data", (data) => {
      resolve(Number(String(data).split(" ")[1]));
      socket.destroy();
    });
    socket.once("error", reject);
  });
}

describe("fixed credentials", () => {
  it.each<[string, SignIn, Record<string, unknown>]>([
    ["none", "none", { url: "/things" }],
    ["basic", { basic: {} }, { authorization: `Basic ${Buffer.from("ana:pässword").toString("base64")}` }],
    ["bearer", { bearer: "{token}" }, { authorization: "Bearer tok-en-1" }],
    ["a key in a header", { key: "{user}", name: "X-Key", prefix: "Key " }, { key: "Key ana" }],
    ["a key in the query", { key: "{password}", in: "query", name: "k" }, { url: "/things?k=p%C3%A4ssword" }],
    ["a key in a cookie", { key: "{user}", in: "cookie", name: "sid" }, { cookie: "sid=ana" }],
    [
      "two at once",
      [{ key: "{user}", name: "X-Key" }, { bearer: "{user}" }],
      { key: "ana", authorization: "Bearer ana" },
    ],
  ])("%s", async (_name, signIn, seen) => {
    const [came] = await read(await echo(), signIn, { user: "ana", password: "pässword", token: "tok-en-1" });
    expect(came).toMatchObject(seen);
  });

  it("a signer in TypeScript sees the whole request", async () => {
    const url = await echo();
    const connector = defineConnector(
      {
        connector: "plain",
        settings: { secret: { type: "string", secret: true } },
        api: { url },
        streams: { things: { get: "/things", query: { a: 1 } } },
      },
      {
        sign: ({ method, url: address, headers }, { secret }) => {
          const signature = createHmac("sha256", String(secret))
            .update(`${method} ${new URL(address).pathname}`)
            .digest("hex");
          return { url: address, headers: { ...headers, "x-signature": signature } };
        },
      },
    );
    await using api = connect(connector, { secret: "hush-hush" }, quick);
    for await (const record of api.records("things")) {
      const expected = createHmac("sha256", "hush-hush").update("GET /things").digest("hex");
      expect(record).toMatchObject({ signature: expected, url: "/things?a=1" });
    }
  });

  it("go to the API's own origins only", async () => {
    const other = await echo();
    const url = await echo();
    const signIn: SignIn = { bearer: "{token}" };
    const connector = (origins: string[]) =>
      defineConnector({
        connector: "plain",
        settings: { token: { type: "string", secret: true } },
        api: { url, sign_in: signIn, origins },
        streams: { things: { get: "/things" } },
      });
    const account = resolveAccount(connector([other]), { token: "tok-en-1" });
    expect(account.origins).toEqual([url, other]);
    const { createSignIn } = await import("../src/auth/sign-in.js");
    const transport = openTransport();
    whenDone(() => transport.close());
    const ports = {
      send: transport.send,
      clock: nodeClock,
      random: Math.random,
      store: memoryTokenStore(),
      readSecretFile: async () => "",
    };
    for (const [origins, sent] of [
      [[], undefined],
      [[other], "Bearer tok-en-1"],
    ] as const) {
      const { sign } = createSignIn(
        signIn,
        undefined,
        resolveAccount(connector([...origins]), { token: "tok-en-1" }),
        new Redactor(),
        ports,
      );
      const answer = await sign(transport.send)({ method: "GET", url: `${other}/x`, headers: {} });
      expect(
        (JSON.parse(new TextDecoder().decode(answer.body)) as { authorization?: string }[])[0]?.authorization,
      ).toBe(sent);
    }
  });
});

describe("a real OAuth server", () => {
  it("gives client credentials by header and by body, endpoints found by discovery", async () => {
    const { issuer, grants } = await oauthServer();
    const url = await echo();
    for (const client_auth of ["header", "body"] as const) {
      const signIn: SignIn = {
        oauth2: "client_credentials",
        issuer,
        client_auth,
        client_id: "desk",
        scope: "huts",
      };
      const [came] = await read(url, signIn, { client_secret: CLIENT_SECRET });
      expect(came?.authorization).toMatch(/^Bearer .{20,}/);
      await expect(read(url, signIn, { client_secret: "mistyped-secret" })).rejects.toMatchObject({
        code: "SIGN_IN_REFUSED",
        message: expect.stringContaining("invalid_client"),
      });
    }
    expect(grants).toEqual(["client_credentials", "client_credentials"]);
  });

  it("renews tokens of five seconds ahead of their end, however long a run goes on", async () => {
    const { issuer, grants } = await oauthServer(5);
    const connector = defineConnector({
      connector: "plain",
      settings: { client_secret: { type: "string", secret: true } },
      api: {
        url: await echo(),
        sign_in: { oauth2: "client_credentials", issuer, client_id: "desk", scope: "huts" },
      },
      streams: { things: { get: "/things" } },
    });
    let nowMs = Date.now();
    const clock = { ...nodeClock, now: () => nowMs };
    await using api = connect(connector, { client_secret: CLIENT_SECRET }, { ...quick, clock });
    const seen = new Map<unknown, number>();
    for (let second = 0; second < 45; second++) {
      for await (const record of api.records("things")) {
        const { authorization } = record as { authorization: string };
        seen.set(authorization, (seen.get(authorization) ?? 0) + 1);
      }
      nowMs += 1000;
    }
    // half a second ahead of its end: each token served five reads, a second apart, and none a sixth
    expect([...seen.values()]).toEqual(Array(9).fill(5));
    expect(grants).toEqual(Array(9).fill("client_credentials"));
  });

  it("takes a signed JWT for a secret, and refuses one by another key", async () => {
    const { issuer, privateKey } = await oauthServer();
    const signIn: SignIn = {
      oauth2: "client_credentials",
      issuer,
      client_auth: "private_key_jwt",
      client_id: "signer",
      key_id: "k1",
      scope: "huts",
    };
    const [came] = await read(await echo(), signIn, { private_key: privateKey.replaceAll("\n", "\\n") });
    expect(came?.authorization).toMatch(/^Bearer /);
    const other = await exportPKCS8((await generateKeyPair("RS256", { extractable: true })).privateKey);
    // the refusal says how it was signed, and how far the clocks are apart
    const ahead = { ...nodeClock, now: () => Date.now() + 95_000 };
    await expect(read(await echo(), signIn, { private_key: other }, { clock: ahead })).rejects.toMatchObject({
      code: "SIGN_IN_REFUSED",
      message: expect.stringMatching(
        /signed by RS256 with the private key of the id k1\. This machine's clock is 9[4-6] s ahead of the server's/,
      ),
    });
    await expect(read(await echo(), signIn, { private_key: "no key" })).rejects.toMatchObject({
      code: "SIGN_IN_FAILED",
      hint: expect.stringContaining("BEGIN PRIVATE KEY"),
    });
  });

  it.each(["HS256", "HS512"] as const)("by a JWT that the client's secret signs, %s", async (algorithm) => {
    const { issuer } = await oauthServer();
    const signIn: SignIn = {
      oauth2: "client_credentials",
      issuer,
      client_auth: "client_secret_jwt",
      client_id: `sealed-${algorithm}`,
      algorithm,
      scope: "huts",
    };
    const [came] = await read(await echo(), signIn, { client_secret: LONG_SECRET });
    expect(came?.authorization).toMatch(/^Bearer /);
    await expect(read(await echo(), signIn, { client_secret: `${LONG_SECRET}!` })).rejects.toMatchObject({
      code: "SIGN_IN_REFUSED",
      message: expect.stringContaining(`signed by ${algorithm} with the client secret`),
    });
  });

  it("refuses a scope that the client may not have, in its own words", async () => {
    const { issuer, privateKey } = await oauthServer();
    const signIn: SignIn = {
      oauth2: "client_credentials",
      issuer,
      client_auth: "private_key_jwt",
      client_id: "signer",
      key_id: "k1",
      scope: "offline_access",
    };
    await expect(read(await echo(), signIn, { private_key: privateKey })).rejects.toMatchObject({
      code: "SIGN_IN_REFUSED",
      message: expect.stringContaining("invalid_scope"),
      hint: expect.stringContaining("sign_in.scope"),
    });
  });
});

/** Walks through the server's pages as a person with a browser would, and says yes to everything. */
async function sayYes(address: string, fields: Record<string, string> = {}): Promise<string> {
  const cookies = new Map<string, string>();
  let url = address;
  let form: Record<string, string> | undefined;
  for (let step = 0; step < 20; step++) {
    const headers: Record<string, string> = {
      cookie: [...cookies].map(([name, value]) => `${name}=${value}`).join("; "),
    };
    const response = await fetch(url, {
      redirect: "manual",
      headers:
        form === undefined ? headers : { ...headers, "content-type": "application/x-www-form-urlencoded" },
      ...(form === undefined ? {} : { method: "POST", body: new URLSearchParams(form).toString() }),
    });
    for (const line of response.headers.getSetCookie()) {
      const [pair] = line.split(";");
      const at = pair!.indexOf("=");
      cookies.set(pair!.slice(0, at), pair!.slice(at + 1));
    }
    form = undefined;
    const location = response.headers.get("location");
    if (location !== null) {
      url = new URL(location, url).href;
      if (url.startsWith("http://127.0.0.1") && new URL(url).pathname === "/callback") return url;
      continue;
    }
    const page = await response.text();
    const action = /action="([^"]+)"/.exec(page)?.[1];
    if (action === undefined) return page;
    const hidden = [...page.matchAll(/name="([^"]+)"[^>]*value="([^"]*)"/g)].map(
      ([, name, value]) => [name!, value!] as const,
    );
    form = { ...Object.fromEntries(hidden), ...fields };
    if (/name="login"/.test(page)) form = { ...form, login: "ana", password: "x" };
    url = new URL(action.replaceAll("&amp;", "&"), url).href;
  }
  throw new Error("the pages never end");
}

/** An account of the native client, and what `login` needs. */
function nativeAccount(
  issuer: string,
  grant: "authorization_code" | "device_code",
  store = memoryTokenStore(),
  apiUrl = issuer,
) {
  const connector = defineConnector({
    connector: "plain",
    api: {
      url: apiUrl,
      sign_in: {
        oauth2: grant,
        issuer,
        client_id: "native",
        scope: "openid offline_access huts",
        extra: { prompt: "consent" },
      },
    },
    streams: { things: { get: "/things" } },
  });
  const account = resolveAccount(connector, {}, "north");
  const transport = openTransport();
  whenDone(() => transport.close());
  const ports = { send: transport.send, clock: nodeClock, random: Math.random, store };
  return {
    connector,
    account,
    ports,
    scheme: connector.api.sign_in as LoginScheme,
    redactor: new Redactor(),
    store,
  };
}

const never = () => new Promise<string>(() => {});
/** A person at a browser on this machine. */
const browser: LoginTalk = {
  openAddress: (address) => void sayYes(address).then((back) => fetch(back)),
  showCode: () => {},
  pastedAddress: never,
};

describe("login", () => {
  it("by authorization code with PKCE, then refreshing with rotation", async () => {
    const { issuer, grants } = await oauthServer(1);
    const url = await echo();
    const native = nativeAccount(issuer, "authorization_code", memoryTokenStore(), url);
    const kept = await login({ ...native, talk: browser });
    expect(kept).toMatchObject({
      subject: "ana",
      scope: expect.stringContaining("huts"),
      refreshToken: expect.any(String),
    });
    const key = tokenKey(native.account, "native");
    const tokens = new Set([kept.refreshToken]);
    // tokens of a second: each read needs a new one
    let nowMs = Date.now();
    const clock = { ...nodeClock, now: () => nowMs };
    for (let round = 0; round < 3; round++) {
      nowMs += 2000;
      await using api = connect(
        native.connector,
        {},
        { ...quick, name: "north", tokens: native.store, clock },
      );
      for await (const record of api.records("things"))
        expect(record).toMatchObject({ authorization: expect.stringMatching(/^Bearer /) });
      tokens.add((await native.store.read(key))?.refreshToken);
    }
    expect(tokens.size).toBe(4);
    expect(grants).toEqual(["authorization_code", "refresh_token", "refresh_token", "refresh_token"]);
  });

  it("by an address that is pasted, where the browser is on another machine", async () => {
    const { issuer } = await oauthServer();
    const native = nativeAccount(issuer, "authorization_code");
    let paste: (text: string) => void = () => {};
    const talk: LoginTalk = {
      ...browser,
      openAddress: (address) => void sayYes(address).then((back) => paste(` ${back}\n`)),
      pastedAddress: () => new Promise((resolve) => (paste = resolve)),
    };
    expect(await login({ ...native, talk })).toMatchObject({ subject: "ana" });
  });

  it("ignores a way back that belongs to another login, and odd addresses", async () => {
    const { issuer } = await oauthServer();
    const native = nativeAccount(issuer, "authorization_code");
    const answers: number[] = [];
    const talk: LoginTalk = {
      ...browser,
      openAddress: (address, redirectUri) => {
        const { host } = new URL(redirectUri);
        void (async () => {
          const stolen = `${redirectUri}?code=stolen-code&state=of-somebody-else&iss=${issuer}`;
          answers.push((await fetch(stolen)).status);
          answers.push(await rawStatus(host, "GET // HTTP/1.1"));
          await sayYes(address).then((back) => fetch(back));
        })();
      },
    };
    expect(await login({ ...native, talk })).toMatchObject({ subject: "ana" });
    expect(answers).toEqual([404, 404]);
    const denied: LoginTalk = {
      ...browser,
      openAddress: (address, redirectUri) => {
        const state = new URL(address).searchParams.get("state");
        void fetch(`${redirectUri}?error=access_denied&state=${state}&iss=${issuer}`);
      },
    };
    await expect(login({ ...native, talk: denied })).rejects.toMatchObject({
      message: expect.stringContaining("access_denied"),
    });
  });

  it("whose addresses have two origins and no issuer is finished all the same", async () => {
    const { issuer } = await oauthServer();
    // the same server, by another name
    const other = issuer.replace("127.0.0.1", "localhost");
    const native = nativeAccount(issuer, "authorization_code");
    const addresses = { issuer: undefined, authorize_url: `${issuer}/auth`, token_url: `${other}/token` };
    const scheme = { ...native.scheme, ...addresses } as LoginScheme;
    expect(await login({ ...native, scheme, talk: browser })).toMatchObject({ subject: "ana" });
  });

  it("by device code", async () => {
    const { issuer, grants } = await oauthServer();
    const native = nativeAccount(issuer, "device_code");
    const clock = { ...nodeClock, sleep: () => nodeClock.sleep(20) };
    const talk: LoginTalk = {
      ...browser,
      showCode: (code, address) => void sayYes(address, { user_code: code }),
    };
    const kept = await login({ ...native, ports: { ...native.ports, clock }, talk });
    expect(kept.refreshToken).toBeDefined();
    expect(grants).toEqual(["urn:ietf:params:oauth:grant-type:device_code"]);
  });

  it("is asked for where nobody has signed in, and again when the grant was revoked", async () => {
    const server = await oauthServer();
    const native = nativeAccount(server.issuer, "authorization_code");
    const readThings = async () => {
      await using api = connect(native.connector, {}, { ...quick, name: "north", tokens: native.store });
      for await (const _ of api.records("things"));
    };
    await expect(readThings()).rejects.toMatchObject({
      code: "LOGIN_NEEDED",
      hint: "Run: early-bridge login north",
    });
    await login({ ...native, talk: browser });
    const key = tokenKey(native.account, "native");
    await native.store.write(key, { ...(await native.store.read(key))!, accessToken: undefined });
    server.revoke();
    await expect(readThings()).rejects.toMatchObject({
      code: "SIGN_IN_REFUSED",
      hint: expect.stringContaining("early-bridge login north"),
    });
    // a refresh that was broken off before its response was kept is explained
    await native.store.write(key, {
      ...(await native.store.read(key))!,
      refreshingSinceMs: Date.UTC(2026, 0, 1),
    });
    await expect(readThings()).rejects.toMatchObject({
      hint: expect.stringContaining("2026-01-01T00:00:00.000Z was broken off"),
    });
  });
});

describe("a rotating refresh token", () => {
  it("that eight processes share is refreshed by one of them each time, and never lost", async () => {
    // the server revokes everything when a refresh token comes a second time
    const server = await oauthServer(5);
    const url = await echo();
    const folder = temporaryFolder();
    const native = nativeAccount(
      server.issuer,
      "authorization_code",
      fileTokenStore({ folder, key: "test key" }),
      url,
    );
    await login({ ...native, talk: browser });
    const worker = join(import.meta.dirname, "support", "refresh-worker.mjs");
    const options = JSON.stringify({ url, issuer: server.issuer, folder, reads: 60 });
    const ended = Array.from({ length: 8 }, () => {
      const child = fork(worker, [options], { env: { ...process.env, EARLY_BRIDGE_KEY: "test key" } });
      return new Promise<number | null>((resolve) => child.once("exit", resolve));
    });
    expect(await Promise.all(ended)).toEqual(Array(8).fill(0));
    const refreshes = server.grants.filter((grant) => grant === "refresh_token").length;
    expect(refreshes).toBeGreaterThanOrEqual(50);
    // each of eight readers needed sixty tokens: they shared them
    expect(refreshes).toBeLessThan(8 * 60);
  });
});

describe("token files", () => {
  it("are sealed, private, and say so when the key is another one", async () => {
    const folder = temporaryFolder();
    const warnings: string[] = [];
    const store = fileTokenStore({ folder, key: "one key" });
    await store.write("north", { refreshToken: "very-secret-token", savedAtMs: 1 });
    expect(await store.read("north")).toEqual({ refreshToken: "very-secret-token", savedAtMs: 1 });
    const [name] = readdirSync(folder);
    const path = join(folder, name!);
    expect(statSync(path).mode & 0o777).toBe(0o600);
    expect(readFileSync(path, "utf8")).not.toContain("very-secret");
    await expect(fileTokenStore({ folder, key: "another key" }).read("north")).rejects.toMatchObject({
      code: "TOKEN_STORE_FAILED",
    });
    chmodSync(path, 0o644);
    await expect(store.read("north")).rejects.toMatchObject({
      code: "SECRET_FILE_OPEN",
      hint: expect.stringContaining("chmod 600"),
    });
    const generated = fileTokenStore({
      folder: temporaryFolder(),
      key: "",
      onWarning: (message) => warnings.push(message),
    });
    await generated.write("a", { savedAtMs: 2 });
    await generated.write("b", { savedAtMs: 3 });
    expect(warnings).toEqual([expect.stringContaining("Set EARLY_BRIDGE_KEY")]);
    await generated.remove("a");
    expect(await generated.read("a")).toBeUndefined();
  });
});

describe("other ways", () => {
  it("a service account's JWT: issuer, subject, scope and audience are as RFC 7523 wants them", async () => {
    const keys = await generateKeyPair("RS256", { extractable: true });
    const publicKey = await importSPKI(await exportSPKI(keys.publicKey), "RS256");
    const url = await serve(async (request, response, body) => {
      if (request.url !== "/token")
        return response.end(`[${JSON.stringify({ authorization: request.headers.authorization })}]`);
      const { payload, protectedHeader } = await jwtVerify(
        new URLSearchParams(body).get("assertion") ?? "",
        publicKey,
        { audience: `${url}/token` },
      );
      const claims = `${payload.iss} for ${payload.sub}, ${String(payload.scope)}, by ${protectedHeader.kid}, ${payload.exp! - payload.iat!} s`;
      return response
        .writeHead(200, { "content-type": "application/json" })
        .end(JSON.stringify({ access_token: claims, token_type: "bearer" }));
    });
    const keyFile = join(temporaryFolder(), "robot.json");
    writeFileSync(
      keyFile,
      JSON.stringify({
        who: "robot@huts.example",
        private_key: await exportPKCS8(keys.privateKey),
        key_id: "k7",
      }),
    );
    const signIn: SignIn = {
      oauth2: "jwt_bearer",
      token_url: `${url}/token`,
      key_file: "{key_file}",
      fields: { issuer: "$.who" },
      subject: "ana@huts.example",
      scope: "log.read",
    };
    const [came] = await read(url, signIn, { key_file: keyFile });
    expect(came?.authorization).toBe(
      "Bearer robot@huts.example for ana@huts.example, log.read, by k7, 300 s",
    );
    await expect(
      read(url, { ...signIn, fields: { issuer: "$.nobody" } }, { key_file: keyFile }),
    ).rejects.toMatchObject({
      code: "SIGN_IN_FAILED",
      hint: expect.stringContaining("who, private_key, key_id"),
    });
  });

  it("a password with a security token behind it, as old systems want it", async () => {
    const url = await serve((request, response, body) => {
      if (request.url !== "/token")
        return response.end(`[${JSON.stringify({ authorization: request.headers.authorization })}]`);
      const form = new URLSearchParams(body);
      const token = `${form.get("grant_type")}-${form.get("username")}-${form.get("password")}`;
      return response
        .writeHead(200, { "content-type": "application/json" })
        .end(JSON.stringify({ access_token: token, token_type: "bearer" }));
    });
    const signIn: SignIn = {
      oauth2: "password",
      token_url: `${url}/token`,
      client_id: "old",
      suffix: "{security_token}",
    };
    const [came] = await read(url, signIn, { user: "ana", password: "pass", security_token: "word" });
    expect(came?.authorization).toBe("Bearer password-ana-password");
  });

  it.each<[string, object, string, Record<string, string>, object]>([
    [
      "JSON in, token out",
      { json: { user: "{user}", pass: "{password}" }, token: "$.session.id" },
      '{"session":{"id":"s-123"}}',
      {},
      { authorization: "Bearer s-123" },
    ],
    [
      "a form in, token in a header of its own",
      { form: { u: "{user}" }, token: "$.id", send: { name: "X-Key", prefix: "S " } },
      '{"id":"s-123"}',
      {},
      { key: "S s-123" },
    ],
    [
      "XML in and out",
      { xml: "<login><user>{user}</user></login>", token: "$.Envelope.Body.session['@id']" },
      '<e:Envelope xmlns:e="urn:x"><e:Body><session id="s-123"/></e:Body></e:Envelope>',
      {},
      { authorization: "Bearer s-123" },
    ],
    [
      "a cookie",
      { form: { u: "{user}" }, cookie: "SID" },
      "",
      { "set-cookie": "SID=s-123; Path=/; HttpOnly" },
      { cookie: "SID=s-123" },
    ],
  ])("a session: %s; renewed after a 401, ended at the end", async (_name, scheme, answer, headers, seen) => {
    const bodies: string[] = [];
    const events: string[] = [];
    let refuse = true;
    const url = await serve((request, response, body) => {
      events.push(`${request.method} ${request.url}`);
      if (request.url === "/login") {
        bodies.push(body);
        return response.writeHead(200, headers).end(answer);
      }
      if (request.url === "/logout") return response.end();
      if (refuse) {
        refuse = false;
        return response.writeHead(401).end();
      }
      const { authorization, cookie, "x-key": key } = request.headers;
      return response.end(JSON.stringify([{ authorization, cookie, key }]));
    });
    const [came] = await read(
      url,
      { session: { post: "/login", sign_out: "/logout", ...scheme } } as SignIn,
      { user: "a<b>&c", password: "p" },
    );
    expect(came).toMatchObject(seen);
    expect(events).toEqual(["POST /login", "GET /things", "POST /login", "GET /things", "POST /logout"]);
    if (bodies[0]?.startsWith("<")) expect(bodies[0]).toBe("<login><user>a&lt;b&gt;&amp;c</user></login>");
    else expect(decodeURIComponent(bodies[0]!)).toContain("a<b>&c");
  });

  it("a session whose response holds no token is told, with the wrong password in mind", async () => {
    const url = await serve((_request, response) => response.end('{"ok":false}'));
    await expect(read(url, { session: { post: "/login", token: "$.id" } })).rejects.toMatchObject({
      code: "SIGN_IN_FAILED",
      message: expect.stringContaining("$.id"),
      hint: expect.stringContaining("200 to a wrong password"),
    });
  });
});
