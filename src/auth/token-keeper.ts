/** One account's access token: fetched once however many wait for it, renewed ahead of its end. */

import type { Clock } from "../core/clock.js";

export interface AccessToken {
  readonly value: string;
  /** ms since 1970; undefined where the server does not say */
  readonly endsAtMs: number | undefined;
  /** how long it lives in all, in ms */
  readonly lifeMs: number | undefined;
  /** scopes that were granted, where the server says so */
  readonly scope?: string | undefined;
}

/** Fetches an access token anew; `refused` is one that the API did not take. */
export type FetchToken = (signal: AbortSignal | undefined, refused?: string) => Promise<AccessToken>;

/** A token is renewed this long before its end, or a tenth of its life where that is shorter. */
const AHEAD_MS = 30_000;

/** How long before its end a token is renewed, in ms. */
export function renewAheadMs(lifeMs: number | undefined): number {
  return Math.min(AHEAD_MS, (lifeMs ?? AHEAD_MS) / 10);
}

export class TokenKeeper {
  private refusedValue: string | undefined;
  private current: AccessToken | undefined;
  private fetching: Promise<AccessToken> | undefined;

  constructor(
    private readonly fetchToken: FetchToken,
    private readonly clock: Clock,
  ) {}

  /** A token that is good for at least the next moments. */
  async token(signal: AbortSignal | undefined): Promise<string> {
    const { current } = this;
    if (current !== undefined && !this.endsSoon(current)) return current.value;
    // no signal of one caller goes into the fetch that all wait for
    this.fetching ??= this.fetchToken(undefined, this.refusedValue).finally(() => {
      this.fetching = undefined;
    });
    this.current = await abortable(this.fetching, signal);
    return this.current.value;
  }

  /** The API refused this token: the next call fetches a new one, unless another has come meanwhile. */
  refused(value: string): void {
    if (this.current?.value !== value) return;
    this.current = undefined;
    this.refusedValue = value;
  }

  /** The scopes of the token that is in use now. */
  get scope(): string | undefined {
    return this.current?.scope;
  }

  /** The token that is in use now, if there is one. */
  get inUse(): string | undefined {
    return this.current?.value;
  }

  private endsSoon(token: AccessToken): boolean {
    if (token.endsAtMs === undefined) return false;
    return this.clock.now() >= token.endsAtMs - renewAheadMs(token.lifeMs);
  }
}

function abortable<T>(promise: Promise<T>, signal: AbortSignal | undefined): Promise<T> {
  if (signal === undefined) return promise;
  signal.throwIfAborted();
  return new Promise((resolve, reject) => {
    const stop = () => reject(signal.reason);
    signal.addEventListener("abort", stop, { once: true });
    promise.then(resolve, reject).finally(() => signal.removeEventListener("abort", stop));
  });
}
