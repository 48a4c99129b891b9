/**
 * Feedback: a list by offset, newest first, that changes while it is read: with every few requests a comment
 * comes in at its head, and now and then one is deleted or edited.
 */

import type { FastifyInstance } from "fastify";
import { comment } from "./data.js";
import { NEIGHBOURS_DEFAULTS } from "./defaults.js";
import { keyGuard } from "./tokens.js";

const COMMENTS = 230;
const MOST_PER_PAGE = 50;

export function addFeedback(app: FastifyInstance): void {
  let newest = COMMENTS;
  let served = 0;
  let list = Array.from({ length: COMMENTS }, (_, i) => ({ id: COMMENTS - i, edits: 0 }));
  const preHandler = keyGuard("header", "x-guest-book", NEIGHBOURS_DEFAULTS.feedbackKey);
  app.get("/feedback/v1/comments", { preHandler }, async (request, reply) => {
    const query = request.query as Record<string, string | undefined>;
    const offset = Number(query.offset ?? 0);
    const limit = Number(query.limit ?? 20);
    if (limit > MOST_PER_PAGE) return reply.code(400).send({ message: `limit is at most ${MOST_PER_PAGE}.` });
    const shown = list.slice(offset, offset + limit);
    const answer = { total: list.length, comments: shown.map(({ id, edits }) => comment(id, edits)) };
    change(++served, offset + limit);
    return answer;
  });
  app.get("/_feedback", async () => list.map(({ id, edits }) => comment(id, edits)));

  /** What guests do between two requests; `seen` comments have been given out by the last one. */
  function change(turn: number, seen: number): void {
    if (turn % 3 === 1) list = [{ id: ++newest, edits: 0 }, ...list];
    // deleted among those that were given out already: the rest moves up
    if (turn % 4 === 2)
      list = list.filter((_, i) => i !== Math.min(seen - 5, 5) && i !== Math.min(seen - 4, 6));
    if (turn % 5 === 0 && list[10] !== undefined) list[10].edits++;
  }
}
