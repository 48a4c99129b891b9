/** The engine's ports on Node. */

import { createHmac, hash } from "node:crypto";
import { lookup } from "node:dns/promises";
import { setMaxListeners } from "node:events";
import { readFile } from "node:fs/promises";
import { fileTokenStore } from "../auth/file-token-store.js";
import { unpackFile } from "../http/content-coding.js";
import { nodeClock } from "../http/node-clock.js";
import { isPrivateHost } from "../http/private-network.js";
import { openTransport, proxyFromEnvironment } from "../http/transport.js";
import type { Ports } from "../run/ports.js";
import { fileKeep } from "./file-keep.js";

/** Files are from the working folder; refresh tokens in the user's config folder. */
export function nodePorts(): Ports {
  return {
    clock: nodeClock,
    random: Math.random,
    openTransport,
    tokens: fileTokenStore(),
    keep: fileKeep(),
    readFile: (path) => readFile(path),
    readSecretFile: (path) => readFile(path, "utf8"),
    unpackFile,
    hashes: {
      sha256: (text) => hash("sha256", text, "hex"),
      hmac: (secret) => (text) => createHmac("sha256", secret).update(text).digest("hex"),
    },
    readsPlainly: process.env.EARLY_BRIDGE_READER === "plain",
    network: {
      addressOf: async (host) => (await lookup(host)).address,
      isPrivate: isPrivateHost,
      isProxied: proxyFromEnvironment,
    },
    expectListeners: (...signals) => setMaxListeners(0, ...signals),
  };
}
