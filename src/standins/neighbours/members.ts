/** Members: signed in to by a person. */

import { createHash, randomBytes } from "node:crypto";
import type { FastifyInstance } from "fastify";
import { NEIGHBOURS_DEFAULTS } from "./defaults.js";
import { addMembersOData } from "./members-odata.js";
import { TOKEN_SECONDS, Tokens } from "./tokens.js";
import type { World } from "./world.js";

const sha256 = (text: string) => createHash("sha256").update(text).digest("base64url");

/** RFC 6749 section 4.1 with RFC 7636; whoever opens the page has signed in. Refresh tokens rotate. */
export function addMembers(app: FastifyInstance, world: World): void {
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
  addMembersOData(app, world, tokens.guard);
}
