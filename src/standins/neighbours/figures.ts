/**
 * Figures: reports that are submitted, looked at until they are done, and downloaded as CSV from another origin
 * that wants no credentials. At most two dimensions and three measures in one report, two reports at once.
 */

import type { FastifyInstance } from "fastify";
import { figuresOf, MEASURES } from "./data.js";
import { NEIGHBOURS_DEFAULTS } from "./defaults.js";
import { keyGuard } from "./tokens.js";

const DIMENSIONS = ["day", "hut_id"];
const MOST_DIMENSIONS = 2;
const MOST_MEASURES = 3;
const MOST_AT_ONCE = 2;
/** looks until a report is done */
const LOOKS = 2;
/** one that nobody looks at is done some time as well */
const LONGEST_OPEN_MS = 500;
const HUTS = 10;
const DAYS = 31;

interface Report {
  readonly columns: readonly string[];
  readonly submittedMs: number;
  looks: number;
}

export function addFigures(app: FastifyInstance): void {
  const reports = new Map<string, Report>();
  const preHandler = keyGuard("header", "authorization", `Bearer ${NEIGHBOURS_DEFAULTS.figuresToken}`);
  const isOpen = ({ looks, submittedMs }: Report) =>
    looks < LOOKS && Date.now() - submittedMs < LONGEST_OPEN_MS;
  app.post("/figures/v1/reports", { preHandler }, async (request, reply) => {
    const { dimensions = [], measures = [] } = (request.body ?? {}) as Record<string, string[] | undefined>;
    const unknown = [
      ...dimensions.filter((name) => !DIMENSIONS.includes(name)),
      ...measures.filter((name) => !MEASURES.includes(name)),
    ];
    if (unknown.length > 0) return reply.code(400).send({ message: `Unknown: ${unknown.join(", ")}.` });
    if (dimensions.length > MOST_DIMENSIONS || measures.length > MOST_MEASURES)
      return reply
        .code(400)
        .send({ message: `At most ${MOST_DIMENSIONS} dimensions and ${MOST_MEASURES} measures.` });
    if ([...reports.values()].filter(isOpen).length >= MOST_AT_ONCE)
      return reply.code(409).send({ message: `At most ${MOST_AT_ONCE} reports at once.` });
    const id = `R${reports.size + 1}`;
    reports.set(id, { columns: [...dimensions, ...measures], submittedMs: Date.now(), looks: 0 });
    return reply.code(202).send({ report: { id, state: "queued" } });
  });
  app.get("/figures/v1/reports/:id", { preHandler }, async (request, reply) => {
    const { id } = request.params as { id: string };
    const report = reports.get(id);
    if (report === undefined) return reply.code(404).send({ message: "No such report." });
    report.looks++;
    if (isOpen(report)) return { report: { id, state: "at work" } };
    // another origin than the API's own: localhost instead of 127.0.0.1
    const port = new URL(`http://${request.headers.host}`).port;
    return { report: { id, state: "ready", file: `http://localhost:${port}/figures/files/${id}.csv` } };
  });
  app.get("/figures/files/:file", async (request, reply) => {
    const { file } = request.params as { file: string };
    const report = reports.get(file.replace(/\.csv$/, ""));
    if (report === undefined) return reply.code(404).send({ message: "No such file." });
    if (request.headers.authorization !== undefined)
      return reply.code(400).send({ message: "Credentials do not belong here." });
    const rows = Array.from({ length: HUTS * DAYS }, (_, i) =>
      figuresOf(1 + (i % HUTS), Math.floor(i / HUTS)),
    );
    const lines = rows.map((row) => report.columns.map((name) => String(row[name])).join(";"));
    return reply.type("text/csv").send(`${[report.columns.join(";"), ...lines].join("\r\n")}\r\n`);
  });
}
