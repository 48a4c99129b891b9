/** When a failed request is tried again, and after how long. Pure: randomness is passed in. */

export interface RetryPolicy {
  /** tries in all, the first one counted */
  readonly tries: number;
  /** the first back-off, in ms; it doubles with each try */
  readonly baseMs: number;
  /** the longest back-off, in ms */
  readonly capMs: number;
  /** backing off in all for one request, in ms; a longer Retry-After ends the run with a clear word */
  readonly budgetMs: number;
  /** retries of a run: so many, and this share of its requests */
  readonly perRun: number;
  readonly share: number;
  /** tries for failures that mostly mean a wrong address: unknown host, refused connection, a web page */
  readonly doubtfulTries: number;
}

/** How often and how long is tried again, where nothing else is said. */
export const RETRY_DEFAULTS: RetryPolicy = Object.freeze({
  tries: 8,
  baseMs: 250,
  capMs: 30_000,
  budgetMs: 300_000,
  perRun: 1000,
  share: 0.3,
  doubtfulTries: 3,
});

/** What is known of a failure when it is decided whether to go on. */
export interface FailedTry {
  /** 1 for the first */
  readonly tries: number;
  readonly waitedMs: number;
  readonly retryable: boolean;
  /** whether it mostly means a wrong address rather than a passing fault */
  readonly doubtful: boolean;
  readonly retryAfterMs: number | undefined;
}

/**
 * Milliseconds to wait before the next try; undefined: give up. Full jitter: a random share of an exponentially
 * growing back-off. A Retry-After is obeyed in full, plus a small random share so that not all come at once.
 */
export function backOffMs(failed: FailedTry, policy: RetryPolicy, random: () => number): number | undefined {
  const tries = failed.doubtful ? Math.min(policy.tries, policy.doubtfulTries) : policy.tries;
  if (!failed.retryable || failed.tries >= tries) return undefined;
  const ceiling = Math.min(policy.capMs, policy.baseMs * 2 ** (failed.tries - 1));
  const jitter = random() * ceiling;
  const wait = failed.retryAfterMs === undefined ? jitter : failed.retryAfterMs + Math.min(jitter, 250);
  return failed.waitedMs + wait > policy.budgetMs ? undefined : wait;
}

/** Whether a status is worth another try of a request that is safe to repeat (RFC 9110, section 15). */
export function isPassingStatus(status: number): boolean {
  return (
    status === 408 || status === 425 || status === 429 || (status >= 500 && status !== 501 && status !== 505)
  );
}
