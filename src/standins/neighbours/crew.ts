/** Crew: an object describes its fields; its rows are asked for by naming them, a star is refused. Keyset pages. */

import type { FastifyInstance } from "fastify";
import { SHIFT_FIELDS, shift } from "./data.js";
import { NEIGHBOURS_DEFAULTS } from "./defaults.js";
import { keyGuard } from "./tokens.js";

const SHIFTS = 90;
const PAGE = 25;

export function addCrew(app: FastifyInstance): void {
  const preHandler = keyGuard("header", "x-crew-key", NEIGHBOURS_DEFAULTS.crewKey);
  app.get("/crew/v1/objects", { preHandler }, async () => ({ objects: [{ name: "shift" }] }));
  app.get("/crew/v1/objects/shift", { preHandler }, async () => ({
    object: "shift",
    fields: SHIFT_FIELDS.map((name) => ({ name })),
  }));
  app.get("/crew/v1/objects/shift/rows", { preHandler }, async (request, reply) => {
    const { fields = "", after = "0" } = request.query as Record<string, string | undefined>;
    const names = fields.split(",");
    const unknown = names.filter((name) => !SHIFT_FIELDS.includes(name));
    if (unknown.length > 0) return reply.code(400).send({ message: `No such field: ${unknown.join(", ")}.` });
    const all = Array.from({ length: SHIFTS }, (_, index) => shift(index));
    const rows = all.filter(({ id }) => Number(id) > Number(after)).slice(0, PAGE);
    return { rows: rows.map((row) => Object.fromEntries(names.map((name) => [name, row[name]]))) };
  });
}
