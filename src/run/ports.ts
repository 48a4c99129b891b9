/**
 * What the engine needs of the machine that it runs on. `src/node` fills it in for Node; the engine itself names no
 * file, no socket and no clock.
 */

import type { TokenStore } from "../auth/token-store.js";
import type { Clock } from "../core/clock.js";
import type { Hashes } from "../core/shape/hashes.js";
import type { Transport, TransportOptions } from "../http/send.js";

/** A machine, as the engine sees it. */
export interface Ports {
  readonly clock: Clock;
  /** a number from 0 to below 1 */
  random(): number;
  /** carries requests; a long body is kept aside where the request permits it */
  openTransport(options: TransportOptions | undefined): Transport;
  /** where refresh tokens are kept */
  readonly tokens: TokenStore;
  /** what can be asked for again; without it, it is */
  readonly keep?: Keep | undefined;
  /** a file of values for a fan-out */
  readFile(path: string): Promise<Uint8Array>;
  /** a file that holds a secret */
  readSecretFile(path: string): Promise<string>;
  /** a body that is a gzip file, unpacked; others as they are. @throws BridgeError BODY_TRUNCATED, BODY_TOO_LARGE */
  unpackFile(body: Uint8Array): Uint8Array;
  /** default: they are worked out in JavaScript */
  readonly hashes?: Hashes | undefined;
  /** the express reader is off: for doubt, and for finding faults */
  readonly readsPlainly?: boolean | undefined;
  readonly network: Network;
  /** says that as many listeners as there are requests will wait for these signals */
  expectListeners(...signals: readonly AbortSignal[]): void;
}

/** Values by name, kept from one process to the next; none of them is promised to be there. */
export interface Keep {
  read(key: string): Promise<unknown>;
  /** Takes what structured cloning takes; never rejects. */
  write(key: string, value: unknown): Promise<void>;
}

/** What is known of names and ways. */
export interface Network {
  /** an address of the host. Rejects where its name is not known */
  addressOf(host: string): Promise<string>;
  /** whether one of the host's addresses is in a private network */
  isPrivate(host: string): Promise<boolean>;
  /** whether requests go by a proxy: it may know names that we do not */
  isProxied(): boolean;
}

/** The host's name in an address, as resolvers take it: RFC 3986 puts brackets around IPv6. */
export function hostOf(url: string): string {
  return new URL(url).hostname.replace(/^\[|\]$/g, "");
}
