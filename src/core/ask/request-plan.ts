/** The requests of a stream: pure functions from settings, cursor and page token to an address. */

import { BridgeError, type Where } from "../errors.js";

export type QueryValues = Readonly<Record<string, string | number | boolean>>;

/** One request to an API, before it is signed. */
export interface ApiRequest {
  readonly method: "GET";
  readonly url: string;
  readonly headers: Readonly<Record<string, string>>;
}

/** What varies from page to page. */
export interface PagePosition {
  /** the cursor's value as the API wants it; undefined asks for everything */
  readonly since?: { readonly query: string; readonly value: string } | undefined;
  /** the token of the page; undefined is the first */
  readonly token?: { readonly query: string; readonly value: string } | undefined;
}

/**
 * The API's base address, checked: a whole http(s) URL. It comes back without a trailing slash.
 * Plain http is refused except on this machine, for credentials travel with every request.
 */
export function checkBaseUrl(text: string, what: string, where: Where): string {
  let url: URL;
  try {
    url = new URL(text);
  } catch (cause) {
    const hint = /^[\w.-]+(:\d+)?(\/|$)/.test(text) ? `Write https://${text} instead.` : undefined;
    throw new BridgeError("URL_INVALID", `${what} is "${text}", which is no whole address.`, {
      where,
      hint,
      cause,
    });
  }
  if (url.protocol !== "https:" && url.protocol !== "http:") {
    throw new BridgeError("URL_INVALID", `${what} is "${text}": only http and https are known.`, { where });
  }
  if (url.username !== "" || url.password !== "") {
    throw new BridgeError("SECRET_IN_PLAIN", `${what} holds a user name or password.`, { where });
  }
  if (url.protocol === "http:" && !isLoopback(url.hostname)) {
    throw new BridgeError("URL_INSECURE", `${what} is "${text}": secrets would travel readable.`, { where });
  }
  return text.replace(/\/+$/, "");
}

/** Whether a host name is this machine: RFC 6761 localhost, 127.0.0.0/8 or ::1. */
export function isLoopback(hostname: string): boolean {
  return hostname === "localhost" || hostname === "[::1]" || /^127(\.\d+){3}$/.test(hostname);
}

/** The request for a page. Query values are percent-encoded, a space as %20. */
export function pageRequest(
  base: string,
  path: string,
  query: QueryValues,
  headers: Readonly<Record<string, string>>,
  position: PagePosition,
): ApiRequest {
  const pairs = new Map(Object.entries(query).map(([name, value]) => [name, String(value)]));
  if (position.since !== undefined) pairs.set(position.since.query, position.since.value);
  if (position.token !== undefined) pairs.set(position.token.query, position.token.value);
  const text = [...pairs].map(([name, value]) => `${encodeURIComponent(name)}=${encodeURIComponent(value)}`);
  const joint = path.includes("?") ? "&" : "?";
  const url = base + path + (text.length === 0 ? "" : joint + text.join("&"));
  return { method: "GET", url, headers };
}
