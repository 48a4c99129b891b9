/** Hashes of texts, in JavaScript where the machine has none that are faster. */

import { hmac } from "@noble/hashes/hmac.js";
import { sha256 } from "@noble/hashes/sha2.js";
import { bytesToHex, utf8ToBytes } from "@noble/hashes/utils.js";

/** SHA-256 (FIPS 180-4), and HMAC with it (RFC 2104), as 64 hexadecimal digits. */
export interface Hashes {
  /** of bytes, or of a text in UTF-8 */
  sha256(text: string | Uint8Array): string;
  /** of texts under a secret */
  hmac(secret: string): (text: string) => string;
}

export const JAVASCRIPT_HASHES: Hashes = {
  sha256: (text) => bytesToHex(sha256(typeof text === "string" ? utf8ToBytes(text) : text)),
  hmac: (secret) => {
    // what is the same for all values is worked out once
    const keyed = hmac.create(sha256, utf8ToBytes(secret));
    return (text) => bytesToHex(keyed.clone().update(utf8ToBytes(text)).digest());
  },
};
