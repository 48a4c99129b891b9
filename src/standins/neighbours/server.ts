/**
 * The federation's other services, one below the other, each with a sign-in of its own:
 *
 *   /members  authorization code + PKCE    /logbook  service-account JWT    /sensors  key in the query
 *   /stores   HTTP Basic                   /notices  a session by cookie
 */

import { createHash, generateKeyPairSync, randomBytes } from "node:crypto";
import formBody from "@fastify/formbody";
import Fastify, { type FastifyInstance, type FastifyReply, type FastifyRequest } from "fastify";
import { type JWTPayload, jwtVerify } from "jose";
import { addServiceHooks, type LogEntry, type ServiceOptions } from "../service.js";
import { logEntry, member, noticeOf, reading, storeItem } from "./data.js";

export const NEIGHBOURS_DEFAULTS = Object.freeze({
  membersClient: "hut-desk-app",
  sensorsKey: "k-sunrise-2150",
  storesUser: "cellar",
  storesPassword: "seven-keys-on-a-ring",
  noticesUser: "warden",
  noticesPassword: "first-light-at-five",
});

export interface NeighboursService {
  readonly url: string;
  readonly log: readonly LogEntry[];
  /** the key file of the logbook's service account, as JSON text */
  readonly robotKeyFile: string;
  close(): Promise<void>;
}

const ROBOT = "robot@logbook.huts.example";
const TOKEN_SECONDS = 120;

/** Starts all of them on one port of loopback. */
export async function startNeighbours(options: ServiceOptions = {}): Promise<NeighboursService> {
  const app = Fastify({ forceCloseConnections: true });
  await app.register(formBody);
  const log = addServiceHooks(app, options);
  const keys = generateKeyPairSync("rsa", { modulusLength: 2048 });
  addMembers(app);
  addLogbook(app, keys.publicKey);
  addFixed(app);
  addNotices(app);
  const url = await app.listen({ host: "127.0.0.1", port: options.port ?? 0 });
  const privateKey = keys.privateKey.export({ type: "pkcs8", format: "pem" }).toString();
  const robotKeyFile = JSON.stringify({
    issuer: ROBOT,
    key_id: "r1",
    private_key: privateKey,
    token_url: `${url}/logbook/token`,
  });
  return { url, log, robotKeyFile, close: () => app.close() };
}

/** Tokens that were issued and have not ended. */
class Tokens {
  private readonly endsAt = new Map<string, number>();

  issue(): string {
    const token = randomBytes(24).toString("base64url");
    this.endsAt.set(token, Date.now() + TOKEN_SECONDS * 1000);
    return token;
  }

  /** A guard that answers 401 to requests without a good bearer token. */
  readonly guard = async (request: FastifyRequest, reply: FastifyReply) => {
    const token = /^Bearer (.+)$/i.exec(request.headers.authorization ?? "")?.[1] ?? "";
    if ((this.endsAt.get(token) ?? 0) > Date.now()) return;
    return unauthorized(reply, 'Bearer error="invalid_token"', "The access token is unknown or has expired.");
  };
}

function unauthorized(reply: FastifyReply, challenge: string, message: string): FastifyReply {
  return reply.code(401).header("www-authenticate", challenge).send({ message });
}

const list = (count: number, make: (index: number) => Record<string, unknown>) => async () => ({
  items: Array.from({ length: count }, (_, index) => make(index)),
});

const sha256 = (text: string) => createHash("sha256").update(text).digest("base64url");

/** RFC 6749 section 4.1 with RFC 7636; whoever opens the page has signed in. Refresh tokens rotate. */
function addMembers(app: FastifyInstance): void {
  const tokens = new Tokens();
  const codes = new Map<string, { challenge: string; redirectUri: string }>();
  const refreshTokens = new Set<string>();
  app.get("/members/authorize", async (request, reply) => {
    const query = request.query as Record<string, string>;
    const {
      client_id: client,
      redirect_uri: redirectUri = "",
      state = "",
      code_challenge: challenge = "",
    } = query;
    const back = URL.canParse(redirectUri) ? new URL(redirectUri) : undefined;
    if (client !== NEIGHBOURS_DEFAULTS.membersClient || back?.hostname !== "127.0.0.1") {
      return reply
        .code(400)
        .send({ error: "invalid_request", error_description: "unknown client or redirect_uri" });
    }
    if (query.code_challenge_method !== "S256" || challenge === "") {
      back.search = new URLSearchParams({
        error: "invalid_request",
        error_description: "PKCE S256 is needed",
        state,
      }).toString();
      return reply.redirect(back.href);
    }
    const code = randomBytes(16).toString("base64url");
    codes.set(code, { challenge, redirectUri });
    back.search = new URLSearchParams({ code, state }).toString();
    return reply.redirect(back.href);
  });
  app.post("/members/token", async (request, reply) => {
    const form = request.body as Record<string, string>;
    const grant = codes.get(form.code ?? "");
    codes.delete(form.code ?? "");
    const byCode =
      form.grant_type === "authorization_code" &&
      grant?.redirectUri === form.redirect_uri &&
      grant?.challenge === sha256(form.code_verifier ?? "");
    const byRefresh = form.grant_type === "refresh_token" && refreshTokens.delete(form.refresh_token ?? "");
    if (!byCode && !byRefresh) return reply.code(400).send({ error: "invalid_grant" });
    const refreshToken = randomBytes(24).toString("base64url");
    refreshTokens.add(refreshToken);
    const granted = {
      token_type: "Bearer",
      expires_in: TOKEN_SECONDS,
      scope: "members.read",
      refresh_token: refreshToken,
    };
    return { access_token: tokens.issue(), ...granted };
  });
  app.get("/members/v1/members", { preHandler: tokens.guard }, list(120, member));
}

/** RFC 7523: a JWT signed by the service account's key. */
function addLogbook(app: FastifyInstance, publicKey: Parameters<typeof jwtVerify>[1] & object): void {
  const tokens = new Tokens();
  app.post("/logbook/token", async (request, reply) => {
    const form = request.body as Record<string, string>;
    const audience = `http://${request.headers.host}/logbook/token`;
    const verified = await jwtVerify(form.assertion ?? "", publicKey as CryptoKeyLike, {
      issuer: ROBOT,
      audience,
    }).catch((error: Error) => error);
    if (verified instanceof Error) {
      return reply.code(400).send({ error: "invalid_grant", error_description: verified.message });
    }
    const payload: JWTPayload = verified.payload;
    return {
      access_token: tokens.issue(),
      token_type: "Bearer",
      expires_in: TOKEN_SECONDS,
      scope: payload.scope,
    };
  });
  app.get("/logbook/v1/entries", { preHandler: tokens.guard }, list(300, logEntry));
}

type CryptoKeyLike = Exclude<Parameters<typeof jwtVerify>[1], (...args: never[]) => unknown>;

/** A key in the query, and HTTP Basic. */
function addFixed(app: FastifyInstance): void {
  const { sensorsKey, storesUser, storesPassword } = NEIGHBOURS_DEFAULTS;
  const keyGuard = async (request: FastifyRequest, reply: FastifyReply) => {
    if ((request.query as { key?: string }).key !== sensorsKey)
      return reply.code(403).send({ message: "The key is unknown." });
  };
  app.get("/sensors/v1/readings", { preHandler: keyGuard }, list(500, reading));
  const expected = `Basic ${Buffer.from(`${storesUser}:${storesPassword}`).toString("base64")}`;
  const basicGuard = async (request: FastifyRequest, reply: FastifyReply) => {
    if (request.headers.authorization !== expected)
      return unauthorized(reply, 'Basic realm="stores"', "Wrong user or password.");
  };
  app.get("/stores/v1/items", { preHandler: basicGuard }, list(80, storeItem));
}

/** A sign-in request that gives a cookie, and a sign-out. */
function addNotices(app: FastifyInstance): void {
  const { noticesUser, noticesPassword } = NEIGHBOURS_DEFAULTS;
  const sessions = new Set<string>();
  const sessionOf = (request: FastifyRequest) =>
    /(?:^|; )SID=([^;]+)/.exec(request.headers.cookie ?? "")?.[1] ?? "";
  app.post("/notices/v1/login", async (request, reply) => {
    const { user, password } = (request.body ?? {}) as Record<string, string>;
    if (user !== noticesUser || password !== noticesPassword)
      return reply.code(403).send({ message: "Wrong user or password." });
    const session = randomBytes(16).toString("hex");
    sessions.add(session);
    return reply.header("set-cookie", `SID=${session}; Path=/notices; HttpOnly`).send({ ok: true });
  });
  app.post("/notices/v1/logout", async (request) => ({ ended: sessions.delete(sessionOf(request)) }));
  const guard = async (request: FastifyRequest, reply: FastifyReply) => {
    if (!sessions.has(sessionOf(request)))
      return unauthorized(reply, 'Cookie realm="notices"', "Sign in first.");
  };
  app.get("/notices/v1/notices", { preHandler: guard }, list(25, noticeOf));
}
