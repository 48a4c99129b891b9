/** The logbook: a values API, signed in to by a service account. Rows are lists, the first one is the header. */

import type { FastifyInstance } from "fastify";
import { type JWTPayload, jwtVerify } from "jose";
import { LOG_HEADER, logRow } from "./data.js";
import { TOKEN_SECONDS, Tokens } from "./tokens.js";

export const ROBOT = "robot@logbook.huts.example";
const LOG_ROWS = 300;

/** RFC 7523: a JWT signed by the service account's key. */
export function addLogbook(app: FastifyInstance, publicKey: Parameters<typeof jwtVerify>[1] & object): void {
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
  app.get("/logbook/v1/values", { preHandler: tokens.guard }, async () => ({
    range: `entries!A1:F${LOG_ROWS + 1}`,
    values: [LOG_HEADER, ...Array.from({ length: LOG_ROWS }, (_, index) => logRow(index))],
  }));
}

type CryptoKeyLike = Exclude<Parameters<typeof jwtVerify>[1], (...args: never[]) => unknown>;
