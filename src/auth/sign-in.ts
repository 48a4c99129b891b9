/** Sign-in schemes: each gives a signer that adds credentials to the requests of one account. */

import { checkBaseUrl } from "../core/ask/request-plan.js";
import { expandTemplate } from "../core/ask/template.js";
import type { Account } from "../core/define/connector.js";
import type { SignIn } from "../core/define/connector-schema.js";
import type { Redactor } from "../core/redact.js";
import type { Signer } from "../http/exchange.js";
import { clientCredentialsToken, type TokenPorts } from "./client-credentials.js";
import { TokenKeeper } from "./token-keeper.js";

/** The signer for an account. Credentials go to the API's own origin only. */
export function createSigner(
  signIn: SignIn,
  account: Account,
  redactor: Redactor,
  ports: TokenPorts,
): Signer {
  if (signIn === "none") return (next) => next;
  const where = { account: account.name };
  const expand = (template: string) => expandTemplate(template, account.values, where);
  const settings = {
    tokenUrl: checkBaseUrl(expand(signIn.token_url), "token_url", where),
    clientId: expandPlain(signIn.client_id, account),
    clientSecret: expandPlain(signIn.client_secret, account),
    clientAuth: signIn.client_auth,
    scope: signIn.scope,
    account: account.name,
  };
  redactor.add(settings.clientSecret);
  const keeper = new TokenKeeper(
    (signal) => clientCredentialsToken(settings, redactor, ports, signal),
    ports.clock,
  );
  return bearerSigner(keeper, new URL(account.baseUrl).origin);
}

/** A template that is one name stands for the setting itself: secrets must not be percent-encoded. */
function expandPlain(template: string, account: Account): string {
  const name = /^\{\+?([a-z][a-z0-9_]*)\}$/.exec(template)?.[1];
  const value = name === undefined ? undefined : account.values[name];
  return value === undefined
    ? expandTemplate(template, account.values, { account: account.name })
    : String(value);
}

/** RFC 6750 bearer tokens; after a 401 the token is renewed and the request sent once more. */
export function bearerSigner(keeper: TokenKeeper, origin: string): Signer {
  return (next) => async (request) => {
    if (new URL(request.url).origin !== origin) return next(request);
    const signed = (token: string) => ({
      ...request,
      headers: { ...request.headers, authorization: `Bearer ${token}` },
    });
    const token = await keeper.token(request.signal);
    const response = await next(signed(token));
    if (response.status !== 401) return response;
    keeper.refused(token);
    return next(signed(await keeper.token(request.signal)));
  };
}
