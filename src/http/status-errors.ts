/** Answers that are no success, as errors: with the API's own words, the likely cause and the next step. */

import { apiWords } from "../core/ask/api-words.js";
import { BridgeError } from "../core/errors.js";
import { retryAfter } from "../core/pace/limit-headers.js";
import { isPassingStatus } from "../core/pace/retry-policy.js";
import type { Redactor } from "../core/redact.js";
import type { HttpResponse } from "./send.js";

/** Whether an address is a page where people sign in. */
export function isSignInPage(address: string): boolean {
  return /login|signin|sign-in|sso|auth/i.test(address);
}

/** Gives a successful answer back; throws the error for any other. */
export function checkStatus(
  response: HttpResponse,
  redactor: Redactor,
  nowMs: number,
  /** scopes that were granted, separated by spaces, where that is known */
  granted?: string | undefined,
): HttpResponse {
  const { status } = response;
  if (status === 206)
    throw new BridgeError(
      "BODY_TRUNCATED",
      "The API gave only a part of the response (206), which nobody asked for.",
    );
  if (status >= 200 && status < 300) return response;
  const said = redactor.hide(bodyWords(response.body));
  const words = said === "" ? "" : ` It says: ${said}`;
  const retryAfterMs = retryAfter(response.headers, nowMs);
  if (status === 304)
    throw new BridgeError(
      "REQUEST_REFUSED",
      "The API says that nothing has changed (304) and gives no data.",
      {
        hint: "Nothing was asked for on condition: remove If-None-Match or If-Modified-Since from headers, or a cache on the way.",
      },
    );
  if (status >= 300 && status < 400) {
    const to = redactor.hide(response.headers.location ?? "nowhere");
    const hint = isSignInPage(to)
      ? "Check the sign-in: the API sends people who are not signed in to that page."
      : undefined;
    throw new BridgeError("REDIRECTED", `The API points to another address: ${to}`, { hint });
  }
  switch (status) {
    case 401:
      throw new BridgeError(
        "TOKEN_REFUSED",
        `The API refused the credentials (401).${words}${wantedScheme(response)}`,
        {
          hint: placeHint(said),
        },
      );
    case 403:
      throw new BridgeError("FORBIDDEN", `The API forbids this request (403).${words}`, {
        hint: scopeHint(response, granted) ?? addressHint(said) ?? placeHint(said),
      });
    case 404:
    case 410:
      throw new BridgeError("NOT_FOUND", `The API knows no such address (${status}).${words}`, {
        hint: pathHint(response.url),
      });
    case 429:
      throw new BridgeError("RATE_LIMITED", `The API says: too many requests (429).${words}`, {
        retryAfterMs,
      });
    default:
      if (isPassingStatus(status))
        throw new BridgeError("SERVER_FAILED", `The API failed (${status}).${words}`, { retryAfterMs });
      throw new BridgeError("REQUEST_REFUSED", `The API refused the request (${status}).${words}`, {
        hint: tlsHint(said),
      });
  }
}

/** The words in an error body, shortened: those of JSON, a web page's title, or the text itself. */
function bodyWords(body: Uint8Array): string {
  const text = new TextDecoder().decode(body.subarray(0, 20_000)).trim();
  let said = text;
  try {
    said = apiWords(JSON.parse(text)) ?? text;
  } catch {
    // a web page has a title; errors in XML, as older OData services send them, a message
    if (text.startsWith("<"))
      said = /<(?:title|(?:\w+:)?message)[^>]*>([^<]*)/i.exec(text)?.[1]?.trim() ?? "";
  }
  const oneLine = said.replaceAll(/\s+/g, " ");
  return oneLine.length > 300 ? `${oneLine.slice(0, 299)}…` : oneLine;
}

function placeHint(said: string): string | undefined {
  if (!/sandbox|test (key|mode)|live (key|mode)|production|region|environment|data ?cent/i.test(said))
    return undefined;
  return "The credentials belong to another environment or region: give the base address that goes with them, or the other way round.";
}

/** RFC 6750, section 3.1: the scope that a request needs. */
function scopeHint({ headers }: HttpResponse, granted: string | undefined): string | undefined {
  const challenge = headers["www-authenticate"] ?? "";
  if (!/\binsufficient_scope\b/.test(challenge)) return undefined;
  const wanted = /\bscope="?([^",]+)"?/.exec(challenge)?.[1];
  const needed = wanted === undefined ? "a scope that was not granted" : `the scope ${wanted}`;
  const has = granted === undefined || granted === "" ? "" : `; granted: ${granted}`;
  return `This request needs ${needed}${has}. Add it to sign_in.scope, and sign in anew.`;
}

/** RFC 9110, section 11.6.1: how the API wants to be signed in to. */
function wantedScheme({ headers }: HttpResponse): string {
  const scheme = /^[A-Za-z][\w-]*/.exec(headers["www-authenticate"]?.trim() ?? "")?.[0];
  return scheme === undefined ? "" : ` It asks for ${scheme}.`;
}

function addressHint(said: string): string | undefined {
  if (!/\bip\b|ip address|allow.?list|network location|not allowed from/i.test(said)) return undefined;
  return "Allow the address of this machine in the API's own settings: it keeps a list of addresses.";
}

/** A path that is doubled or left out is the most usual mistake in a base address. */
function pathHint(url: string): string | undefined {
  const segments = new URL(url).pathname.split("/").filter((segment) => segment !== "");
  const twice = segments.find((segment, i) => segment === segments[i + 1]);
  if (twice === undefined) return undefined;
  return `The path has /${twice} twice: remove it from the account's base address or from api.url.`;
}

function tlsHint(said: string): string | undefined {
  return /plain HTTP request was sent to HTTPS|HTTPS required|use https/i.test(said)
    ? "Write https instead of http in the base address."
    : undefined;
}
