/** Addresses that credentials travel to: whole, and readable by nobody on the way. */

import { BridgeError, type Where } from "../errors.js";

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
    throw new BridgeError("URL_INVALID", `${what} is "${text}", which is not a complete URL.`, {
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
