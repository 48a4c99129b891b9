/** `connect(connector, account)`: an API that signs in, paces and retries, and gives pages and records. */

import type { TokenStore } from "../auth/token-store.js";
import type { Clock } from "../core/clock.js";
import type { SettingsOf, StreamsOf } from "../core/define/connector.js";
import type { Connector } from "../core/define/connector-schema.js";
import type { Api } from "../run/api.js";
import { connectWith, type WithOptions } from "../run/connect-with.js";
import type { Ports } from "../run/ports.js";
import { nodePorts } from "./ports.js";

/** What may be said of a connection on Node. */
export interface ConnectOptions extends WithOptions {
  /** where refresh tokens are kept; default: files in the user's config folder */
  readonly tokens?: TokenStore | undefined;
  /** reads a file that holds a secret; default: from the working folder */
  readonly readSecretFile?: Ports["readSecretFile"] | undefined;
  /** reads a file of values for a fan-out; default: from the working folder */
  readonly readFile?: Ports["readFile"] | undefined;
  /** default: the machine's time */
  readonly clock?: Clock | undefined;
  /** numbers from 0 to below 1; default Math.random */
  readonly random?: (() => number) | undefined;
}

/** What a connector is given: its settings may be left out where none of them has to be told. */
type ConnectArguments<C extends Connector> =
  Readonly<Record<never, never>> extends SettingsOf<C>
    ? [settings?: SettingsOf<C>, options?: ConnectOptions]
    : [settings: SettingsOf<C>, options?: ConnectOptions];

/**
 * Opens an API for one account. Nothing is sent before the first page is asked for.
 * @throws BridgeError CONFIG_INVALID, CONFIG_UNKNOWN_NAME, URL_INVALID, URL_INSECURE
 */
export function connect<C extends Connector>(
  connector: C,
  ...[settings, options = {}]: ConnectArguments<C>
): Api<StreamsOf<C>> {
  const ports = nodePorts();
  const {
    tokens = ports.tokens,
    readSecretFile = ports.readSecretFile,
    readFile = ports.readFile,
    clock = ports.clock,
    random = ports.random,
    ...others
  } = options;
  return connectWith(
    { ...ports, tokens, readSecretFile, readFile, clock, random },
    connector,
    settings ?? ({} as SettingsOf<C>),
    others,
  );
}
