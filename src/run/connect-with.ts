/** `connectWith(ports, connector, account)`: an API for one account, on whatever machine the ports are of. */

import { createSignIn, type SignInPorts } from "../auth/sign-in.js";
import { planRequest } from "../core/ask/request-plan.js";
import type { Clock } from "../core/clock.js";
import { namesHint } from "../core/define/check.js";
import { resolveAccount, type SettingsOf, type StreamsOf } from "../core/define/connector.js";
import type { Connector } from "../core/define/connector-schema.js";
import { BridgeError } from "../core/errors.js";
import { durationMs } from "../core/language/duration.js";
import { RETRY_DEFAULTS, type RetryPolicy } from "../core/pace/retry-policy.js";
import { Redactor } from "../core/redact.js";
import { DIGEST_DIGITS } from "../core/shape/record-state.js";
import { type CompiledStream, compileStream, withHashes } from "../core/stream/compile-stream.js";
import { createExchange, newTally, type RecordedExchange } from "../http/exchange.js";
import type { ReplaySend } from "../http/har.js";
import { PaceGate } from "../http/pace-gate.js";
import type { Send, TransportOptions } from "../http/send.js";
import { type Api, type ApiInside, keepInside, type PagesOptions } from "./api.js";
import type { AccountParts } from "./ask/asker.js";
import { everyPage, StreamAsk } from "./ask/stream-ask.js";
import { ODataService } from "./odata-service.js";
import type { Ports } from "./ports.js";

export const USER_AGENT = "early-bridge";

/** How an account's requests travel, and what is sent with each. */
export interface HttpOptions extends TransportOptions {
  readonly userAgent?: string | undefined;
  /** sent with every request of the account */
  readonly headers?: Readonly<Record<string, string>> | undefined;
  /** values of headers that are never shown */
  readonly secrets?: readonly string[] | undefined;
}

/** What may be said of a connection. */
export interface WithOptions {
  /** how messages name the account; default "account" */
  readonly name?: string | undefined;
  readonly http?: HttpOptions | undefined;
  /** takes every exchange as it was before credentials were added */
  readonly onRecord?: ((recorded: RecordedExchange, hide: (text: string) => string) => void) | undefined;
  /** answers instead of the network; nothing is signed then, and no limit is waited for */
  readonly replay?: ReplaySend | undefined;
  /** the pace of another connection of the same account; default: one of its own */
  readonly gate?: PaceGate | undefined;
  readonly retry?: Partial<RetryPolicy> | undefined;
  /** what columns with `hash: true` are hashed under (HMAC-SHA-256); without it, their hashes can be guessed at */
  readonly hashSecret?: string | undefined;
  /** where an account's setting stands, for messages: `file:line:column` */
  readonly place?: ((setting: string) => string | undefined) | undefined;
}

/**
 * Opens an API for one account. Nothing is sent before the first page is asked for.
 * @throws BridgeError CONFIG_INVALID, CONFIG_UNKNOWN_NAME, URL_INVALID, URL_INSECURE
 */
export function connectWith<C extends Connector>(
  machine: Ports,
  connector: C,
  settings: SettingsOf<C>,
  options: WithOptions = {},
): Api<StreamsOf<C>> {
  const { clock, random, readSecretFile, readFile, unpackFile, network } = machine;
  const { retry } = options;
  const account = resolveAccount(connector, settings, options.name, options.place);
  const redactor = new Redactor();
  for (const secret of [...account.secrets, ...(options.http?.secrets ?? [])]) redactor.add(secret);
  const transport = machine.openTransport(options.http);
  const { replay } = options;
  const hide = (text: string) => redactor.hide(text);
  const send: Send = replay === undefined ? transport.send : (request) => replay(request, hide);
  const gate = options.gate ?? openGate(connector, clock, replay !== undefined);
  const budgetMs = Math.max(RETRY_DEFAULTS.budgetMs, durationMs(connector.api.rate_limit.max_wait));
  const ports = { send, clock, random, retry: { budgetMs, ...retry } };
  const signInPorts: SignInPorts = { ...ports, store: machine.tokens, readSecretFile };
  const signIn = replay === undefined ? connector.api.sign_in : "none";
  const code = replay === undefined ? connector.code : undefined;
  const signedIn = createSignIn(signIn, code, account, redactor, signInPorts);
  const { onRecord: take } = options;
  const onRecord = take === undefined ? undefined : (each: RecordedExchange) => take(each, hide);
  const exchange = createExchange({
    ...ports,
    sign: signedIn.sign,
    gate,
    redactor,
    origins: account.origins,
    granted: signedIn.granted,
    onRecord,
  });
  const close = async () => {
    // a session that cannot be ended ends by itself
    await signedIn.signOut().catch(() => {});
    await transport.close();
  };
  const headers = commonHeaders(connector, options.http);
  // a recording must hold all that its replay asks for
  const keep = replay === undefined && take === undefined ? machine.keep : undefined;
  const service =
    connector.odata === undefined ? undefined : new ODataService(connector, account, exchange, headers, keep);
  const streams = new Map<string, CompiledStream>();
  const { hashSecret } = options;
  if (hashSecret !== undefined) redactor.add(hashSecret);
  const { hashes } = machine;
  const hashed = (columns: CompiledStream["columns"]) => withHashes(columns, hashSecret, hashes);
  const stream = async (name: string) => {
    const known = streams.get(name);
    if (known !== undefined) return known;
    const compiled = (await service?.stream(name)) ?? compileNamed(connector, name);
    const made = { ...compiled, columns: hashed(compiled.columns) };
    streams.set(name, made);
    return made;
  };
  const shared: AccountParts = {
    connector,
    account,
    exchange,
    withoutSecrets: (address) => redactor.withoutSecrets(address),
    clock,
    headers,
    stream,
    readFile,
    unpackFile,
    readsPlainly: machine.readsPlainly === true,
    network,
  };
  const inside: ApiInside = {
    connector,
    account,
    clock,
    network,
    expectListeners: machine.expectListeners,
    digest: hashes && ((text) => hashes.sha256(text).slice(0, DIGEST_DIGITS)),
    redactor,
    replays: replay !== undefined,
    signInPorts,
    gate,
    requestsLeft: () => gate.left,
    stream,
    odata: service,
    streamNames: async () => service?.names() ?? Object.keys(connector.streams),
    openStream: async (of, askOptions) =>
      new StreamAsk(shared, typeof of === "string" ? await stream(of) : of, askOptions),
    apiClock: () => {
      const behindMs = exchange.behindMs();
      return { nowMs: clock.now() - behindMs, behindMs };
    },
    beginRun: () => exchange.beginRun(),
    reach: (signal) => {
      const { origin } = new URL(account.baseUrl);
      return send({ method: "GET", url: `${origin}/`, headers: { ...headers, accept: "*/*" }, signal });
    },
    withHashes: hashed,
    signIn: (signal) => signedIn.signIn(signal),
    ask: (path, signal, body) => {
      const method = body === undefined ? { get: path } : { post: path, body };
      const template = { ...method, query: {}, headers: {}, safe_to_retry: body !== undefined };
      const accept = { accept: body === undefined ? "application/json" : "*/*", ...headers };
      const request = planRequest(account.baseUrl, template, accept, { ...account.values, token: undefined });
      const where = { account: account.name };
      return exchange.ask(request, (response) => response, { where, tally: newTally(), signal });
    },
  };
  const api = publicApi(inside, close);
  keepInside(api, inside);
  return api;
}

function publicApi(inside: ApiInside, close: () => Promise<void>): Api {
  const { connector, account } = inside;
  const api: Api = {
    connector,
    account: { name: account.name, baseUrl: account.baseUrl },
    async *pages(name, { since, position, tally = newTally(), signal, onEvent } = {}) {
      const ask = await inside.openStream(name, { tally, signal, onEvent });
      yield* everyPage(ask, { since, position, once: true });
    },
    async *records<Item>(name: string, pagesOptions: PagesOptions = {}) {
      for await (const page of api.pages(name, pagesOptions)) yield* page.records as readonly Item[];
    },
    signIn: inside.signIn,
    close,
    [Symbol.asyncDispose]: close,
  };
  return api;
}

function openGate({ api }: Connector, clock: Clock, unlimited: boolean): PaceGate {
  const { concurrency: atOnce, groups, max_wait, ...rates } = api.rate_limit;
  if (unlimited) return new PaceGate({ atOnce, unlimited }, clock);
  const narrower = Object.entries(groups).map(
    ([name, { concurrency: most, ...own }]) => [name, { ...limitsOf(own), atOnce: most ?? atOnce }] as const,
  );
  const patienceMs = durationMs(max_wait);
  return new PaceGate(
    { ...limitsOf(rates), atOnce, groups: Object.fromEntries(narrower), patienceMs },
    clock,
  );
}

function limitsOf(rates: {
  readonly per_second?: number | undefined;
  readonly per_minute?: number | undefined;
  readonly per_hour?: number | undefined;
  readonly per_day?: number | undefined;
}) {
  const { per_second: perSecond, per_minute: perMinute, per_hour: perHour, per_day: perDay } = rates;
  return { perSecond, perMinute, perHour, perDay };
}

function compileNamed(connector: Connector, name: string): CompiledStream {
  const definition = connector.streams[name];
  if (definition !== undefined) return compileStream(connector, name, definition);
  const known = Object.keys(connector.streams);
  throw new BridgeError("CONFIG_UNKNOWN_NAME", `Connector ${connector.connector} has no stream ${name}.`, {
    hint: namesHint(name, known, "Streams"),
  });
}

function commonHeaders(connector: Connector, http: HttpOptions | undefined): Record<string, string> {
  const own = { "user-agent": http?.userAgent ?? USER_AGENT };
  return { ...own, ...http?.headers, ...connector.api.headers };
}
