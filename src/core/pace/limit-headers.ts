/** What an API says of its limits in response headers. */

import { parseDictionary, parseItem, parseList } from "structured-headers";

/** Header values by lower-case name. */
export type HeaderValues = Readonly<Record<string, string | undefined>>;

/** Limits told by one response; every part may be missing. Times are milliseconds from the response on. */
export interface ReportedLimits {
  /** requests per window */
  readonly limit?: number | undefined;
  readonly windowMs?: number | undefined;
  /** requests left in the window */
  readonly remaining?: number | undefined;
  /** until the window begins anew */
  readonly resetMs?: number | undefined;
  /** until another request is welcome (Retry-After) */
  readonly retryAfterMs?: number | undefined;
}

/**
 * Reads Retry-After, the RateLimit fields (draft) and the usual X-RateLimit forms. Moments are read against the
 * response's
 * own Date (RFC 9110, section 6.6.1), for the API's clock may be off from ours; `nowMs` stands in where it tells none.
 */
export function readLimits(headers: HeaderValues, nowMs: number): ReportedLimits {
  return {
    ...rateLimitFields(headers),
    ...countHeaders(headers, apiTime(headers, nowMs)),
    retryAfterMs: retryAfter(headers, nowMs),
  };
}

function apiTime({ date }: HeaderValues, nowMs: number): number {
  const reported = date === undefined ? Number.NaN : Date.parse(date);
  return Number.isNaN(reported) ? nowMs : reported;
}

/** RFC 9110, section 10.2.3: seconds, or an HTTP date. Undefined for anything else. */
export function retryAfter(headers: HeaderValues, nowMs: number): number | undefined {
  const text = headers["retry-after"];
  if (text === undefined) return undefined;
  if (/^\s*\d+(\.\d+)?\s*$/.test(text)) return Number(text) * 1000;
  const at = Date.parse(text);
  return Number.isNaN(at) ? undefined : Math.max(0, at - apiTime(headers, nowMs));
}

/** `RateLimit-Policy: "default";q=20;w=1` and `RateLimit: "default";r=5;t=1` (draft-ietf-httpapi-ratelimit-headers). */
function rateLimitFields(headers: HeaderValues): ReportedLimits {
  const policy = firstParameters(headers["ratelimit-policy"]);
  const now = firstParameters(headers.ratelimit);
  return {
    limit: policy?.q,
    windowMs: inMs(policy?.w),
    remaining: now?.r,
    resetMs: inMs(now?.t),
  };
}

function inMs(seconds: number | undefined): number | undefined {
  return seconds === undefined ? undefined : seconds * 1000;
}

function firstParameters(text: string | undefined): Record<string, number | undefined> | undefined {
  if (text === undefined) return undefined;
  try {
    // an older draft wrote a dictionary: limit=20, remaining=5, reset=1
    if (/^\s*[a-z]+=/.test(text)) {
      const members = [...parseDictionary(text)].map(([name, member]) => [name, member[0]] as const);
      const { limit, remaining, reset } = Object.fromEntries(numbersOf(members));
      return { q: limit, r: remaining, t: reset };
    }
    return Object.fromEntries(numbersOf(parseList(text)[0]?.[1] ?? []));
  } catch {
    return undefined;
  }
}

function numbersOf(entries: Iterable<readonly [string, unknown]>): [string, number][] {
  return [...entries].filter((entry): entry is [string, number] => typeof entry[1] === "number");
}

/** `RateLimit-Limit`, `X-RateLimit-Limit`, `X-Rate-Limit-Limit`, and the same with Remaining and Reset. */
function countHeaders(headers: HeaderValues, nowMs: number): ReportedLimits {
  const pick = (part: string) =>
    headers[`ratelimit-${part}`] ?? headers[`x-ratelimit-${part}`] ?? headers[`x-rate-limit-${part}`];
  const reported: { -readonly [K in keyof ReportedLimits]: ReportedLimits[K] } = {};
  const limit = pick("limit");
  if (limit !== undefined) {
    // "20" or "20, 20;w=1" or "20;w=1"
    const count = /^\s*(\d+)/.exec(limit);
    const window = /;\s*w=(\d+)/.exec(limit);
    if (count !== null) reported.limit = Number(count[1]);
    if (window !== null) reported.windowMs = Number(window[1]) * 1000;
  }
  const remaining = numberOf(pick("remaining"));
  if (remaining !== undefined) reported.remaining = remaining;
  const reset = pick("reset");
  if (reset !== undefined) reported.resetMs = resetMs(reset, nowMs);
  return reported;
}

/** A reset is seconds from now, an epoch in seconds or milliseconds, or a date: its size tells which. */
function resetMs(text: string, nowMs: number): number | undefined {
  const value = numberOf(text);
  if (value === undefined) {
    const at = Date.parse(text);
    return Number.isNaN(at) ? undefined : Math.max(0, at - nowMs);
  }
  if (value > 1e11) return Math.max(0, value - nowMs);
  if (value > 1e8) return Math.max(0, value * 1000 - nowMs);
  return value * 1000;
}

function numberOf(text: string | undefined): number | undefined {
  if (text === undefined) return undefined;
  try {
    const [value] = parseItem(text.trim());
    return typeof value === "number" ? value : undefined;
  } catch {
    return undefined;
  }
}
