/** Content codings (RFC 9110, section 8.4.1): how a body was packed for its way, and how it is unpacked. */

import { pipeline, Readable, type Transform } from "node:stream";
import { createBrotliDecompress, createGunzip, createInflate, gunzipSync } from "node:zlib";

import { isGzip, MOST_UNPACKED, tooLarge } from "../core/decode/unpack.js";
import { BridgeError } from "../core/errors.js";

/** Its work is done on a thread of Node's. Larger pieces than its own are faster. */
type Coding = () => Transform;

const OPTIONS = { chunkSize: 256 * 1024 };
const GZIP: Coding = () => createGunzip(OPTIONS);
const CODINGS: Readonly<Record<string, Coding>> = {
  gzip: GZIP,
  "x-gzip": GZIP,
  deflate: () => createInflate(OPTIONS),
  br: () => createBrotliDecompress(OPTIONS),
};

/** What is asked for. */
export const ACCEPT_ENCODING = "gzip, deflate, br";

/** The codings of a header, the last one put on first: it comes off first. Unknown ones are left on. */
function codingsOf(header: string | undefined): Coding[] {
  const names = (header ?? "").split(",").map((name) => name.trim().toLowerCase());
  return names.flatMap((name) => CODINGS[name] ?? []).reverse();
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

/** A body without its codings, unpacked while it comes; errors of its source end what is given back. */
export function unpacked(
  source: AsyncIterable<Uint8Array>,
  header: string | undefined,
): AsyncIterable<Uint8Array> {
  const codings = codingsOf(header);
  if (codings.length === 0) return source;
  return codings.reduce<Readable>(
    (packed, coding) => pipeline(packed, coding(), () => {}),
    Readable.from(source),
  );
}
