/**
 * Packed bodies, known by their first bytes: gzip (RFC 1952), also of several members, and zip. What is unpacked is
 * checked against the sums and lengths that the file tells, and counted while it is unpacked.
 */

import { unzipSync } from "fflate";
import { Inflate } from "pako";
import { BridgeError, isBridgeError, type Where } from "../errors.js";

/** A response is not unpacked beyond this: bytes. */
export const MOST_UNPACKED = 256 * 1024 * 1024;

export function isGzip(bytes: Uint8Array): boolean {
  return bytes[0] === 0x1f && bytes[1] === 0x8b;
}

export function isZip(bytes: Uint8Array): boolean {
  return bytes[0] === 0x50 && bytes[1] === 0x4b && bytes[2] === 3 && bytes[3] === 4;
}

/**
 * The files in a body: one for gzip, each entry of a zip, or the bytes as they are.
 * @throws BridgeError BODY_TRUNCATED where it is damaged, BODY_TOO_LARGE
 */
export function unpack(bytes: Uint8Array, where: Where, mostBytes = MOST_UNPACKED): readonly Uint8Array[] {
  try {
    if (isGzip(bytes)) return [gunzip(bytes, where, mostBytes)];
    if (isZip(bytes)) return unzip(bytes, where, mostBytes);
  } catch (cause) {
    if (isBridgeError(cause)) throw cause;
    const message = `The packed response cannot be unpacked: ${(cause as Error).message}.`;
    throw new BridgeError("BODY_TRUNCATED", message, { where, cause });
  }
  return [bytes];
}

export function tooLarge(mostBytes: number, where: Where): BridgeError {
  const message = `The response holds more than ${Math.floor(mostBytes / 1e6)} MB when it is unpacked.`;
  return new BridgeError("BODY_TOO_LARGE", message, { where });
}

function gunzip(bytes: Uint8Array, where: Where, mostBytes: number): Uint8Array {
  const inflate = new Inflate({ windowBits: 31 });
  const chunks: Uint8Array[] = [];
  let size = 0;
  inflate.onData = (chunk) => {
    size += chunk.length;
    if (size > mostBytes) throw tooLarge(mostBytes, where);
    chunks.push(chunk as Uint8Array);
  };
  inflate.onEnd = () => {};
  if (!inflate.push(bytes, true) || inflate.err !== 0) throw new Error(inflate.msg || "it breaks off");
  const whole = new Uint8Array(size);
  let at = 0;
  for (const chunk of chunks) {
    whole.set(chunk, at);
    at += chunk.length;
  }
  return whole;
}

function unzip(bytes: Uint8Array, where: Where, mostBytes: number): Uint8Array[] {
  let size = 0;
  const files = unzipSync(bytes, {
    filter({ name, originalSize }) {
      size += originalSize;
      // the sizes that a directory tells are what is made room for
      if (size > mostBytes) throw tooLarge(mostBytes, where);
      return !name.endsWith("/");
    },
  });
  const sums = zipSums(bytes);
  for (const [name, file] of Object.entries(files)) {
    if (sums.get(name) !== undefined && sums.get(name) !== crc32(file))
      throw new Error(`the checksum of ${name} is wrong`);
  }
  return Object.values(files);
}

/** The checksums in a zip file's directory, by name (APPNOTE, sections 4.3.12 and 4.3.16). */
function zipSums(bytes: Uint8Array): Map<string, number> {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
  const sums = new Map<string, number>();
  let end = bytes.length - 22;
  while (end > 0 && view.getUint32(end, true) !== 0x06054b50) end--;
  let at = view.getUint32(end + 16, true);
  while (at + 46 <= bytes.length && view.getUint32(at, true) === 0x02014b50) {
    const length = view.getUint16(at + 28, true);
    const name = new TextDecoder().decode(bytes.subarray(at + 46, at + 46 + length));
    sums.set(name, view.getUint32(at + 16, true));
    at += 46 + length + view.getUint16(at + 30, true) + view.getUint16(at + 32, true);
  }
  return sums;
}

const CRC_TABLE = Uint32Array.from({ length: 256 }, (_, n) => {
  let sum = n;
  for (let bit = 0; bit < 8; bit++) sum = sum & 1 ? 0xedb88320 ^ (sum >>> 1) : sum >>> 1;
  return sum;
});

/** CRC-32 of ISO 3309, as gzip and zip use it. */
function crc32(bytes: Uint8Array): number {
  let sum = 0xffffffff;
  for (let i = 0; i < bytes.length; i++) sum = CRC_TABLE[(sum ^ bytes[i]!) & 255]! ^ (sum >>> 8);
  return (sum ^ 0xffffffff) >>> 0;
}
