/** OAuth 2.0 client credentials, RFC 6749 section 4.4; the protocol's steps are oauth4webapi's. */

import * as oauth from "oauth4webapi";
import { isLoopback } from "../core/ask/request-plan.js";
import { BridgeError, isBridgeError, type Where } from "../core/errors.js";
import { retryAfter } from "../core/pace/limit-headers.js";
import { isPassingStatus } from "../core/pace/retry-policy.js";
import type { Redactor } from "../core/redact.js";
import { type RetryParts, withRetries } from "../http/retry.js";
import type { Send } from "../http/transport.js";
import type { AccessToken } from "./token-keeper.js";

export interface ClientCredentials {
  readonly tokenUrl: string;
  readonly clientId: string;
  readonly clientSecret: string;
  readonly clientAuth: "header" | "body";
  readonly scope: string | undefined;
  readonly account: string;
}

/** What a sign-in needs from outside. */
export interface TokenPorts extends RetryParts {
  readonly send: Send;
}

/**
 * Fetches a token; passing faults are retried.
 * @throws BridgeError SIGN_IN_REFUSED, SIGN_IN_FAILED and the transport's codes
 */
export async function clientCredentialsToken(
  settings: ClientCredentials,
  redactor: Redactor,
  ports: TokenPorts,
  signal: AbortSignal | undefined,
): Promise<AccessToken> {
  const where = { account: settings.account, request: `POST ${settings.tokenUrl}` };
  const attempt = () => requestToken(settings, where, redactor, ports, signal);
  const isDoubtful = (error: BridgeError) => error.code === "CONNECTION_REFUSED";
  try {
    const token = await withRetries(attempt, ports, { signal, isDoubtful });
    redactor.add(token.value);
    return token;
  } catch (error) {
    throw isBridgeError(error) ? error.at(where) : error;
  }
}

async function requestToken(
  settings: ClientCredentials,
  where: Where,
  redactor: Redactor,
  ports: TokenPorts,
  signal: AbortSignal | undefined,
): Promise<AccessToken> {
  const url = new URL(settings.tokenUrl);
  const server: oauth.AuthorizationServer = { issuer: url.origin, token_endpoint: settings.tokenUrl };
  const client: oauth.Client = { client_id: settings.clientId };
  const secret = settings.clientSecret;
  const auth =
    settings.clientAuth === "header" ? oauth.ClientSecretBasic(secret) : oauth.ClientSecretPost(secret);
  const parameters = new URLSearchParams(settings.scope === undefined ? {} : { scope: settings.scope });
  const response = await oauth.clientCredentialsGrantRequest(server, client, auth, parameters, {
    [oauth.allowInsecureRequests]: isLoopback(url.hostname),
    [oauth.customFetch]: (address, options) => fetchBy(ports.send, address, options, signal),
  });
  if (isPassingStatus(response.status)) {
    const retryAfterMs = retryAfter(response.headers.get("retry-after") ?? undefined, ports.clock.now());
    throw new BridgeError("SERVER_FAILED", `The token endpoint failed (${response.status}).`, {
      where,
      retryAfterMs,
    });
  }
  if (response.status >= 400) throw await refusal(response, settings, redactor, where);
  try {
    const result = await oauth.processClientCredentialsResponse(server, client, response);
    const lifeMs = result.expires_in === undefined ? undefined : result.expires_in * 1000;
    const endsAtMs = lifeMs === undefined ? undefined : ports.clock.now() + lifeMs;
    return { value: result.access_token, endsAtMs, lifeMs };
  } catch (cause) {
    const seen = response.status === 200 ? "the answer is none" : `status ${response.status} came`;
    throw new BridgeError("SIGN_IN_FAILED", `An OAuth 2.0 token was expected, ${seen}.`, { where, cause });
  }
}

async function fetchBy(
  send: Send,
  url: string,
  options: { method: string; headers: Record<string, string>; body?: unknown },
  signal: AbortSignal | undefined,
): Promise<Response> {
  const body = options.body === undefined ? undefined : String(options.body);
  const answer = await send({ method: "POST", url, headers: options.headers, body, signal });
  const headers = new Headers();
  for (const [name, value] of Object.entries(answer.headers)) {
    if (value !== undefined && name !== "content-encoding" && name !== "content-length")
      headers.set(name, value);
  }
  return new Response(answer.body.slice(), { status: answer.status, headers });
}

/** The error of RFC 6749, section 5.2, in the server's own words. */
async function refusal(
  response: Response,
  settings: ClientCredentials,
  redactor: Redactor,
  where: Where,
): Promise<BridgeError> {
  const { status } = response;
  const said = (await response.json().catch(() => undefined)) as Record<string, unknown> | undefined;
  const code = typeof said?.error === "string" ? said.error : undefined;
  if (code === undefined && status !== 401 && status !== 403) {
    return new BridgeError("SIGN_IN_FAILED", `A token was expected, status ${status} came.`, { where });
  }
  const description = typeof said?.error_description === "string" ? `: ${said.error_description}` : "";
  const words = code === undefined ? "" : `: "${redactor.hide(code + description)}"`;
  const hint = hintFor(code ?? "invalid_client", settings);
  return new BridgeError("SIGN_IN_REFUSED", `The token endpoint refused to sign in (${status})${words}.`, {
    where,
    hint,
  });
}

/** What most likely is wrong, by RFC 6749 section 5.2. */
function hintFor(code: string, { account }: ClientCredentials): string {
  switch (code) {
    case "invalid_client":
      return `Check client_id and client_secret of account ${account}: for this very environment, and not revoked?`;
    case "invalid_scope":
      return "Check sign_in.scope in the connector: the server does not grant it to this client.";
    case "unauthorized_client":
    case "unsupported_grant_type":
      return "Allow client credentials for this client in the API's own settings.";
    default:
      return "Read the server's own words above.";
  }
}
