/** What is sent and what comes back, whoever carries it. */

import type { Decoder } from "../core/decode/choose-decoder.js";
import type { RowPiece } from "../core/decode/cut-rows.js";
import type { Where } from "../core/errors.js";
import type { HeaderValues } from "../core/pace/limit-headers.js";

/** A request as it is sent, signed. */
export interface HttpRequest {
  readonly method: "GET" | "POST";
  readonly url: string;
  readonly headers: Readonly<Record<string, string>>;
  readonly body?: string | undefined;
  readonly signal?: AbortSignal | undefined;
  /** a longer body is kept aside instead of in memory; in bytes. Default: none does */
  readonly spoolAbove?: number | undefined;
}

/** Some whole rows of a long body. */
export interface SpoolPiece extends RowPiece {
  readonly decoder: Decoder;
}

/** A long body, kept aside until its records are read. */
export interface Spool {
  /** bytes */
  readonly size: number;
  /**
   * The body in pieces, each to be read like a body of its own; it is gone at their end.
   * @throws BridgeError BODY_TRUNCATED, BODY_UNREADABLE, BODY_TOO_LARGE
   */
  pieces(decoder: Decoder, where: Where): AsyncIterable<SpoolPiece>;
  close(): Promise<void>;
}

/** A response; its body is whole, or kept aside. */
export interface HttpResponse {
  readonly status: number;
  readonly headers: HeaderValues;
  /** empty where the body is kept aside */
  readonly body: Uint8Array;
  readonly spool?: Spool | undefined;
  readonly url: string;
}

/** Sends one request. Rejects with a BridgeError when no whole response came. */
export type Send = (request: HttpRequest) => Promise<HttpResponse>;

/** How requests travel: time-outs, limits, proxy, certificates. Defaults: TRANSPORT_DEFAULTS. */
export interface TransportOptions {
  readonly connectMs?: number | undefined;
  /** from the request sent to the response's first header */
  readonly headersMs?: number | undefined;
  /** between two pieces of the body */
  readonly bodyMs?: number | undefined;
  /** a body that trickles is given up after so long; in ms */
  readonly slowAfterMs?: number | undefined;
  /** connections per origin */
  readonly connections?: number | undefined;
  /** of a body as it is after decompression, in bytes */
  readonly maxBodyBytes?: number | undefined;
  /** address of a proxy; default: HTTPS_PROXY, HTTP_PROXY and NO_PROXY of the environment */
  readonly proxy?: string | undefined;
  /** certificates in PEM, beside or instead of the system's: a custom authority, and our own for mutual TLS */
  readonly tls?:
    | {
        readonly ca?: string | undefined;
        readonly cert?: string | undefined;
        readonly key?: string | undefined;
      }
    | undefined;
}

/** Carries requests until it is closed. */
export interface Transport {
  readonly send: Send;
  close(): Promise<void>;
}
