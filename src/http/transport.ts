/** Bytes over HTTP: pooled connections, time-outs, decompression. One request, one answer, no policy. */

import { brotliDecompressSync, gunzipSync, inflateSync } from "node:zlib";
import { Agent } from "undici";
import { BridgeError, type ErrorCode } from "../core/errors.js";
import type { HeaderValues } from "../core/pace/limit-headers.js";

export interface HttpRequest {
  readonly method: "GET" | "POST";
  readonly url: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly body?: string | undefined;
  readonly signal?: AbortSignal | undefined;
}

export interface HttpResponse {
  readonly status: number;
  readonly headers: HeaderValues;
  readonly body: Uint8Array;
  readonly url: string;
}

/** Sends one request. Rejects with a BridgeError when no whole answer came. */
export type Send = (request: HttpRequest) => Promise<HttpResponse>;

export interface TransportOptions {
  readonly connectMs?: number | undefined;
  /** from the request sent to the answer's first header */
  readonly headersMs?: number | undefined;
  /** between two pieces of the body */
  readonly bodyMs?: number | undefined;
  /** connections per origin */
  readonly connections?: number | undefined;
  /** of a body as it is after decompression, in bytes */
  readonly maxBodyBytes?: number | undefined;
}

export const TRANSPORT_DEFAULTS = Object.freeze({
  connectMs: 10_000,
  headersMs: 60_000,
  bodyMs: 60_000,
  connections: 64,
  maxBodyBytes: 256 * 1024 * 1024,
});

export interface Transport {
  readonly send: Send;
  close(): Promise<void>;
}

export function openTransport(options: TransportOptions = {}): Transport {
  const {
    connectMs = TRANSPORT_DEFAULTS.connectMs,
    headersMs = TRANSPORT_DEFAULTS.headersMs,
    bodyMs = TRANSPORT_DEFAULTS.bodyMs,
    connections = TRANSPORT_DEFAULTS.connections,
    maxBodyBytes = TRANSPORT_DEFAULTS.maxBodyBytes,
  } = options;
  const agent = new Agent({
    connections,
    connect: { timeout: connectMs },
    headersTimeout: headersMs,
    bodyTimeout: bodyMs,
    pipelining: 1,
  });
  return { send: (request) => sendBy(agent, request, maxBodyBytes), close: () => agent.destroy() };
}

async function sendBy(agent: Agent, request: HttpRequest, maxBodyBytes: number): Promise<HttpResponse> {
  const url = new URL(request.url);
  try {
    const answer = await agent.request({
      origin: url.origin,
      path: url.pathname + url.search,
      method: request.method,
      headers: { "accept-encoding": "gzip, deflate, br", ...request.headers },
      body: request.body ?? null,
      signal: request.signal ?? null,
    });
    const headers = flatHeaders(answer.headers);
    const raw = await answer.body.bytes();
    const body = decompress(raw, headers["content-encoding"], maxBodyBytes);
    return { status: answer.statusCode, headers, body, url: request.url };
  } catch (error) {
    if (request.signal?.aborted) throw new BridgeError("STOPPED", "Stopped on request.", { cause: error });
    throw transportError(error, url);
  }
}

function flatHeaders(headers: Record<string, string | string[] | undefined>): HeaderValues {
  const flat: Record<string, string | undefined> = {};
  for (const [name, value] of Object.entries(headers))
    flat[name] = Array.isArray(value) ? value.join(", ") : value;
  return flat;
}

function decompress(raw: Uint8Array, encoding: string | undefined, maxBodyBytes: number): Uint8Array {
  const options = { maxOutputLength: maxBodyBytes };
  switch (encoding) {
    case "gzip":
    case "x-gzip":
      return gunzipSync(raw, options);
    case "deflate":
      return inflateSync(raw, options);
    case "br":
      return brotliDecompressSync(raw, options);
    default:
      if (raw.length <= maxBodyBytes) return raw;
      throw Object.assign(new Error("too large"), { code: "ERR_BUFFER_TOO_LARGE" });
  }
}

const CODES: Readonly<Record<string, ErrorCode>> = {
  ENOTFOUND: "HOST_UNKNOWN",
  EAI_AGAIN: "HOST_UNKNOWN",
  EAI_FAIL: "HOST_UNKNOWN",
  ECONNREFUSED: "CONNECTION_REFUSED",
  UND_ERR_CONNECT_TIMEOUT: "TIMED_OUT",
  UND_ERR_HEADERS_TIMEOUT: "TIMED_OUT",
  UND_ERR_BODY_TIMEOUT: "TIMED_OUT",
  ETIMEDOUT: "TIMED_OUT",
  UND_ERR_RES_CONTENT_LENGTH_MISMATCH: "BODY_TRUNCATED",
  Z_BUF_ERROR: "BODY_TRUNCATED",
  Z_DATA_ERROR: "BODY_TRUNCATED",
  ERR_BUFFER_TOO_LARGE: "BODY_TOO_LARGE",
};

function transportError(error: unknown, url: URL): BridgeError {
  const cause = firstCause(error);
  const code = CODES[cause.code ?? ""] ?? "CONNECTION_LOST";
  const words: Partial<Record<ErrorCode, string>> = {
    HOST_UNKNOWN: `No host is known by the name ${url.hostname}.`,
    CONNECTION_REFUSED: `${url.host} refused the connection.`,
    TIMED_OUT: `${url.host} did not answer in time (${cause.message}).`,
    BODY_TRUNCATED: `The answer of ${url.host} broke off (${cause.message}).`,
    BODY_TOO_LARGE: `The answer of ${url.host} is too large.`,
  };
  return new BridgeError(code, words[code] ?? `The connection to ${url.host} was lost (${cause.message}).`, {
    cause: error,
  });
}

/** Node gives one error for several addresses tried: the first tells as much as all. */
function firstCause(error: unknown): { code?: string; message: string } {
  if (error instanceof AggregateError && error.errors.length > 0) return firstCause(error.errors[0]);
  return error as { code?: string; message: string };
}
