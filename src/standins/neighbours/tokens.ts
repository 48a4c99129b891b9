/** Access tokens that a service has issued, and guards for its addresses. */

import { randomBytes } from "node:crypto";
import type { FastifyReply, FastifyRequest } from "fastify";

export const TOKEN_SECONDS = 120;

/** Tokens that were issued and have not ended. */
export class Tokens {
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

export function unauthorized(reply: FastifyReply, challenge: string, message: string): FastifyReply {
  return reply.code(401).header("www-authenticate", challenge).send({ message });
}

/** A guard that wants a header or a query parameter to hold a key. */
export function keyGuard(place: "header" | "query", name: string, key: string) {
  return async (request: FastifyRequest, reply: FastifyReply) => {
    const given =
      place === "header" ? request.headers[name] : (request.query as Record<string, unknown>)[name];
    if (given !== key) return reply.code(403).send({ message: "The key is unknown." });
  };
}

/** HTTP Basic, RFC 7617. */
export function basicGuard(realm: string, user: string, password: string) {
  const expected = `Basic ${Buffer.from(`${user}:${password}`).toString("base64")}`;
  return async (request: FastifyRequest, reply: FastifyReply) => {
    if (request.headers.authorization !== expected)
      return unauthorized(reply, `Basic realm="${realm}"`, "Wrong user or password.");
  };
}
