/** Tokens that a person signs in for: the login itself, and how refresh tokens are kept and rotated. */

import { fork } from "node:child_process";
import { chmodSync, readdirSync, readFileSync, statSync } from "node:fs";
import { connect as connectTo } from "node:net";
import { join } from "node:path";
import { describe, expect, it } from "vitest";
import { fileTokenStore } from "../src/auth/file-token-store.js";
import { type LoginTalk, login } from "../src/auth/login.js";
import { tokenKey } from "../src/auth/stored-tokens.js";
import { memoryTokenStore } from "../src/auth/token-store.js";
import { resolveAccount } from "../src/core/define/connector.js";
import type { LoginScheme } from "../src/core/define/sign-in-schema.js";
import { Redactor } from "../src/core/redact.js";
import { nodeClock } from "../src/http/node-clock.js";
import { openTransport } from "../src/http/transport.js";
import { connect, defineConnector } from "../src/index.js";
import { inLong } from "./support/long.js";
import { oauthServer } from "./support/oauth-server.js";
import { temporaryFolder } from "./support/project.js";
import { echo, quick } from "./support/signed-in.js";
import { whenDone } from "./support/when-done.js";

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
  inLong("that eight processes share is refreshed by one of them each time, and never lost", async () => {
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
