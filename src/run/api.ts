/** An opened API: what its users see of it, and what the engine works with. */

import type { SignInPorts } from "../auth/sign-in.js";
import type { PagePosition } from "../core/ask/page-position.js";
import type { Clock } from "../core/clock.js";
import type { BodyDefinition } from "../core/define/ask-schema.js";
import type { Account } from "../core/define/connector.js";
import type { Connector } from "../core/define/connector-schema.js";
import { BridgeError } from "../core/errors.js";
import type { Redactor } from "../core/redact.js";
import type { Digest } from "../core/shape/record-state.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import type { ApiClock } from "../core/track/cursor.js";
import type { Tally } from "../http/exchange.js";
import type { PaceGate } from "../http/pace-gate.js";
import type { HttpResponse } from "../http/send.js";
import type { Spent } from "../warehouse/warehouse.js";
import type { AskEvent, AskOptions } from "./ask/asker.js";
import type { Page } from "./ask/page-series.js";
import type { StreamAsk } from "./ask/stream-ask.js";
import type { ODataService } from "./odata-service.js";
import type { Network, Ports } from "./ports.js";

/** Where to begin, and who is told. */
export interface PagesOptions {
  /** ask only for records after this value of the cursor's field */
  readonly since?: string | undefined;
  /** begin at this page, as an earlier page's `next` gave it */
  readonly position?: PagePosition | undefined;
  readonly signal?: AbortSignal | undefined;
  readonly onEvent?: ((event: AskEvent) => void) | undefined;
  /** counts of requests, added to */
  readonly tally?: Tally | undefined;
}

/** An API, opened for one account; `Stream` are the names of its streams, where they are known. */
export interface Api<Stream extends string = string> {
  readonly connector: Connector;
  /** whose it is; its settings and secrets stay inside */
  readonly account: Pick<Account, "name" | "baseUrl">;
  /**
   * The pages of a stream, in order, part by part. The next one is asked for while the last one is worked on.
   * @throws BridgeError CONFIG_UNKNOWN_NAME, and what goes wrong on the way
   */
  pages(stream: Stream, options?: PagesOptions): AsyncIterableIterator<Page>;
  /**
   * The records of a stream, as the API gives them: `Item` is for you to say. Where they may not be all, it throws
   * INCOMPLETE behind the last one. Whole numbers beyond 2^53 are bigint, other inexact numbers ExactNumber.
   */
  records<Item = unknown>(stream: Stream, options?: PagesOptions): AsyncIterableIterator<Item>;
  /** Signs in without asking the API for anything. @throws BridgeError SIGN_IN_* */
  signIn(signal?: AbortSignal): Promise<void>;
  close(): Promise<void>;
  [Symbol.asyncDispose](): Promise<void>;
}

/** What the engine works with. */
export interface ApiInside {
  readonly connector: Connector;
  readonly account: Account;
  readonly clock: Clock;
  readonly network: Network;
  readonly expectListeners: Ports["expectListeners"];
  readonly digest: Digest | undefined;
  readonly redactor: Redactor;
  /** responses come from a recording, and its time passes only while something is waited for */
  readonly replays: boolean;
  /** what its signing in works with: the account's own sender, clock and token store */
  readonly signInPorts: SignInPorts;
  /** the account's pace; may be shared by connections of the same account */
  readonly gate: PaceGate;
  /** what the API said last of the requests left in its limit */
  requestsLeft(): number | undefined;
  /**
   * What is known of a stream; it may have to be asked of the API first.
   * @throws BridgeError CONFIG_UNKNOWN_NAME
   */
  stream(name: string): Promise<CompiledStream>;
  /** the service that the connector is for, where it speaks OData */
  readonly odata: ODataService | undefined;
  /** The names of all streams; they may have to be asked of the API first. */
  streamNames(): Promise<readonly string[]>;
  /** A stream as one run asks it: its parts, and the pages of each. */
  openStream(stream: string | CompiledStream, options: AskOptions): Promise<StreamAsk>;
  /** The slower of our clock and the API's. */
  apiClock(): ApiClock;
  /** Begins a run: its retry budget is whole. */
  beginRun(): void;
  /** Connects to the base address and asks for its root, unsigned; any response will do. Rejects when none came. */
  reach(signal?: AbortSignal): Promise<HttpResponse>;
  /** rules of columns, their hashes under the account's secret where it has one */
  withHashes(columns: CompiledStream["columns"]): CompiledStream["columns"];
  signIn(signal?: AbortSignal): Promise<void>;
  /** One signed and paced GET below the base address, or a POST of a body that only asks; the response as it came. */
  ask(path: string, signal?: AbortSignal, body?: BodyDefinition): Promise<HttpResponse>;
}

const INSIDE = new WeakMap<Api, ApiInside>();

export function keepInside(api: Api, inside: ApiInside): void {
  INSIDE.set(api, inside);
}

/** @throws BridgeError CONFIG_INVALID for what `connect` has not made */
export function insideOf(api: Api): ApiInside {
  const inside = INSIDE.get(api);
  if (inside === undefined)
    throw new BridgeError("CONFIG_INVALID", "This is not an API that connect() has opened.");
  return inside;
}

/** Names an account in the ledger, so that all its bridges share what its limits permit. */
export function accountKey({ connector, account }: ApiInside): string {
  return `${connector.connector}/${account.name}`;
}

/** What was spent of the account's limits since the last call, for the ledger. */
export function takeSpent(api: ApiInside): Spent {
  return { account: accountKey(api), byGroup: api.gate.takeSpent() };
}
