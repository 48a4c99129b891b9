/** Where tokens that must live are kept: refresh tokens, and the access tokens that came with them. */

/** What is kept for one account. Times are ms since 1970. */
export interface StoredTokens {
  readonly refreshToken?: string | undefined;
  readonly accessToken?: string | undefined;
  readonly lifeMs?: number | undefined;
  readonly endsAtMs?: number | undefined;
  readonly scope?: string | undefined;
  /** who signed in, as the server says it */
  readonly subject?: string | undefined;
  readonly savedAtMs: number;
  /** hash of the refresh token that was supplied by hand: another one there replaces what is kept */
  readonly suppliedHash?: string | undefined;
  /** a refresh was sent and its response not kept yet: a crash there may have lost a rotated token */
  readonly refreshingSinceMs?: number | undefined;
}

/** A store of tokens by key. Everything it resolves is durable. */
export interface TokenStore {
  /** how messages name it */
  readonly title: string;
  read(key: string): Promise<StoredTokens | undefined>;
  write(key: string, tokens: StoredTokens): Promise<void>;
  remove(key: string): Promise<void>;
  /** Runs the work while no other process or caller does any for the same key. */
  locked<T>(key: string, work: () => Promise<T>): Promise<T>;
}

/** Locks within this process: work for the same key is done one after the other. */
export function locksByKey(): TokenStore["locked"] {
  const turns = new Map<string, Promise<unknown>>();
  return (key, work) => {
    const turn = (turns.get(key) ?? Promise.resolve()).then(work, work);
    turns.set(
      key,
      turn.catch(() => {}),
    );
    return turn;
  };
}

/** A store that lives as long as the process: for tests, and where nothing may be written. */
export function memoryTokenStore(): TokenStore {
  const kept = new Map<string, StoredTokens>();
  return {
    title: "memory",
    read: async (key) => kept.get(key),
    write: async (key, tokens) => void kept.set(key, tokens),
    remove: async (key) => void kept.delete(key),
    locked: locksByKey(),
  };
}
