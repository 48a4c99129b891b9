/** Texts sealed by AES-256-GCM under a name: read only with the key, not changed or moved to another name unseen. */

import { createCipheriv, createDecipheriv, randomBytes, scryptSync } from "node:crypto";

const FORMAT = 2;

/** Seals by one secret: a passphrase of any length. What scrypt makes of it (RFC 7914) is kept for each salt. */
export class Seal {
  private readonly keys = new Map<string, Buffer>();
  private readonly salt = randomBytes(16).toString("base64");

  constructor(private readonly secret: string) {}

  close(text: string, name: string): string {
    const iv = randomBytes(12);
    const cipher = createCipheriv("aes-256-gcm", this.key(this.salt), iv).setAAD(Buffer.from(name));
    const data = Buffer.concat([cipher.update(text, "utf8"), cipher.final()]);
    const base64 = (bytes: Buffer) => bytes.toString("base64");
    const sealed = { iv: base64(iv), tag: base64(cipher.getAuthTag()), data: base64(data) };
    return JSON.stringify({ format: FORMAT, salt: this.salt, ...sealed });
  }

  /** Throws where another key sealed the text, it was sealed under another name, or it was damaged. */
  open(sealed: string, name: string): string {
    const parts = JSON.parse(sealed) as { salt: string; iv: string; tag: string; data: string };
    const bytes = (text: string) => Buffer.from(text, "base64");
    const decipher = createDecipheriv("aes-256-gcm", this.key(parts.salt), bytes(parts.iv));
    decipher.setAAD(Buffer.from(name)).setAuthTag(bytes(parts.tag));
    return Buffer.concat([decipher.update(bytes(parts.data)), decipher.final()]).toString("utf8");
  }

  private key(salt: string): Buffer {
    const known = this.keys.get(salt);
    if (known !== undefined) return known;
    const made = scryptSync(this.secret, Buffer.from(salt, "base64"), 32);
    this.keys.set(salt, made);
    return made;
  }
}
