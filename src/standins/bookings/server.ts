/** The bookings service: REST, OAuth 2.0 client credentials, token pages, changes by time. */

import { randomBytes } from "node:crypto";
import { Readable } from "node:stream";
import formBody from "@fastify/formbody";
import Fastify, { type FastifyInstance, type FastifyReply, type FastifyRequest } from "fastify";
import { addServiceHooks, Limiter, type LogEntry, type ServiceOptions } from "../service.js";
import { bookingJson, HUT_COUNT, hut } from "./data.js";
import { BookingStore, type Position } from "./store.js";

export interface BookingsOptions extends ServiceOptions {
  readonly bookings?: number | undefined;
  readonly tokenLifeSeconds?: number | undefined;
  readonly clientId?: string | undefined;
  readonly clientSecret?: string | undefined;
  /** whether headers tell of the limit; default true */
  readonly tellsLimit?: boolean | undefined;
}

export const BOOKINGS_DEFAULTS = Object.freeze({
  bookings: 20_000,
  perSecond: 20,
  tokenLifeSeconds: 60,
  clientId: "hut-desk",
  clientSecret: "edelweiss-by-the-gate",
  seed: 1,
});

export interface BookingsService {
  readonly url: string;
  readonly log: readonly LogEntry[];
  readonly store: BookingStore;
  /** makes all tokens given so far unknown, as a restart of the sign-in server would */
  forgetTokens(): void;
  close(): Promise<void>;
}

const MAX_PAGE = 500;

/** Starts the service on loopback. */
export async function startBookings(options: BookingsOptions = {}): Promise<BookingsService> {
  const { bookings = BOOKINGS_DEFAULTS.bookings, seed = BOOKINGS_DEFAULTS.seed } = options;
  const app = Fastify({ forceCloseConnections: true });
  await app.register(formBody);
  const log = addServiceHooks(app, options);
  const store = new BookingStore(bookings, seed);
  const tokens = addTokens(app, options);
  const limiter = new Limiter(
    options.perSecond === undefined ? BOOKINGS_DEFAULTS.perSecond : options.perSecond,
    options.tellsLimit === false,
  );
  const guard = async (request: FastifyRequest, reply: FastifyReply) => {
    if (!tokens.isKnown(request.headers.authorization)) {
      reply.header("www-authenticate", 'Bearer realm="bookings", error="invalid_token"');
      return reply.code(401).send({ message: "The access token is unknown or has expired." });
    }
    if (!limiter.admit(reply)) return reply.code(429).send({ message: "Too many requests in this second." });
  };
  app.get("/v2/me", { preHandler: guard }, async () => ({ desk: "valley desk", may: ["huts", "bookings"] }));
  app.get("/v2/huts", { preHandler: guard }, async () => ({
    huts: Array.from({ length: HUT_COUNT }, (_, index) => hut(index, seed)),
  }));
  app.get("/v2/bookings", { preHandler: guard }, async (request, reply) =>
    listBookings(store, request, reply),
  );
  app.post("/_tick", async () => store.usualTick());
  app.get("/_truth", async (request, reply) => {
    const { stream } = request.query as { stream?: string };
    reply.type("application/x-ndjson");
    return Readable.from(truth(store, stream ?? "bookings", seed));
  });
  const url = await app.listen({ host: "127.0.0.1", port: options.port ?? 0 });
  return { url, log, store, forgetTokens: tokens.forget, close: () => app.close() };
}

function listBookings(store: BookingStore, request: FastifyRequest, reply: FastifyReply) {
  const query = request.query as { per_page?: string; after?: string; changed_after?: string };
  const limit = Number(query.per_page ?? 100);
  if (!Number.isInteger(limit) || limit < 1 || limit > MAX_PAGE) {
    return reply.code(400).send({ message: `per_page must be 1 to ${MAX_PAGE}` });
  }
  const changedAfter = query.changed_after === undefined ? undefined : Date.parse(query.changed_after) / 1000;
  if (Number.isNaN(changedAfter))
    return reply.code(400).send({ message: "changed_after must be a date and time" });
  const from = query.after === undefined ? store.startAfter(changedAfter) : readToken(query.after);
  if (from === undefined) return reply.code(400).send({ message: "after is no page token of this service" });
  const { bookings, next } = store.read(from, limit);
  const token = next === undefined ? "null" : JSON.stringify(writeToken(next));
  reply.type("application/json; charset=utf-8");
  return `{"items":[${bookings.map(bookingJson).join(",")}],"paging":{"per_page":${limit},"next_token":${token}}}`;
}

function writeToken({ list, at }: Position): string {
  return Buffer.from(`${list}:${at}`).toString("base64url");
}

function readToken(token: string): Position | undefined {
  const match = /^(base|changes):(\d+)$/.exec(Buffer.from(token, "base64url").toString());
  return match === null ? undefined : { list: match[1] as Position["list"], at: Number(match[2]) };
}

/** All records as they stand, a line each: what tables are compared with. */
function* truth(store: BookingStore, stream: string, seed: number): Generator<string> {
  if (stream === "huts") {
    for (let index = 0; index < HUT_COUNT; index++) yield `${JSON.stringify(hut(index, seed))}\n`;
    return;
  }
  let from: Position | undefined = store.startAfter(undefined);
  while (from !== undefined) {
    const { bookings, next } = store.read(from, 1000);
    yield bookings.map((each) => `${bookingJson(each)}\n`).join("");
    from = next;
  }
}

/** The token endpoint: client credentials by Basic header or form body (RFC 6749, sections 2.3.1 and 4.4). */
function addTokens(app: FastifyInstance, options: BookingsOptions) {
  const {
    clientId = BOOKINGS_DEFAULTS.clientId,
    clientSecret = BOOKINGS_DEFAULTS.clientSecret,
    tokenLifeSeconds = BOOKINGS_DEFAULTS.tokenLifeSeconds,
  } = options;
  const endsAt = new Map<string, number>();
  app.post("/oauth/token", async (request, reply) => {
    const form = (request.body ?? {}) as Record<string, string>;
    const basic = /^Basic (.+)$/i.exec(request.headers.authorization ?? "")?.[1];
    const [id, secret] =
      basic === undefined
        ? [form.client_id, form.client_secret]
        : Buffer.from(basic, "base64").toString().split(":").map(decodeForm);
    reply.header("cache-control", "no-store");
    if (id !== clientId || secret !== clientSecret) {
      if (basic !== undefined) reply.header("www-authenticate", 'Basic realm="bookings"');
      return reply
        .code(401)
        .send({ error: "invalid_client", error_description: "unknown client or wrong secret" });
    }
    if (form.grant_type !== "client_credentials")
      return reply.code(400).send({ error: "unsupported_grant_type" });
    if (form.scope !== undefined && form.scope !== "bookings.read")
      return reply.code(400).send({ error: "invalid_scope" });
    const token = randomBytes(24).toString("base64url");
    endsAt.set(token, Date.now() + tokenLifeSeconds * 1000);
    return {
      access_token: token,
      token_type: "Bearer",
      expires_in: tokenLifeSeconds,
      scope: "bookings.read",
    };
  });
  return {
    isKnown(header: string | undefined): boolean {
      const token = /^Bearer (.+)$/i.exec(header ?? "")?.[1];
      return token !== undefined && (endsAt.get(token) ?? 0) > Date.now();
    },
    forget: () => endsAt.clear(),
  };
}

/** RFC 6749 encodes both halves of the Basic credentials as a form does. */
function decodeForm(text: string): string {
  return decodeURIComponent(text.replaceAll("+", " "));
}
