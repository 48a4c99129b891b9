/** Notices: a session by cookie; the next page by a Link header (RFC 8288). */

import { randomBytes } from "node:crypto";
import type { FastifyInstance, FastifyReply, FastifyRequest } from "fastify";
import { noticeOf } from "./data.js";
import { NEIGHBOURS_DEFAULTS } from "./defaults.js";
import { unauthorized } from "./tokens.js";

const NOTICES = 25;
const PAGE = 10;

/** A sign-in request that gives a cookie, and a sign-out. */
export function addNotices(app: FastifyInstance): void {
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
  app.get("/notices/v1/notices", { preHandler: guard }, async (request, reply) => {
    const page = Number((request.query as { page?: string }).page ?? 1);
    const from = (page - 1) * PAGE;
    if (from + PAGE < NOTICES) reply.header("link", `</notices/v1/notices?page=${page + 1}>; rel="next"`);
    return {
      items: Array.from({ length: Math.max(0, Math.min(PAGE, NOTICES - from)) }, (_, i) =>
        noticeOf(from + i),
      ),
    };
  });
}
