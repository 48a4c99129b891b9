/** Sign-in: an account's schemes become one signer that adds credentials to its requests. */

import type { Account } from "../core/define/connector.js";
import type { ConnectorCode } from "../core/define/connector-schema.js";
import { type SignIn, type SignInScheme, schemesOf } from "../core/define/sign-in-schema.js";
import { BridgeError, callOwn } from "../core/errors.js";
import type { Redactor } from "../core/redact.js";
import type { Signer } from "../http/exchange.js";
import type { HttpRequest } from "../http/send.js";
import { type Attach, attachIn, basicAttach, bearerAttach, keyAttach } from "./fixed.js";
import { clientCredentials, jwtBearer, passwordGrant } from "./oauth.js";
import { sessionSignIn } from "./session.js";
import { type StorePorts, storedTokens } from "./stored-tokens.js";
import { type FetchToken, TokenKeeper } from "./token-keeper.js";

/** What signing in needs from outside. */
export interface SignInPorts extends StorePorts {
  /** reads a file that holds a secret, by its path from the project's folder */
  readonly readSecretFile: (path: string) => Promise<string>;
}

export interface SignedIn {
  readonly sign: Signer;
  /** gets what the schemes need, and sends nothing to the API itself */
  signIn(signal?: AbortSignal): Promise<void>;
  /** the scopes that were granted, where the server has said so */
  granted(): string | undefined;
  /** ends sessions at the API, where it has an address for that */
  signOut(): Promise<void>;
}

/** A credential for one request, and what to do when the API refuses it. */
interface Credential {
  readonly attach: Attach;
  /** forgets this very credential, so that the next one is new; undefined where there is nothing to renew */
  readonly refused: (() => void) | undefined;
}

/** One scheme at work. */
interface Scheme {
  scope?(): string | undefined;
  credential(signal: AbortSignal | undefined): Promise<Credential>;
  signOut(): Promise<void>;
}

/** Credentials go to the API's own origins only: its base address and the ones the connector declares. */
export function createSignIn(
  signIn: SignIn,
  code: ConnectorCode | undefined,
  account: Account,
  redactor: Redactor,
  ports: SignInPorts,
): SignedIn {
  const schemes = schemesOf(signIn).map((scheme) => startScheme(scheme, account, redactor, ports));
  const origins = new Set(account.origins);
  const credentials = (signal: AbortSignal | undefined) =>
    Promise.all(schemes.map((scheme) => scheme.credential(signal)));
  const attached = async (request: HttpRequest, given: readonly Credential[]): Promise<HttpRequest> => {
    const signed = given.reduce((next, { attach }) => attach(next), request);
    return code?.sign === undefined ? signed : { ...signed, ...(await ownSign(code.sign, signed, account)) };
  };
  return {
    sign: (next) => async (request) => {
      if ((schemes.length === 0 && code?.sign === undefined) || !origins.has(new URL(request.url).origin))
        return next(request);
      const given = await credentials(request.signal);
      const response = await next(await attached(request, given));
      const renewals = given.flatMap(({ refused }) => refused ?? []);
      if (response.status !== 401 || renewals.length === 0) return response;
      // once, with what is new: a second 401 is a response
      for (const refused of renewals) refused();
      return next(await attached(request, await credentials(request.signal)));
    },
    async signIn(signal) {
      await credentials(signal);
    },
    granted: () => schemes.map((scheme) => scheme.scope?.()).find((scope) => scope !== undefined),
    async signOut() {
      for (const scheme of schemes) await scheme.signOut();
    },
  };
}

/** @throws BridgeError FUNCTION_FAILED */
async function ownSign(
  sign: NonNullable<ConnectorCode["sign"]>,
  request: HttpRequest,
  { name, values }: Account,
) {
  const where = { account: name };
  const failed = (cause: unknown) =>
    callOwn("sign", where, (): never => {
      throw cause;
    });
  const signed = await Promise.resolve()
    .then(() => sign(request, values))
    .catch(failed);
  if (typeof signed?.url === "string" && typeof signed.headers === "object") return signed;
  throw new BridgeError("FUNCTION_FAILED", "The connector's own sign has given no url and headers.", {
    where,
  });
}

function startScheme(scheme: SignInScheme, account: Account, redactor: Redactor, ports: SignInPorts): Scheme {
  if ("basic" in scheme) return fixed(basicAttach(scheme, account, redactor));
  if ("bearer" in scheme) return fixed(bearerAttach(scheme, account, redactor));
  if ("key" in scheme) return fixed(keyAttach(scheme, account, redactor));
  if ("session" in scheme) {
    const session = sessionSignIn(scheme.session, account, redactor, ports);
    return renewable(session.fetchToken, session.attach, ports, session.signOut);
  }
  const asBearer = (token: string) => attachIn("header", "authorization", `Bearer ${token}`);
  switch (scheme.oauth2) {
    case "client_credentials":
      return renewable(clientCredentials(scheme, account, redactor, ports), asBearer, ports);
    case "password":
      return renewable(passwordGrant(scheme, account, redactor, ports), asBearer, ports);
    case "jwt_bearer":
      return renewable(jwtBearer(scheme, account, redactor, ports), asBearer, ports);
    default:
      return renewable(storedTokens(scheme, account, redactor, ports), asBearer, ports);
  }
}

function fixed(attach: Attach): Scheme {
  return { credential: async () => ({ attach, refused: undefined }), signOut: async () => {} };
}

function renewable(
  fetchToken: FetchToken,
  attach: (token: string) => Attach,
  ports: SignInPorts,
  signOut?: (token: string) => Promise<void>,
): Scheme {
  const keeper = new TokenKeeper(fetchToken, ports.clock);
  return {
    async credential(signal) {
      const token = await keeper.token(signal);
      return { attach: attach(token), refused: () => keeper.refused(token) };
    },
    scope: () => keeper.scope,
    async signOut() {
      const token = keeper.inUse;
      if (token !== undefined) await signOut?.(token);
    },
  };
}
