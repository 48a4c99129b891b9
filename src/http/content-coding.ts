/** Content codings (RFC 9110, section 8.4.1): how a body was packed for its way, and how it is unpacked. */

import { pipeline, type Readable, type Transform } from "node:stream";
import {
  brotliDecompressSync,
  createBrotliDecompress,
  createGunzip,
  createInflate,
  gunzipSync,
  inflateSync,
} from "node:zlib";

import { isGzip, MOST_UNPACKED, tooLarge } from "../core/decode/unpack.js";
import { BridgeError } from "../core/errors.js";

interface Coding {
  whole(body: Uint8Array, options: { readonly maxOutputLength: number }): Uint8Array;
  stream(): Transform;
}

const GZIP: Coding = { whole: gunzipSync, stream: createGunzip };
const CODINGS: Readonly<Record<string, Coding>> = {
  gzip: GZIP,
  "x-gzip": GZIP,
  deflate: { whole: inflateSync, stream: createInflate },
  br: { whole: brotliDecompressSync, stream: createBrotliDecompress },
};

/** What is asked for. */
export const ACCEPT_ENCODING = "gzip, deflate, br";

/** The codings of a header, the last one put on first: it comes off first. Unknown ones are left on. */
function codingsOf(header: string | undefined): Coding[] {
  const names = (header ?? "").split(",").map((name) => name.trim().toLowerCase());
  return names.flatMap((name) => CODINGS[name] ?? []).reverse();
}

/** @throws Error of zlib; with the code ERR_BUFFER_TOO_LARGE where the body is longer than `maxBytes` */
export function unpack(raw: Uint8Array, header: string | undefined, maxBytes: number): Uint8Array {
  const options = { maxOutputLength: maxBytes };
  const body = codingsOf(header).reduce((packed, coding) => coding.whole(packed, options), raw);
  if (body.length <= maxBytes) return body;
  throw Object.assign(new Error("too large"), { code: "ERR_BUFFER_TOO_LARGE" });
}

/**
 * A file that is packed by gzip, unpacked by Node's zlib: all members, with their sums and lengths; others as they are.
 * @throws BridgeError BODY_TRUNCATED, BODY_TOO_LARGE
 */
export function unpackFile(body: Uint8Array): Uint8Array {
  if (!isGzip(body)) return body;
  try {
    return gunzipSync(body, { maxOutputLength: MOST_UNPACKED });
  } catch (cause) {
    const { code, message } = cause as { code?: string; message: string };
    if (code === "ERR_BUFFER_TOO_LARGE") throw tooLarge(MOST_UNPACKED, {});
    throw new BridgeError("BODY_TRUNCATED", `The packed response cannot be unpacked: ${message}.`, { cause });
  }
}

/** `unpack` for a body that is still coming; errors of its source end the stream that is given back. */
export function unpackStream(source: Readable, header: string | undefined): Readable {
  return codingsOf(header).reduce<Readable>(
    (packed, coding) => pipeline(packed, coding.stream(), () => {}),
    source,
  );
}
