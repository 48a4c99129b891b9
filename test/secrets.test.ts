/** Secrets planted in every scheme: none of them reaches an error, an event, a report or the ledger. */

import { generateKeyPairSync } from "node:crypto";
import { readFileSync } from "node:fs";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { memoryTokenStore, type TokenStore } from "../src/auth/token-store.js";
import { openLog } from "../src/cli/log.js";
import type { ConnectorInput } from "../src/core/define/connector-input.js";
import { connect, defineConnector, openBridge } from "../src/index.js";
import { duckdb } from "../src/warehouse/duckdb/index.js";
import { temporaryFolder } from "./support/project.js";
import { type Handler, serve } from "./support/serve.js";
import { queryFile } from "./support/truth.js";

type SignIn = ConnectorInput["api"]["sign_in"];

/** A service that signs anybody in, then refuses everything and quotes all that it was sent. */
async function quotingService(status: number): Promise<{ url: string; issued: string[] }> {
  const issued: string[] = [];
  const answer: Handler = (request, response, body) => {
    if (request.url === "/token" || request.url === "/login") {
      const token = `issued-token-${issued.length}-${Math.random().toString(36).slice(2)}`;
      issued.push(token);
      response.writeHead(200, { "content-type": "application/json" });
      return response.end(
        JSON.stringify({
          access_token: token,
          refresh_token: `${token}-rt`,
          token_type: "bearer",
          id: token,
        }),
      );
    }
    // what comes back with 200 is no JSON, and begins with the credential itself
    const { authorization, cookie, "x-key": key } = request.headers;
    if (status === 200)
      return response.writeHead(200).end(`${String(authorization ?? cookie ?? key ?? request.url)} was sent`);
    const message = `you sent ${request.url} ${Object.values(request.headers).join(" ")} ${body}`;
    return response
      .writeHead(status, { "content-type": "application/json" })
      .end(JSON.stringify({ message }));
  };
  return { url: await serve(answer), issued };
}

const PRIVATE_KEY = generateKeyPairSync("rsa", { modulusLength: 2048 })
  .privateKey.export({ type: "pkcs8", format: "pem" })
  .toString();

/** A store in which somebody has signed in already, with a refresh token that is a secret as well. */
async function signedInStore(url: string, refreshToken: string): Promise<TokenStore> {
  const store = memoryTokenStore();
  await store.write(`account ${url} desk`, { refreshToken, savedAtMs: 0 });
  return store;
}

const SCHEMES: Record<string, (url: string) => SignIn> = {
  basic: () => ({ basic: { user: "ana", password: "{secret}" } }),
  bearer: () => ({ bearer: "{secret}" }),
  "key in header": () => ({ key: "{secret}", name: "X-Key" }),
  "key in query": () => ({ key: "{secret}", in: "query", name: "plain" }),
  "key in cookie": () => ({ key: "{secret}", in: "cookie", name: "sid" }),
  client_credentials: (url) => ({
    oauth2: "client_credentials",
    token_url: `${url}/token`,
    client_id: "desk",
    client_secret: "{secret}",
  }),
  password: (url) => ({
    oauth2: "password",
    token_url: `${url}/token`,
    client_id: "desk",
    user: "ana",
    password: "{secret}",
  }),
  refresh_token: (url) => ({
    oauth2: "refresh_token",
    token_url: `${url}/token`,
    client_id: "desk",
    refresh_token: "{secret}",
  }),
  authorization_code: (url) => ({
    oauth2: "authorization_code",
    authorize_url: `${url}/authorize`,
    token_url: `${url}/token`,
    client_id: "desk",
    client_secret: "{secret}",
  }),
  device_code: (url) => ({
    oauth2: "device_code",
    device_url: `${url}/device`,
    token_url: `${url}/token`,
    client_id: "desk",
    client_secret: "{secret}",
    client_auth: "body",
  }),
  private_key_jwt: (url) => ({
    oauth2: "client_credentials",
    token_url: `${url}/token`,
    client_id: "desk",
    client_auth: "private_key_jwt",
    private_key: PRIVATE_KEY,
  }),
  jwt_bearer: (url) => ({ oauth2: "jwt_bearer", token_url: `${url}/token`, key_file: "robot.json" }),
  session: () => ({ session: { post: "/login", json: { password: "{secret}" }, token: "$.id" } }),
};

/** Secrets that a header can carry: visible ASCII, as keys and tokens are. */
const secretText = fc.stringMatching(/^[A-Za-z0-9~._+/=-]{12,40}$/);

describe("no secret is shown", () => {
  it.each(Object.keys(SCHEMES))("%s", async (name) => {
    await fc.assert(
      fc.asyncProperty(secretText, fc.constantFrom(200, 400, 401, 403, 500), async (secret, status) => {
        const { url, issued } = await quotingService(status);
        const connector = defineConnector({
          connector: "plain",
          settings: { secret: { type: "string", secret: true } },
          api: { url, sign_in: SCHEMES[name]!(url) },
          streams: { things: { get: "/things" } },
        });
        const path = `${temporaryFolder()}/t.duckdb`;
        const shown: string[] = [];
        {
          await using api = connect(
            connector,
            { secret },
            {
              tokens: await signedInStore(url, `${secret}-refresh`),
              readSecretFile: async () =>
                JSON.stringify({ issuer: "robot@huts.example", private_key: PRIVATE_KEY }),
              retry: { tries: 2, baseMs: 1 },
            },
          );
          const bridge = await openBridge({ from: api, to: duckdb(path) });
          const log = await openLog(`${path}.log`, (message) => shown.push(message));
          const report = await bridge.run({
            onEvent: (event) => {
              log.onEvent(event);
              shown.push(JSON.stringify(event));
            },
          });
          shown.push(readFileSync(`${path}.log`, "utf8"));
          expect(report.outcome).toBe("failed");
          shown.push(JSON.stringify(report), String(report.error?.stack), String(report.error?.message));
        }
        shown.push(JSON.stringify(await queryFile(path, "FROM early_bridge.runs")));
        const all = shown.join("\n");
        for (const hidden of [
          secret,
          encodeURIComponent(secret),
          btoa(`ana:${secret}`),
          PRIVATE_KEY.slice(40, 80),
          ...issued,
        ])
          expect(all).not.toContain(hidden);
      }),
      { numRuns: 3 },
    );
  });
});
