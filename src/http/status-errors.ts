/** Answers that are no success, as errors: with the API's own words, the likely cause and the next step. */

import { BridgeError } from "../core/errors.js";
import { retryAfter } from "../core/pace/limit-headers.js";
import { isPassingStatus } from "../core/pace/retry-policy.js";
import type { Redactor } from "../core/redact.js";
import type { HttpResponse } from "./transport.js";

/** Gives a successful answer back; throws the error for any other. */
export function checkStatus(response: HttpResponse, redactor: Redactor, nowMs: number): HttpResponse {
  const { status } = response;
  if (status >= 200 && status < 300) return response;
  const said = redactor.hide(apiWords(response.body));
  const words = said === "" ? "" : ` It says: ${said}`;
  const retryAfterMs = retryAfter(response.headers["retry-after"], nowMs);
  if (status >= 300 && status < 400) {
    const to = redactor.hide(response.headers.location ?? "nowhere");
    const hint = /login|signin|sign-in|sso|auth/i.test(to)
      ? "Check the sign-in: the API sends people who are not signed in to that page."
      : undefined;
    throw new BridgeError("REDIRECTED", `The API points to another address: ${to}`, { hint });
  }
  switch (status) {
    case 401:
      throw new BridgeError("TOKEN_REFUSED", `The API refused the credentials (401).${words}`, {
        hint: placeHint(said),
      });
    case 403:
      throw new BridgeError("FORBIDDEN", `The API forbids this request (403).${words}`, {
        hint: addressHint(said) ?? placeHint(said),
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

/** The message in an error body, shortened: a `message`, `error` or `detail` of JSON, or the text itself. */
function apiWords(body: Uint8Array): string {
  const text = new TextDecoder().decode(body.subarray(0, 2000)).trim();
  let said = text;
  try {
    const json = JSON.parse(text) as Record<string, unknown>;
    const candidates = [json.message, json.error_description, json.detail, json.error, json.title];
    const found = candidates.find((each) => typeof each === "string" && each !== "");
    if (typeof found === "string") said = found;
  } catch {
    if (text.startsWith("<")) said = /<title[^>]*>([^<]*)/i.exec(text)?.[1]?.trim() ?? "";
  }
  const oneLine = said.replaceAll(/\s+/g, " ");
  return oneLine.length > 200 ? `${oneLine.slice(0, 199)}…` : oneLine;
}

function placeHint(said: string): string | undefined {
  if (!/sandbox|test (key|mode)|live (key|mode)|production|region|environment|data ?cent/i.test(said))
    return undefined;
  return "The credentials belong to another environment or region: give the base address that goes with them, or the other way round.";
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
