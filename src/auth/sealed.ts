/** Texts sealed by AES-256-GCM: what is kept can be read only with the key, and not be changed unseen. */

import { createCipheriv, createDecipheriv, createHash, randomBytes } from "node:crypto";

/** A key of 256 bits from any text. */
export function cipherKey(text: string): Buffer {
  return createHash("sha256").update(text).digest();
}

export function sealText(text: string, key: Buffer): string {
  const iv = randomBytes(12);
  const cipher = createCipheriv("aes-256-gcm", key, iv);
  const data = Buffer.concat([cipher.update(text, "utf8"), cipher.final()]);
  const base64 = (bytes: Buffer) => bytes.toString("base64");
  return JSON.stringify({ format: 1, iv: base64(iv), tag: base64(cipher.getAuthTag()), data: base64(data) });
}

/** Throws where another key sealed the text, or it was damaged. */
export function openSealed(sealed: string, key: Buffer): string {
  const parts = JSON.parse(sealed) as { iv: string; tag: string; data: string };
  const decipher = createDecipheriv("aes-256-gcm", key, Buffer.from(parts.iv, "base64"));
  decipher.setAuthTag(Buffer.from(parts.tag, "base64"));
  return Buffer.concat([decipher.update(Buffer.from(parts.data, "base64")), decipher.final()]).toString(
    "utf8",
  );
}
