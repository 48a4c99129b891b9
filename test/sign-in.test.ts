/** Every way of signing in, against a real OAuth server and plain services on loopback. */

import { createHmac } from "node:crypto";
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { exportPKCS8, exportSPKI, generateKeyPair, importSPKI, jwtVerify } from "jose";
import { describe, expect, it } from "vitest";
import { memoryTokenStore } from "../src/auth/token-store.js";
import { resolveAccount } from "../src/core/define/connector.js";
import { Redactor } from "../src/core/redact.js";
import { nodeClock } from "../src/http/node-clock.js";
import { openTransport } from "../src/http/transport.js";
import { connect, defineConnector } from "../src/index.js";
import { CLIENT_SECRET, LONG_SECRET, oauthServer } from "./support/oauth-server.js";
import { temporaryFolder } from "./support/project.js";
import { serve } from "./support/serve.js";
import { echo, quick, read, type SignIn } from "./support/signed-in.js";
import { whenDone } from "./support/when-done.js";

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
