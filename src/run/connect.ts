/** `connect(connector, account)`: an API that signs in, paces and retries, and gives pages and records. */

import { readFile } from "node:fs/promises";
import { fileTokenStore } from "../auth/file-token-store.js";
import { createSignIn, type SignInPorts } from "../auth/sign-in.js";
import type { TokenStore } from "../auth/token-store.js";
import { type PageRead, readPage } from "../core/ask/read-page.js";
import { type PagePosition, pageRequest } from "../core/ask/request-plan.js";
import type { Clock } from "../core/clock.js";
import { namesHint } from "../core/define/check.js";
import {
  type Account,
  type AccountSettings,
  type CompiledStream,
  compileStream,
  resolveAccount,
} from "../core/define/connector.js";
import type { Connector } from "../core/define/connector-schema.js";
import { BridgeError } from "../core/errors.js";
import type { RetryPolicy } from "../core/pace/retry-policy.js";
import { Redactor } from "../core/redact.js";
import { createExchange, type Exchange, type ExchangeEvent, newTally, type Tally } from "../http/exchange.js";
import { nodeClock } from "../http/node-clock.js";
import { PaceGate } from "../http/pace-gate.js";
import { type HttpResponse, openTransport, type TransportOptions } from "../http/transport.js";

export const USER_AGENT = "early-bridge";

export interface HttpOptions extends TransportOptions {
  readonly userAgent?: string | undefined;
  /** sent with every request of the account */
  readonly headers?: Readonly<Record<string, string>> | undefined;
}

export interface ConnectOptions {
  /** how messages name the account; default "account" */
  readonly name?: string | undefined;
  readonly http?: HttpOptions | undefined;
  /** where refresh tokens are kept; default: files in the user's config folder */
  readonly tokens?: TokenStore | undefined;
  /** reads a file that holds a secret; default: from the working folder */
  readonly readSecretFile?: ((path: string) => Promise<string>) | undefined;
  readonly retry?: Partial<RetryPolicy> | undefined;
  /** default: the machine's time */
  readonly clock?: Clock | undefined;
  /** numbers from 0 to below 1; default Math.random */
  readonly random?: (() => number) | undefined;
  /** where an account's setting stands, for messages: `file:line:column` */
  readonly place?: ((setting: string) => string | undefined) | undefined;
}

export interface PagesOptions {
  /** ask only for records after this value of the cursor's field */
  readonly since?: string | undefined;
  /** begin at the page that this token leads to */
  readonly token?: string | undefined;
  readonly signal?: AbortSignal | undefined;
  readonly onEvent?: ((event: ExchangeEvent) => void) | undefined;
  readonly tally?: Tally | undefined;
}

/** One page of a stream; `number` counts from 1. */
export interface Page extends PageRead {
  readonly number: number;
}

export interface Api {
  readonly connector: Connector;
  readonly account: Account;
  readonly clock: Clock;
  readonly redactor: Redactor;
  /** what its signing in works with: the account's own sender, clock and token store */
  readonly signInPorts: SignInPorts;
  /** what the API said last of the requests left in its limit */
  requestsLeft(): number | undefined;
  /** @throws BridgeError CONFIG_UNKNOWN_NAME */
  stream(name: string): CompiledStream;
  /** The pages of a stream, in order. The next one is asked for while the last one is worked on. */
  pages(stream: string, options?: PagesOptions): AsyncIterableIterator<Page>;
  /** The records of a stream; whole numbers beyond 2^53 are bigint, other inexact numbers ExactNumber. */
  records(stream: string, options?: PagesOptions): AsyncIterableIterator<unknown>;
  /** Connects to the base address and asks for its root, unsigned; any answer will do. Rejects when none came. */
  reach(signal?: AbortSignal): Promise<HttpResponse>;
  /** Signs in without asking the API for anything. */
  signIn(signal?: AbortSignal): Promise<void>;
  /** One signed and paced GET of a path below the base address; the answer as it came. */
  ask(path: string, signal?: AbortSignal): Promise<HttpResponse>;
  close(): Promise<void>;
  [Symbol.asyncDispose](): Promise<void>;
}

/**
 * Opens an API for one account. Nothing is sent before the first page is asked for.
 * @throws BridgeError CONFIG_INVALID, CONFIG_UNKNOWN_NAME, URL_INVALID, URL_INSECURE
 */
export function connect(connector: Connector, settings: AccountSettings, options: ConnectOptions = {}): Api {
  const { clock = nodeClock, random = Math.random, retry } = options;
  const account = resolveAccount(connector, settings, options.name, options.place);
  const redactor = new Redactor();
  for (const secret of account.secrets) redactor.add(secret);
  const transport = openTransport(options.http);
  const { per_second: perSecond, per_minute: perMinute, at_once: atOnce } = connector.api.pace;
  const gate = new PaceGate({ perSecond, perMinute, atOnce }, clock);
  const ports = { send: transport.send, clock, random, retry };
  const { tokens: store = fileTokenStore(), readSecretFile = (path) => readFile(path, "utf8") } = options;
  const signInPorts: SignInPorts = { ...ports, store, readSecretFile };
  const signedIn = createSignIn(connector.api.sign_in, connector.code, account, redactor, signInPorts);
  const exchange = createExchange({ ...ports, sign: signedIn.sign, gate, redactor });
  const close = async () => {
    // a session that cannot be ended ends by itself
    await signedIn.signOut().catch(() => {});
    await transport.close();
  };
  const streams = new Map<string, CompiledStream>();
  const stream = (name: string) => {
    const compiled = streams.get(name) ?? compileNamed(connector, name);
    streams.set(name, compiled);
    return compiled;
  };
  const api: Api = {
    connector,
    account,
    clock,
    redactor,
    signInPorts,
    requestsLeft: () => gate.left,
    stream,
    pages: (name, pagesOptions = {}) =>
      readPages({ connector, account, exchange, http: options.http }, stream(name), pagesOptions),
    async *records(name, pagesOptions = {}) {
      for await (const page of api.pages(name, pagesOptions)) yield* page.records;
    },
    reach: (signal) => {
      const { origin } = new URL(account.baseUrl);
      return transport.send({
        method: "GET",
        url: `${origin}/`,
        headers: commonHeaders(connector, options.http),
        signal,
      });
    },
    signIn: (signal) => signedIn.signIn(signal),
    ask: (path, signal) => {
      const request = pageRequest(account.baseUrl, path, {}, commonHeaders(connector, options.http), {});
      return exchange(request, (response) => response, {
        where: { account: account.name },
        tally: newTally(),
        signal,
      });
    },
    close,
    [Symbol.asyncDispose]: close,
  };
  return api;
}

function compileNamed(connector: Connector, name: string): CompiledStream {
  const definition = connector.streams[name];
  if (definition !== undefined) return compileStream(name, definition);
  const known = Object.keys(connector.streams);
  throw new BridgeError("CONFIG_UNKNOWN_NAME", `Connector ${connector.connector} has no stream ${name}.`, {
    hint: namesHint(name, known, "Streams"),
  });
}

function commonHeaders(connector: Connector, http: HttpOptions | undefined): Record<string, string> {
  const own = { accept: "application/json", "user-agent": http?.userAgent ?? USER_AGENT };
  return { ...own, ...http?.headers, ...connector.api.headers };
}

/** What all requests of an account share. */
interface ApiParts {
  readonly connector: Connector;
  readonly account: Account;
  readonly exchange: Exchange;
  readonly http: HttpOptions | undefined;
}

async function* readPages(
  { connector, account, exchange, http }: ApiParts,
  stream: CompiledStream,
  { since, token: firstToken, signal, onEvent, tally = newTally() }: PagesOptions,
): AsyncGenerator<Page> {
  const { definition, plan } = stream;
  const headers = { ...commonHeaders(connector, http), ...definition.headers };
  const sinceValue =
    definition.cursor && since !== undefined ? { query: definition.cursor.query, value: since } : undefined;
  const ask = (number: number, token: string | undefined): Promise<Page> => {
    const tokenValue =
      definition.pages && token !== undefined ? { query: definition.pages.query, value: token } : undefined;
    const position: PagePosition = { since: sinceValue, token: tokenValue };
    const request = pageRequest(account.baseUrl, definition.get, definition.query, headers, position);
    const where = { account: account.name, stream: stream.name, page: number };
    const context = { where, tally, signal, onEvent };
    return exchange(request, (response) => ({ ...readPage(response.body, plan), number }), context);
  };
  const tokens = new Set<string>();
  let number = 1;
  let pending: Promise<Page> | undefined = ask(number, firstToken);
  while (pending !== undefined) {
    const page: Page = await pending;
    const { nextToken } = page;
    if (nextToken !== undefined && (tokens.has(nextToken) || nextToken === firstToken)) {
      throw repeated(account, stream, number, nextToken);
    }
    if (nextToken !== undefined) tokens.add(nextToken);
    pending = nextToken === undefined ? undefined : ask(++number, nextToken);
    // it is awaited in the next round; if the caller leaves before, its failure concerns nobody
    pending?.catch(() => {});
    yield page;
  }
}

function repeated(account: Account, stream: CompiledStream, page: number, token: string): BridgeError {
  const shown = token.length > 40 ? `${token.slice(0, 39)}…` : token;
  const message = `The page gives the token ${shown} again: the pages go round in a circle.`;
  return new BridgeError("PAGE_REPEATED", message, {
    where: { account: account.name, stream: stream.name, page },
  });
}
