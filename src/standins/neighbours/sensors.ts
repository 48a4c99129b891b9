/**
 * Sensors: a key in the query, readings by hut, in windows of time, by page numbers. It has a limit that it tells
 * nothing of: one request too many in a second is a plain 429.
 */

import type { FastifyInstance } from "fastify";
import { Limiter } from "../service.js";
import { reading, SENSOR_HUTS, YEAR_MS } from "./data.js";
import { NEIGHBOURS_DEFAULTS } from "./defaults.js";
import { keyGuard } from "./tokens.js";
import type { World } from "./world.js";

const HOUR_MS = 3_600_000;
/** Hours of readings that are there at the beginning: January. */
const HOURS = 31 * 24;
const MOST_PER_PAGE = 100;
const MOST_DAYS = 14;

export function addSensors(app: FastifyInstance, world: World): void {
  const limiter = new Limiter(world.sensorsPerSecond, true);
  const preHandler = keyGuard("query", "key", NEIGHBOURS_DEFAULTS.sensorsKey);
  app.get("/sensors/v1/huts", { preHandler }, async () => ({
    huts: SENSOR_HUTS.map((id) => ({ id, sensor: `S-${id}` })),
  }));
  app.get("/sensors/v1/huts/:hut/readings", { preHandler }, async (request, reply) => {
    if (!limiter.admit(reply)) return reply.code(429).send({ message: "Too many requests." });
    const hut = Number((request.params as { hut: string }).hut);
    const query = request.query as Record<string, string | undefined>;
    if (!SENSOR_HUTS.includes(hut)) return reply.code(404).send({ message: "This hut has no sensor." });
    const from = Date.parse(query.from ?? "");
    const to = Date.parse(query.to ?? "");
    if (Number.isNaN(from) || Number.isNaN(to))
      return reply.code(400).send({ message: "from and to are needed." });
    if (to - from > MOST_DAYS * 24 * HOUR_MS)
      return reply.code(422).send({ message: `At most ${MOST_DAYS} days at a time.` });
    const size = Number(query.per_page ?? 50);
    if (size > MOST_PER_PAGE)
      return reply.code(400).send({ message: `per_page is at most ${MOST_PER_PAGE}.` });
    const first = Math.max(0, Math.ceil((from - YEAR_MS) / HOUR_MS));
    const end = Math.max(first, Math.min(HOURS + world.hoursPassed, Math.ceil((to - YEAR_MS) / HOUR_MS)));
    const page = Number(query.page ?? 1);
    const begin = first + (page - 1) * size;
    const hours = Array.from({ length: Math.max(0, Math.min(size, end - begin)) }, (_, i) => begin + i);
    return { page, readings: hours.map((hour) => reading(hut, hour)) };
  });
}
