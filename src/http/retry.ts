/** The one retry loop: tries, backs off, and gives up with a clear word. */

import type { Clock } from "../core/clock.js";
import { BridgeError, isBridgeError } from "../core/errors.js";
import { backOffMs, RETRY_DEFAULTS, type RetryPolicy } from "../core/pace/retry-policy.js";

export interface RetryParts {
  readonly clock: Clock;
  readonly random: () => number;
  readonly retry?: Partial<RetryPolicy> | undefined;
}

/** Requests and retries of a run. */
export interface RunBudget {
  requests: number;
  retries: number;
}

export interface RetryHooks {
  readonly signal?: AbortSignal | undefined;
  /** waits; default: on the clock */
  readonly sleep?: ((ms: number) => Promise<void>) | undefined;
  /** whether a failure mostly means a wrong address: it is tried a few times only */
  readonly isDoubtful: (error: BridgeError) => boolean;
  /** what the whole run has used so far */
  readonly budget?: RunBudget | undefined;
  readonly onRetry?: ((waitMs: number, error: BridgeError, tries: number) => void) | undefined;
}

/** Runs `attempt` until it succeeds or its failure is not worth another try. */
export async function withRetries<T>(
  attempt: () => Promise<T>,
  parts: RetryParts,
  hooks: RetryHooks,
): Promise<T> {
  const policy = { ...RETRY_DEFAULTS, ...parts.retry };
  let waitedMs = 0;
  for (let tries = 1; ; tries++) {
    hooks.signal?.throwIfAborted();
    try {
      return await attempt();
    } catch (error) {
      if (!isBridgeError(error)) throw error;
      const { retryable, retryAfterMs } = error;
      const failed = { tries, waitedMs, retryable, doubtful: hooks.isDoubtful(error), retryAfterMs };
      const wait = backOffMs(failed, policy, parts.random);
      if (wait === undefined) throw afterTries(error, tries);
      if (hooks.budget !== undefined) spend(hooks.budget, policy, error);
      hooks.onRetry?.(wait, error, tries);
      waitedMs += wait;
      await (hooks.sleep?.(wait) ?? parts.clock.sleep(wait, hooks.signal));
    }
  }
}

/** Counts a retry of the run. @throws BridgeError RETRIES_EXHAUSTED */
function spend(budget: RunBudget, { perRun, share }: RetryPolicy, error: BridgeError): void {
  budget.retries++;
  if (budget.retries <= perRun + share * budget.requests) return;
  const message = `The run has tried again ${budget.retries} times in ${budget.requests} requests, and gives up. The last failure: ${error.message}`;
  throw new BridgeError("RETRIES_EXHAUSTED", message, { where: error.where, cause: error, triedOut: true });
}

function afterTries(error: BridgeError, tries: number): BridgeError {
  if (tries === 1 || error.kind === "stopped") return error;
  return new BridgeError(error.code, `${error.message.replace(/\.$/, "")} (tried ${tries} times).`, {
    where: error.where,
    hint: error.hint,
    cause: error.cause,
    retryAfterMs: error.retryAfterMs,
    triedOut: true,
  });
}
