/** Fixed credentials: HTTP Basic, a bearer token, a key in header, query or cookie. */

import type { Account } from "../core/define/connector.js";
import type { SignInScheme } from "../core/define/sign-in-schema.js";
import { fillText } from "../core/language/template.js";
import type { Redactor } from "../core/redact.js";
import type { HttpRequest } from "../http/send.js";

/** Puts a credential into a request. */
export type Attach = (request: HttpRequest) => HttpRequest;

export function withHeader(request: HttpRequest, name: string, value: string): HttpRequest {
  return { ...request, headers: { ...request.headers, [name.toLowerCase()]: value } };
}

/** Adds a credential in the place that a connector names. Cookies already there stay. */
export function attachIn(place: "header" | "query" | "cookie", name: string, value: string): Attach {
  if (place === "header") return (request) => withHeader(request, name, value);
  if (place === "cookie") {
    return (request) => {
      const before = request.headers.cookie;
      return withHeader(request, "cookie", `${before === undefined ? "" : `${before}; `}${name}=${value}`);
    };
  }
  const pair = `${encodeURIComponent(name)}=${encodeURIComponent(value)}`;
  return (request) => {
    // an API may echo the key in the address of the next page: it is set, not added a second time
    const url = withoutParameter(request.url, name);
    return { ...request, url: `${url}${url.includes("?") ? "&" : "?"}${pair}` };
  };
}

/** An address without a query parameter; all else stays as it is written. */
function withoutParameter(url: string, name: string): string {
  const at = url.indexOf("?");
  if (at < 0) return url;
  const pairs = url.slice(at + 1).split("&");
  const isOther = (pair: string) => decodedName(pair.split("=")[0]!) !== name;
  const others = pairs.filter(isOther);
  if (others.length === pairs.length) return url;
  return url.slice(0, at) + (others.length === 0 ? "" : `?${others.join("&")}`);
}

function decodedName(text: string): string {
  try {
    return decodeURIComponent(text.replaceAll("+", " "));
  } catch {
    return text;
  }
}

/** RFC 7617: user and password in UTF-8, joined by a colon. */
export function basicAttach(
  scheme: Extract<SignInScheme, { basic: object }>,
  account: Account,
  redactor: Redactor,
): Attach {
  const where = { account: account.name };
  const user = fillText(scheme.basic.user, account.values, where);
  const password = fillText(scheme.basic.password, account.values, where);
  const packed = bytesToBase64(new TextEncoder().encode(`${user}:${password}`));
  redactor.add(password);
  redactor.add(packed);
  return attachIn("header", "authorization", `Basic ${packed}`);
}

export function bearerAttach(
  scheme: Extract<SignInScheme, { bearer: string }>,
  account: Account,
  redactor: Redactor,
): Attach {
  const token = fillText(scheme.bearer, account.values, { account: account.name });
  redactor.add(token);
  return attachIn("header", "authorization", `Bearer ${token}`);
}

export function keyAttach(
  scheme: Extract<SignInScheme, { key: string }>,
  account: Account,
  redactor: Redactor,
): Attach {
  const key = fillText(scheme.key, account.values, { account: account.name });
  redactor.add(key);
  return attachIn(scheme.in, scheme.name, scheme.prefix + key);
}

function bytesToBase64(bytes: Uint8Array): string {
  return btoa(String.fromCharCode(...bytes));
}
