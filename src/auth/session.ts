/** Session sign-in: a described request whose response gives a token or cookie, and an optional sign-out. */

import { XMLParser } from "fast-xml-parser";
import { checkBaseUrl } from "../core/define/base-url.js";
import type { Account } from "../core/define/connector.js";
import type { SessionScheme } from "../core/define/sign-in-schema.js";
import { BridgeError, isBridgeError } from "../core/errors.js";
import { durationMs } from "../core/language/duration.js";
import { compileJsonPath } from "../core/language/json-path.js";
import { escapeXml, expandTemplate, fillText } from "../core/language/template.js";
import type { Redactor } from "../core/redact.js";
import { withRetries } from "../http/retry.js";
import type { HttpRequest, HttpResponse } from "../http/send.js";
import { checkStatus } from "../http/status-errors.js";
import { type Attach, attachIn } from "./fixed.js";
import type { FetchToken } from "./token-keeper.js";
import type { TokenPorts } from "./token-request.js";

export interface SessionSignIn {
  readonly fetchToken: FetchToken;
  readonly attach: (token: string) => Attach;
  /** ends the session at the API; undefined where the connector names no address for it */
  readonly signOut: ((token: string) => Promise<void>) | undefined;
}

export function sessionSignIn(
  scheme: SessionScheme,
  account: Account,
  redactor: Redactor,
  ports: TokenPorts,
): SessionSignIn {
  const where = { account: account.name };
  const address = (template: string) => {
    const text = expandTemplate(template, account.values, where);
    return text.startsWith("/") ? account.baseUrl + text : checkBaseUrl(text, "sign_in.session.post", where);
  };
  const request = signInRequest(scheme, account, address(scheme.post));
  const attach = (token: string) => sendRule(scheme)(token);
  const lifeMs = scheme.lifetime === undefined ? undefined : durationMs(scheme.lifetime);
  const place = { ...where, request: `POST ${request.url}` };
  const attempt = async (signal: AbortSignal | undefined) => {
    const answer = await ports.send({ ...request, signal });
    try {
      checkStatus(answer, redactor, ports.clock.now());
    } catch (error) {
      if (!isBridgeError(error) || error.retryable) throw error;
      const hint = `Check the credentials of account ${account.name}.`;
      throw new BridgeError("SIGN_IN_REFUSED", error.message, { where: place, hint, cause: error });
    }
    return readToken(scheme, answer, account.name);
  };
  const { sign_out: signOutTemplate } = scheme;
  return {
    attach,
    async fetchToken(signal) {
      const isDoubtful = (error: BridgeError) => error.code === "CONNECTION_REFUSED";
      try {
        const value = await withRetries(() => attempt(signal), ports, { signal, isDoubtful });
        redactor.add(value);
        return { value, lifeMs, endsAtMs: lifeMs === undefined ? undefined : ports.clock.now() + lifeMs };
      } catch (error) {
        throw isBridgeError(error) ? error.at(place) : error;
      }
    },
    signOut:
      signOutTemplate === undefined
        ? undefined
        : async (token) => {
            await ports.send(attach(token)({ method: "POST", url: address(signOutTemplate), headers: {} }));
          },
  };
}

/** The described request; values are escaped as the body's format wants it. */
function signInRequest(scheme: SessionScheme, account: Account, url: string): HttpRequest {
  const where = { account: account.name };
  const fill = (text: string, prepare?: (value: string) => string) =>
    fillText(text, account.values, where, prepare);
  const fillAll = (map: Readonly<Record<string, string>>) =>
    Object.fromEntries(Object.entries(map).map(([name, text]) => [name, fill(text)]));
  const [type, body] =
    scheme.json !== undefined
      ? ["application/json", JSON.stringify(fillAll(scheme.json))]
      : scheme.form !== undefined
        ? ["application/x-www-form-urlencoded", new URLSearchParams(fillAll(scheme.form)).toString()]
        : scheme.xml !== undefined
          ? ["text/xml; charset=utf-8", fill(scheme.xml, escapeXml)]
          : [undefined, undefined];
  const headers = Object.fromEntries(
    Object.entries(fillAll(scheme.headers)).map(([name, value]) => [name.toLowerCase(), value]),
  );
  return {
    method: "POST",
    url,
    body,
    headers: { ...(type === undefined ? {} : { "content-type": type }), ...headers },
  };
}

function sendRule(scheme: SessionScheme): (token: string) => Attach {
  const { send, cookie } = scheme;
  if (send !== undefined) return (token) => attachIn(send.in, send.name, send.prefix + token);
  if (cookie !== undefined) return (token) => attachIn("cookie", cookie, token);
  return (token) => attachIn("header", "authorization", `Bearer ${token}`);
}

function readToken(scheme: SessionScheme, answer: HttpResponse, account: string): string {
  if (scheme.cookie !== undefined) {
    // set-cookie lines are joined by ", ": a cookie begins at the start or behind that
    const pattern = new RegExp(`(?:^|, )${scheme.cookie.replaceAll(/[^\w-]/g, "\\$&")}=([^;,]*)`);
    const value = pattern.exec(answer.headers["set-cookie"] ?? "")?.[1];
    if (value !== undefined && value !== "") return value;
    throw noToken(`a cookie ${scheme.cookie}`, account);
  }
  const text = new TextDecoder().decode(answer.body);
  const found = compileJsonPath(scheme.token!).first(parseTree(text, account));
  if (typeof found === "string" && found !== "") return found;
  throw noToken(`a text at ${scheme.token}`, account);
}

/** JSON, or XML into the same tree: elements by name without prefix, attributes with `@`. */
function parseTree(text: string, account: string): unknown {
  try {
    if (text.trimStart().startsWith("<")) {
      const parser = new XMLParser({
        removeNSPrefix: true,
        ignoreAttributes: false,
        attributeNamePrefix: "@",
        parseTagValue: false,
      });
      return parser.parse(text, true);
    }
    return JSON.parse(text);
  } catch (cause) {
    throw new BridgeError("SIGN_IN_FAILED", "The response to the sign-in is neither JSON nor XML.", {
      where: { account },
      cause,
    });
  }
}

function noToken(expected: string, account: string): BridgeError {
  return new BridgeError(
    "SIGN_IN_FAILED",
    `The response to the sign-in should have held ${expected}, and does not.`,
    {
      where: { account },
      hint: "Check the credentials, and sign_in.session in the connector: some APIs answer 200 to a wrong password.",
    },
  );
}
