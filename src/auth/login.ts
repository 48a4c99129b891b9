/** Sign-in by a person: authorization code with PKCE (RFC 7636, RFC 8252), and the device grant (RFC 8628). */

import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { decodeJwt } from "jose";
import * as oauth from "oauth4webapi";
import type { Account } from "../core/define/connector.js";
import type { LoginScheme } from "../core/define/sign-in-schema.js";
import { BridgeError, isBridgeError } from "../core/errors.js";
import type { Redactor } from "../core/redact.js";
import { tokenEndpoint } from "./oauth-server.js";
import { type StorePorts, tokenKey, tokensToStore } from "./stored-tokens.js";
import {
  clientAuth,
  hintFor,
  protocolOptions,
  readTokenResponse,
  type TokenRequestParts,
  type TokenSet,
} from "./token-request.js";
import type { StoredTokens } from "./token-store.js";

/** How the person is spoken to. */
export interface LoginTalk {
  /** the address to open in a browser; the way back leads to `redirectUri` */
  openAddress(url: string, redirectUri: string): void;
  /** the code to type at an address; `complete` holds it already */
  showCode(userCode: string, address: string, complete: string | undefined): void;
  /** an address pasted by hand, where the browser runs on another machine; never resolves where nobody can paste */
  pastedAddress(): Promise<string>;
}

export interface LoginOptions {
  readonly scheme: LoginScheme;
  readonly account: Account;
  readonly redactor: Redactor;
  readonly ports: StorePorts;
  readonly talk: LoginTalk;
  readonly signal?: AbortSignal | undefined;
}

/** How long the loopback server waits for the browser, in ms. */
const CALLBACK_MS = 60_000;

/**
 * Lets a person sign in, and keeps the tokens.
 * @throws BridgeError LOGIN_FAILED, SIGN_IN_REFUSED, SIGN_IN_FAILED
 */
export async function login(options: LoginOptions): Promise<StoredTokens> {
  const { scheme, account, redactor, ports } = options;
  const endpoint = tokenEndpoint(scheme, account, redactor, ports);
  const parts = await endpoint.parts();
  const tokens =
    scheme.oauth2 === "authorization_code"
      ? await loginByCode(options, scheme, parts)
      : await loginByDevice(options, scheme, parts);
  const key = tokenKey(account, endpoint.client.clientId);
  return ports.store.locked(key, async () => {
    const kept: StoredTokens = {
      ...tokensToStore(tokens, undefined, ports.clock.now()),
      subject: subjectOf(tokens),
    };
    await ports.store.write(key, kept);
    return kept;
  });
}

/** Who signed in: the ID token was received from the token endpoint itself, so its claims are the server's words. */
function subjectOf({ idToken }: TokenSet): string | undefined {
  if (idToken === undefined) return undefined;
  const { email, name, sub } = decodeJwt(idToken) as { email?: string; name?: string; sub?: string };
  return email ?? name ?? sub;
}

async function loginByCode(
  { account, talk, redactor, signal }: LoginOptions,
  scheme: Extract<LoginScheme, { oauth2: "authorization_code" }>,
  parts: TokenRequestParts,
): Promise<TokenSet> {
  const { server, client, ports } = parts;
  const where = { account: account.name };
  if (server.authorization_endpoint === undefined) {
    throw new BridgeError(
      "CONFIG_INVALID",
      "sign_in has neither authorize_url nor an issuer that names it.",
      { where },
    );
  }
  const verifier = oauth.generateRandomCodeVerifier();
  const state = oauth.generateRandomState();
  for (const secret of [verifier, state]) redactor.add(secret);
  const callback = await openCallback(
    scheme.redirect_port,
    scheme.redirect_path,
    state,
    account.name,
    signal,
  );
  try {
    const query = {
      response_type: "code",
      client_id: client.clientId,
      redirect_uri: callback.redirectUri,
      code_challenge: await oauth.calculatePKCECodeChallenge(verifier),
      code_challenge_method: "S256",
      state,
      ...(scheme.scope === undefined ? {} : { scope: scheme.scope }),
      ...client.extra,
    };
    const address = new URL(server.authorization_endpoint);
    for (const [name, value] of Object.entries(query)) address.searchParams.set(name, value);
    talk.openAddress(address.href, callback.redirectUri);
    const pasted = talk.pastedAddress().then((text) => readPasted(text, account.name));
    const back = await Promise.race([callback.arrival, pasted]);
    const code = back.searchParams.get("code");
    if (code !== null) redactor.add(code);
    const parameters = validateBack(parts, back, state, where);
    const response = await oauth.authorizationCodeGrantRequest(
      server,
      { client_id: client.clientId },
      await clientAuth(client),
      parameters,
      callback.redirectUri,
      verifier,
      protocolOptions(server.token_endpoint, ports, signal),
    );
    return await readTokenResponse(response, parts, { ...where, request: `POST ${server.token_endpoint}` });
  } finally {
    callback.close();
  }
}

function validateBack(
  parts: TokenRequestParts,
  back: URL,
  state: string,
  where: { account: string },
): URLSearchParams {
  // without an issuer in the connector there is nothing to compare one with (RFC 9207, section 2.4)
  if (parts.server.issuerUnknown === true) back.searchParams.delete("iss");
  try {
    return oauth.validateAuthResponse(parts.server, { client_id: parts.client.clientId }, back, state);
  } catch (cause) {
    if (cause instanceof oauth.AuthorizationResponseError) {
      const description = cause.error_description ?? "";
      const said = parts.redactor.hide(description === "" ? cause.error : `${cause.error}: ${description}`);
      const hint =
        cause.error === "access_denied"
          ? "Say yes in the browser to what is asked."
          : hintFor(cause.error, description, where.account);
      throw new BridgeError("LOGIN_FAILED", `The API refused the login: "${said}".`, { where, hint, cause });
    }
    throw new BridgeError(
      "LOGIN_FAILED",
      "The browser came back with a response that does not belong to this login.",
      {
        where,
        hint: "Start the login again, and use only the address that it prints (state or issuer did not match).",
        cause,
      },
    );
  }
}

function readPasted(text: string, account: string): URL {
  try {
    return new URL(text.trim());
  } catch (cause) {
    throw new BridgeError("LOGIN_FAILED", "What was pasted is no address.", {
      where: { account },
      hint: "Copy the whole address from the browser's address line, beginning with http://127.0.0.1.",
      cause,
    });
  }
}

interface Callback {
  readonly redirectUri: string;
  readonly arrival: Promise<URL>;
  close(): void;
}

/** A server on loopback for the one request that brings the code; it closes after a minute. */
async function openCallback(
  port: number,
  path: string,
  state: string,
  account: string,
  signal: AbortSignal | undefined,
): Promise<Callback> {
  let arrived: (url: URL) => void = () => {};
  let failed: (error: unknown) => void = () => {};
  const arrival = new Promise<URL>((resolve, reject) => {
    arrived = resolve;
    failed = reject;
  });
  arrival.catch(() => {});
  let redirectUri = "";
  const server = createServer((request, response) => {
    const asked = request.url ?? "/";
    // what is no path of ours may not even be an address: GET //
    const url = URL.canParse(asked, redirectUri) ? new URL(asked, redirectUri) : undefined;
    // another program, or a page of before, may know the path; it does not know the state
    if (request.method !== "GET" || url?.pathname !== path || url.searchParams.get("state") !== state) {
      response.writeHead(404).end();
      return;
    }
    response.writeHead(200, { "content-type": "text/html; charset=utf-8", connection: "close" });
    response.end(
      "<!doctype html><title>Early Bridge</title><p>You can close this page and go back to the terminal.</p>",
    );
    arrived(url);
  });
  await new Promise<void>((resolve, reject) => {
    server.once("error", reject);
    server.listen(port, "127.0.0.1", resolve);
  }).catch((cause: unknown) => {
    throw new BridgeError("LOGIN_FAILED", `Port ${port} on 127.0.0.1 is taken by another program.`, {
      where: { account },
      hint: "Close that program, or set another sign_in.redirect_port and register it at the API.",
      cause,
    });
  });
  redirectUri = `http://127.0.0.1:${(server.address() as AddressInfo).port}${path}`;
  const late = () => {
    const hint =
      "Start it again; on a machine without a browser, paste the address that the browser ends at.";
    failed(
      new BridgeError("LOGIN_FAILED", "Nobody came back from the browser within a minute.", {
        where: { account },
        hint,
      }),
    );
  };
  const timer = setTimeout(late, CALLBACK_MS);
  const stop = () => failed(signal?.reason);
  signal?.addEventListener("abort", stop, { once: true });
  const close = () => {
    clearTimeout(timer);
    signal?.removeEventListener("abort", stop);
    server.close();
    server.closeAllConnections();
  };
  return { redirectUri, arrival, close };
}

/** A server's polling interval where it names none: RFC 8628, section 3.2. */
const POLL_SECONDS = 5;

async function loginByDevice(
  { account, talk, redactor, ports, signal }: LoginOptions,
  scheme: Extract<LoginScheme, { oauth2: "device_code" }>,
  parts: TokenRequestParts,
): Promise<TokenSet> {
  const { server, client } = parts;
  const where = { account: account.name };
  if (server.device_authorization_endpoint === undefined) {
    throw new BridgeError("CONFIG_INVALID", "sign_in has neither device_url nor an issuer that names it.", {
      where,
    });
  }
  const oauthSide = { client_id: client.clientId };
  const options = () => protocolOptions(server.token_endpoint, ports, signal);
  const asked = new URLSearchParams({
    ...(scheme.scope === undefined ? {} : { scope: scheme.scope }),
    ...client.extra,
  });
  const offer = await oauth.deviceAuthorizationRequest(
    server,
    oauthSide,
    await clientAuth(client),
    asked,
    options(),
  );
  const device = await oauth
    .processDeviceAuthorizationResponse(server, oauthSide, offer)
    .catch((cause: unknown) => {
      const words = cause instanceof oauth.ResponseBodyError ? `"${cause.error}"` : `status ${offer.status}`;
      throw new BridgeError("SIGN_IN_REFUSED", `The API gave no device code: ${words}.`, { where, cause });
    });
  redactor.add(device.device_code);
  talk.showCode(device.user_code, device.verification_uri, device.verification_uri_complete);
  const endsAtMs = ports.clock.now() + device.expires_in * 1000;
  let seconds = device.interval ?? POLL_SECONDS;
  for (;;) {
    await ports.clock.sleep(seconds * 1000, signal);
    if (ports.clock.now() > endsAtMs) {
      throw new BridgeError("LOGIN_FAILED", "The code was not used in time.", { where });
    }
    const response = await oauth.deviceCodeGrantRequest(
      server,
      oauthSide,
      await clientAuth(client),
      device.device_code,
      options(),
    );
    const pending = await pendingWord(response.clone());
    if (pending === "slow_down") seconds += 5;
    if (pending !== undefined) continue;
    try {
      return await readTokenResponse(response, parts, { ...where, request: `POST ${server.token_endpoint}` });
    } catch (error) {
      if (!isBridgeError(error, "SIGN_IN_REFUSED") || !error.message.includes("access_denied")) throw error;
      throw new BridgeError("LOGIN_FAILED", "The login was refused in the browser.", { where, cause: error });
    }
  }
}

/** RFC 8628, section 3.5: the responses that mean "ask again". */
async function pendingWord(response: Response): Promise<string | undefined> {
  if (response.status !== 400) return undefined;
  const { error } = (await response.json().catch(() => ({}))) as { error?: string };
  return error === "authorization_pending" || error === "slow_down" ? error : undefined;
}
