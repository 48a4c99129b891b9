/** Bytes as text, and the web page that comes where something else was asked for. */

import { BridgeError, type Where } from "../errors.js";

/** @throws BridgeError BODY_UNREADABLE */
export function decodeText(bytes: Uint8Array, encoding: string, where: Where): string {
  try {
    return new TextDecoder(encoding, { fatal: true }).decode(bytes);
  } catch (cause) {
    throw new BridgeError("BODY_UNREADABLE", `The response is not written in ${encoding}.`, { where, cause });
  }
}

export function webPage(bytes: Uint8Array, expected: string, where: Where): BridgeError {
  const title = /<title[^>]*>([^<]*)/i.exec(new TextDecoder().decode(bytes.subarray(0, 4096)))?.[1]?.trim();
  const seen = title === undefined || title === "" ? "a web page" : `a web page titled "${title}"`;
  const hint = /sign.?in|log.?in/i.test(title ?? "")
    ? "Check the sign-in, then the base URL: a page for signing in answered, not the API."
    : undefined;
  return new BridgeError("BODY_HTML", `${expected} was expected, ${seen} came.`, { where, hint });
}

export function isWebPage(text: string): boolean {
  return /^\s*(<!doctype html|<html)/i.test(text);
}
