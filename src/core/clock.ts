/** Time as an argument: policies and the engine are tested without waiting. */
export interface Clock {
  /** ms since 1970 */
  now(): number;
  /** Resolves after `ms`, or rejects with the signal's reason when it is aborted. */
  sleep(ms: number, signal?: AbortSignal): Promise<void>;
}
