/** Tokens in a warehouse's ledger: for servers that have no disk of their own, or several of them. */

import { BridgeError } from "../core/errors.js";
import { Seal } from "./sealed.js";
import { locksByKey, type StoredTokens, type TokenStore } from "./token-store.js";

/** Where sealed texts are kept by key; a warehouse's ledger is one. */
export interface SealedTokenTable {
  readonly title: string;
  read(key: string): Promise<string | undefined>;
  write(key: string, sealed: string): Promise<void>;
  remove(key: string): Promise<void>;
}

/**
 * A token store over a table of sealed tokens. The key must be given: one that lay beside the tokens would
 * protect nothing there.
 * @throws BridgeError SECRET_MISSING where there is no key
 */
export function warehouseTokenStore(table: SealedTokenTable, keyText: string | undefined): TokenStore {
  if (keyText === undefined || keyText === "") {
    throw new BridgeError(
      "SECRET_MISSING",
      "Tokens in a warehouse are sealed by EARLY_BRIDGE_KEY, which is not set.",
      {
        hint: "Set EARLY_BRIDGE_KEY to a long random text, the same on every machine that shares the account.",
      },
    );
  }
  const seal = new Seal(keyText);
  return {
    title: table.title,
    async read(name) {
      const sealed = await table.read(name);
      return sealed === undefined ? undefined : openTokens(sealed, seal, name, table.title);
    },
    write: (name, tokens) => table.write(name, seal.close(JSON.stringify(tokens), name)),
    remove: (name) => table.remove(name),
    locked: locksByKey(),
  };
}

/** What was sealed; `place` says where, for messages. */
export function openTokens(sealed: string, seal: Seal, name: string, place: string): StoredTokens {
  try {
    return JSON.parse(seal.open(sealed, name)) as StoredTokens;
  } catch (cause) {
    throw new BridgeError(
      "TOKEN_STORE_FAILED",
      "The kept token cannot be read: another key sealed it, or it is damaged.",
      {
        where: { file: place },
        hint: "Set EARLY_BRIDGE_KEY as it was, or sign in anew: early-bridge login.",
        cause,
      },
    );
  }
}
