/** The grants that need no person: each gives a function that fetches an access token. */

import { SignJWT } from "jose";
import { checkBaseUrl } from "../core/define/base-url.js";
import type { Account } from "../core/define/connector.js";
import type { ClientScheme, JwtBearerScheme } from "../core/define/sign-in-schema.js";
import { BridgeError } from "../core/errors.js";
import { compileJsonPath } from "../core/language/json-path.js";
import { expandTemplate, fillText } from "../core/language/template.js";
import type { Redactor } from "../core/redact.js";
import { tokenEndpoint } from "./oauth-server.js";
import type { AccessToken, FetchToken } from "./token-keeper.js";
import { readPrivateKey, requestToken, type TokenPorts, type TokenSet } from "./token-request.js";

/** An access token with the moment it ends. */
export function accessToken({ accessToken: value, lifeMs, scope }: TokenSet, nowMs: number): AccessToken {
  return { value, lifeMs, scope, endsAtMs: lifeMs === undefined ? undefined : nowMs + lifeMs };
}

/** RFC 6749, section 4.4. */
export function clientCredentials(
  scheme: ClientScheme,
  account: Account,
  redactor: Redactor,
  ports: TokenPorts,
): FetchToken {
  const endpoint = tokenEndpoint(scheme, account, redactor, ports);
  return async (signal) => {
    const parameters = { scope: scheme.scope };
    const tokens = await requestToken(await endpoint.parts(), "client_credentials", parameters, signal);
    return accessToken(tokens, ports.clock.now());
  };
}

/** RFC 6749, section 4.3; some old systems want a second secret behind the password. */
export function passwordGrant(
  scheme: Extract<ClientScheme, { oauth2: "password" }>,
  account: Account,
  redactor: Redactor,
  ports: TokenPorts,
): FetchToken {
  const endpoint = tokenEndpoint(scheme, account, redactor, ports);
  const fill = (text: string) => fillText(text, account.values, { account: account.name });
  const password = fill(scheme.password) + (scheme.suffix === undefined ? "" : fill(scheme.suffix));
  redactor.add(password);
  return async (signal) => {
    const parameters = { username: fill(scheme.user), password, scope: scheme.scope };
    const tokens = await requestToken(await endpoint.parts(), "password", parameters, signal);
    return accessToken(tokens, ports.clock.now());
  };
}

const JWT_LIFE_SECONDS = 300;

/** RFC 7523, section 2.1: a JWT signed with the service account's key is exchanged for a token. */
export function jwtBearer(
  scheme: JwtBearerScheme,
  account: Account,
  redactor: Redactor,
  ports: TokenPorts & { readonly readSecretFile: (path: string) => Promise<string> },
): FetchToken {
  const where = { account: account.name };
  const fill = (text: string) => fillText(text, account.values, where);
  const address = (template: string, what: string) =>
    checkBaseUrl(expandTemplate(template, account.values, where), what, where);
  const tokenUrl = address(scheme.token_url, "token_url");
  const audience = scheme.audience === undefined ? tokenUrl : address(scheme.audience, "audience");
  const extra = Object.fromEntries(Object.entries(scheme.extra).map(([name, text]) => [name, fill(text)]));
  return async (signal) => {
    const keyFile = readKeyFile(await ports.readSecretFile(fill(scheme.key_file)), scheme, account.name);
    redactor.add(keyFile.privateKey);
    const key = await readPrivateKey(keyFile.privateKey, scheme.algorithm, account.name);
    const nowSeconds = Math.floor(ports.clock.now() / 1000);
    const claims = scheme.scope === undefined ? {} : { scope: scheme.scope };
    const jwt = new SignJWT(claims)
      .setProtectedHeader({
        alg: scheme.algorithm,
        typ: "JWT",
        ...(keyFile.keyId === undefined ? {} : { kid: keyFile.keyId }),
      })
      .setIssuer(keyFile.issuer)
      .setSubject(scheme.subject === undefined ? keyFile.issuer : fill(scheme.subject))
      .setAudience(audience)
      .setIssuedAt(nowSeconds)
      .setExpirationTime(nowSeconds + JWT_LIFE_SECONDS);
    const assertion = await jwt.sign(key);
    redactor.add(assertion);
    const client = {
      account: account.name,
      clientId: keyFile.issuer,
      auth: { kind: "none" },
      extra,
    } as const;
    const parts = {
      server: { issuer: new URL(tokenUrl).origin, token_endpoint: tokenUrl },
      client,
      ports,
      redactor,
    };
    const grant = "urn:ietf:params:oauth:grant-type:jwt-bearer";
    return accessToken(
      await requestToken(parts, grant, { assertion, scope: scheme.scope }, signal),
      ports.clock.now(),
    );
  };
}

function readKeyFile(text: string, scheme: JwtBearerScheme, account: string) {
  const where = { account };
  let json: unknown;
  try {
    json = JSON.parse(text);
  } catch (cause) {
    throw new BridgeError("SIGN_IN_FAILED", "The service account's key file is no JSON.", { where, cause });
  }
  const field = (name: keyof JwtBearerScheme["fields"]) => {
    const value = compileJsonPath(scheme.fields[name]).first(json);
    return typeof value === "string" && value !== "" ? value : undefined;
  };
  const issuer = field("issuer");
  const privateKey = field("private_key");
  if (issuer === undefined || privateKey === undefined) {
    const missing = issuer === undefined ? scheme.fields.issuer : scheme.fields.private_key;
    throw new BridgeError("SIGN_IN_FAILED", `The service account's key file has no text at ${missing}.`, {
      where,
      hint: `Its keys: ${Object.keys(json as object).join(", ")}. Say where the parts are under sign_in.fields.`,
    });
  }
  return { issuer, privateKey, keyId: field("key_id") };
}
