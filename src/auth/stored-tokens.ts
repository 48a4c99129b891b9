/**
 * Access tokens from a refresh token that is kept (RFC 6749, section 6).
 *
 * Servers may rotate: each refresh gives a new refresh token, and the old one is worth nothing from then on. So a
 * refresh is made under a lock, by one process for all; the new token is stored before anybody uses it; and that a
 * refresh is under way is noted before it is sent. A crash between the server's answer and our storing it cannot be
 * undone by this protocol: then the note explains why the old token is refused.
 */

import { sha256 } from "@noble/hashes/sha2.js";
import { bytesToHex } from "@noble/hashes/utils.js";
import type { Account } from "../core/define/connector.js";
import type { ClientScheme } from "../core/define/sign-in-schema.js";
import { BridgeError, isBridgeError } from "../core/errors.js";
import { fillText } from "../core/language/template.js";
import type { Redactor } from "../core/redact.js";
import { tokenEndpoint } from "./oauth-server.js";
import { type FetchToken, renewAheadMs } from "./token-keeper.js";
import { requestToken, type TokenPorts, type TokenSet } from "./token-request.js";
import type { StoredTokens, TokenStore } from "./token-store.js";

export interface StorePorts extends TokenPorts {
  readonly store: TokenStore;
}

/** The key of an account's tokens: another client or address has other tokens. */
export function tokenKey(account: Account, clientId: string): string {
  return `${account.name} ${new URL(account.baseUrl).origin} ${clientId}`;
}

/** What a token endpoint gave, as it is kept. */
export function tokensToStore(
  tokens: TokenSet,
  before: StoredTokens | undefined,
  nowMs: number,
): StoredTokens {
  return {
    ...before,
    refreshToken: tokens.refreshToken ?? before?.refreshToken,
    accessToken: tokens.accessToken,
    lifeMs: tokens.lifeMs,
    endsAtMs: tokens.lifeMs === undefined ? undefined : nowMs + tokens.lifeMs,
    scope: tokens.scope ?? before?.scope,
    savedAtMs: nowMs,
    refreshingSinceMs: undefined,
  };
}

/** Fetches access tokens by the kept refresh token, or by the one that is supplied by hand. */
export function storedTokens(
  scheme: ClientScheme,
  account: Account,
  redactor: Redactor,
  ports: StorePorts,
): FetchToken {
  const endpoint = tokenEndpoint(scheme, account, redactor, ports);
  const key = tokenKey(account, endpoint.client.clientId);
  const supplied =
    scheme.oauth2 === "refresh_token"
      ? fillText(scheme.refresh_token, account.values, { account: account.name })
      : undefined;
  if (supplied !== undefined) redactor.add(supplied);
  return (signal, refused) =>
    ports.store.locked(key, async () => {
      const { store, clock } = ports;
      const stored = withSupplied(await store.read(key), supplied, clock.now());
      if (
        stored?.accessToken !== undefined &&
        stored.accessToken !== refused &&
        !endsSoon(stored, clock.now())
      ) {
        redactor.add(stored.accessToken);
        return { value: stored.accessToken, lifeMs: stored.lifeMs, endsAtMs: stored.endsAtMs };
      }
      if (stored?.refreshToken === undefined) throw loginNeeded(account.name);
      redactor.add(stored.refreshToken);
      const parts = await endpoint.parts();
      await store.write(key, { ...stored, refreshingSinceMs: clock.now() });
      const tokens = await refresh(parts, stored, scheme, account, signal).catch(async (error: unknown) => {
        // refused means answered: nothing is lost on the way, and the note would mislead
        if (isBridgeError(error, "SIGN_IN_REFUSED")) await store.write(key, stored);
        throw error;
      });
      const kept = tokensToStore(tokens, stored, clock.now());
      await store.write(key, kept);
      return { value: tokens.accessToken, lifeMs: kept.lifeMs, endsAtMs: kept.endsAtMs };
    });
}

async function refresh(
  parts: Parameters<typeof requestToken>[0],
  stored: StoredTokens,
  scheme: ClientScheme,
  account: Account,
  signal: AbortSignal | undefined,
): Promise<TokenSet> {
  try {
    return await requestToken(
      parts,
      "refresh_token",
      { refresh_token: stored.refreshToken, scope: scheme.scope },
      signal,
    );
  } catch (error) {
    if (!isBridgeError(error, "SIGN_IN_REFUSED") || stored.refreshingSinceMs === undefined) throw error;
    const at = new Date(stored.refreshingSinceMs).toISOString();
    throw new BridgeError(error.code, error.message, {
      where: error.where,
      hint: `A refresh at ${at} was broken off before its response could be kept: a rotated token was lost with it. Sign in anew: early-bridge login ${account.name}.`,
      cause: error,
    });
  }
}

/** A refresh token supplied by hand begins a new life: it replaces what is kept of another one. */
function withSupplied(
  stored: StoredTokens | undefined,
  supplied: string | undefined,
  nowMs: number,
): StoredTokens | undefined {
  if (supplied === undefined) return stored;
  const suppliedHash = bytesToHex(sha256(new TextEncoder().encode(supplied)));
  if (stored?.suppliedHash === suppliedHash) return stored;
  return { refreshToken: supplied, suppliedHash, savedAtMs: nowMs };
}

function endsSoon({ endsAtMs, lifeMs }: StoredTokens, nowMs: number): boolean {
  return endsAtMs !== undefined && nowMs >= endsAtMs - renewAheadMs(lifeMs);
}

export function loginNeeded(account: string): BridgeError {
  return new BridgeError("LOGIN_NEEDED", `Nobody has signed in for account ${account} on this machine yet.`, {
    where: { account },
    hint: `Run: early-bridge login ${account}`,
  });
}
