/** An OAuth server's endpoints: given in the connector, or found by RFC 8414 or OpenID discovery. */

import * as oauth from "oauth4webapi";
import { checkBaseUrl } from "../core/define/base-url.js";
import type { Account } from "../core/define/connector.js";
import type { ClientScheme } from "../core/define/sign-in-schema.js";
import { BridgeError, isBridgeError } from "../core/errors.js";
import { expandTemplate, fillText } from "../core/language/template.js";
import type { Redactor } from "../core/redact.js";
import { withRetries } from "../http/retry.js";
import {
  type OAuthClient,
  type OAuthServer,
  protocolOptions,
  type TokenPorts,
  type TokenRequestParts,
} from "./token-request.js";

/** A scheme's client, and all that a token request needs; the endpoints are found when the first one is made. */
export interface TokenEndpoint {
  readonly client: OAuthClient;
  parts(): Promise<TokenRequestParts>;
}

export function tokenEndpoint(
  scheme: ClientScheme,
  account: Account,
  redactor: Redactor,
  ports: TokenPorts,
): TokenEndpoint {
  const client = oauthClient(scheme, account, redactor);
  const findServer = serverFinder(scheme, account, ports);
  return { client, parts: async () => ({ server: await findServer(), client, ports, redactor }) };
}

/** The client of a scheme, its secrets filled in and known to the redactor. */
function oauthClient(scheme: ClientScheme, account: Account, redactor: Redactor): OAuthClient {
  const where = { account: account.name };
  const fill = (text: string) => fillText(text, account.values, where);
  const extra = Object.fromEntries(Object.entries(scheme.extra).map(([name, text]) => [name, fill(text)]));
  const base = { account: account.name, clientId: fill(scheme.client_id), extra };
  if (scheme.client_auth === "private_key_jwt") {
    const privateKey = fill(scheme.private_key ?? "{private_key}");
    redactor.add(privateKey);
    const keyId = scheme.key_id === undefined ? undefined : fill(scheme.key_id);
    return { ...base, auth: { kind: "private_key_jwt", privateKey, algorithm: scheme.algorithm, keyId } };
  }
  // a public client has no secret: RFC 8252 wants native apps so
  const secretText =
    scheme.client_secret ?? (account.values.client_secret === undefined ? undefined : "{client_secret}");
  if (secretText === undefined) return { ...base, auth: { kind: "none" } };
  const secret = fill(secretText);
  redactor.add(secret);
  if (scheme.client_auth === "client_secret_jwt") {
    const algorithm = scheme.algorithm.startsWith("HS") ? scheme.algorithm : "HS256";
    return { ...base, auth: { kind: "client_secret_jwt", secret, algorithm } };
  }
  return { ...base, auth: { kind: scheme.client_auth, secret } };
}

/** Finds a scheme's endpoints once; the promise is kept, and forgotten when it fails. */
function serverFinder(scheme: ClientScheme, account: Account, ports: TokenPorts): () => Promise<OAuthServer> {
  let found: Promise<OAuthServer> | undefined;
  return () => {
    found ??= findServer(scheme, account, ports).catch((error: unknown) => {
      found = undefined;
      throw error;
    });
    return found;
  };
}

async function findServer(scheme: ClientScheme, account: Account, ports: TokenPorts): Promise<OAuthServer> {
  const where = { account: account.name };
  const address = (template: string | undefined, what: string) =>
    template === undefined
      ? undefined
      : checkBaseUrl(expandTemplate(template, account.values, where), what, where);
  const tokenUrl = address(scheme.token_url, "token_url");
  const given = {
    token_endpoint: tokenUrl,
    authorization_endpoint:
      "authorize_url" in scheme ? address(scheme.authorize_url, "authorize_url") : undefined,
    device_authorization_endpoint:
      "device_url" in scheme ? address(scheme.device_url, "device_url") : undefined,
  };
  const known = Object.fromEntries(Object.entries(given).filter(([, url]) => url !== undefined));
  const issuer = address(scheme.issuer, "issuer");
  if (issuer === undefined) {
    if (tokenUrl === undefined) {
      throw new BridgeError("CONFIG_INVALID", "sign_in has neither token_url nor issuer.", { where });
    }
    const guessed = { issuer: new URL(tokenUrl).origin, issuerUnknown: true };
    return { ...guessed, ...known, token_endpoint: tokenUrl };
  }
  const discovered = await discover(issuer, account.name, ports);
  const server = { ...discovered, ...known };
  if (server.token_endpoint === undefined) {
    throw new BridgeError("SIGN_IN_FAILED", `The discovery document of ${issuer} names no token endpoint.`, {
      where,
    });
  }
  return { ...server, token_endpoint: server.token_endpoint };
}

/** OpenID discovery first, which most servers have; then RFC 8414. */
async function discover(
  issuer: string,
  account: string,
  ports: TokenPorts,
): Promise<oauth.AuthorizationServer> {
  const url = new URL(issuer);
  let failure: unknown;
  for (const algorithm of ["oidc", "oauth2"] as const) {
    try {
      return await withRetries(
        async () => {
          const response = await oauth.discoveryRequest(url, {
            algorithm,
            ...protocolOptions(issuer, ports, undefined),
          });
          return oauth.processDiscoveryResponse(url, response);
        },
        ports,
        { isDoubtful: (error) => error.code === "CONNECTION_REFUSED" },
      );
    } catch (error) {
      if (isBridgeError(error)) throw error.at({ account, request: `GET ${issuer} (discovery)` });
      failure ??= error;
    }
  }
  throw new BridgeError("SIGN_IN_FAILED", `No discovery document was found at ${issuer}.`, {
    where: { account },
    hint: "Check sign_in.issuer, or give token_url and the other endpoints themselves.",
    cause: failure,
  });
}
