/** What every stand-in has: a published limit that is enforced, faults, a request log, tokens. */

import type { FastifyInstance, FastifyReply, FastifyRequest } from "fastify";
import { pickAt, randomAt } from "./random.js";

export interface ServiceOptions {
  /** port on 127.0.0.1; 0 takes a free one */
  readonly port?: number | undefined;
  readonly seed?: number | undefined;
  /** requests in any second, at most; null: no limit */
  readonly perSecond?: number | null | undefined;
  /** share of responses that fail, from 0 to 1 */
  readonly failing?: number | undefined;
  /** the ways in which they fail */
  readonly faults?: readonly FaultKind[] | undefined;
  /** time before a response, in ms */
  readonly latencyMs?: number | undefined;
}

export interface LogEntry {
  readonly atMs: number;
  readonly method: string;
  readonly path: string;
  readonly query: Readonly<Record<string, string>>;
  status: number;
}

export type FaultKind =
  | "unavailable"
  | "dropped"
  | "truncated"
  | "web page"
  | "too many"
  | "wrong length"
  | "error object";
/** Those that any client can know as failures. */
const FAULTS: readonly FaultKind[] = ["unavailable", "dropped", "truncated", "web page"];
/** These as well: an error object with status 200 is a failure only to one who knows this API. */
export const ALL_FAULTS: readonly FaultKind[] = [...FAULTS, "too many", "wrong length", "error object"];
const MAX_LOG = 200_000;
const WINDOW_MS = 1000;

/** Counts requests in a sliding second, as a strict API does. */
export class Limiter {
  private readonly arrivals: number[] = [];

  constructor(
    readonly limit: number | null,
    /** tells nothing of the limit: a refusal is all that shows it */
    readonly silent = false,
  ) {}

  /** Counts one request and sets the headers that tell of the limit; false when it is one too many. */
  admit(reply: FastifyReply): boolean {
    if (this.limit === null) return true;
    const now = Date.now();
    while (this.arrivals.length > 0 && this.arrivals[0]! <= now - WINDOW_MS) this.arrivals.shift();
    const admitted = this.arrivals.length < this.limit;
    if (admitted) this.arrivals.push(now);
    if (this.silent) return admitted;
    const resetSeconds = Math.ceil(((this.arrivals[0] ?? now) + WINDOW_MS - now) / 1000);
    reply.header("ratelimit-policy", `"default";q=${this.limit};w=${WINDOW_MS / 1000}`);
    reply.header("ratelimit", `"default";r=${this.limit - this.arrivals.length};t=${resetSeconds}`);
    if (!admitted) reply.header("retry-after", String(resetSeconds));
    return admitted;
  }
}

/** Adds the request log, latency and faults to a service; paths that begin with `/_` are for tests and spared. */
export function addServiceHooks(app: FastifyInstance, options: ServiceOptions): LogEntry[] {
  const { seed = 1, failing = 0, faults = FAULTS, latencyMs = 0 } = options;
  const log: LogEntry[] = [];
  const entries = new WeakMap<FastifyRequest, LogEntry>();
  const spoiled = new WeakMap<FastifyRequest, FaultKind>();
  let served = 0;
  app.addHook("onRequest", async (request, reply) => {
    const path = request.url.split("?")[0]!;
    if (path.startsWith("/_")) return;
    const signsIn = /\/(token|login|logout|authorize)$/.test(path);
    const query = request.query as Record<string, string>;
    const entry = { atMs: Date.now(), method: request.method, path, query, status: 0 };
    entries.set(request, entry);
    if (log.length < MAX_LOG) log.push(entry);
    if (latencyMs > 0) await new Promise((resolve) => setTimeout(resolve, latencyMs));
    const turn = ++served;
    // whoever signs in cannot know the services' own error objects
    if (signsIn || randomAt(seed + 17, turn) >= failing) return;
    const kind = pickAt(faults, seed + 4001, turn * 7 + 3);
    if (kind === "dropped") {
      request.raw.socket.destroy();
      return reply.hijack();
    }
    if (kind === "unavailable")
      return reply.code(503).header("retry-after", "0").send({ message: "resting a moment" });
    if (kind === "web page")
      return reply.type("text/html").send("<html><title>Gateway</title>one moment</html>");
    if (kind === "too many")
      return reply.code(429).header("retry-after", "0").send({ message: "not so fast" });
    if (kind === "error object") return reply.send({ error: { code: "busy", message: "one moment" } });
    // the body is spoiled in onSend
    spoiled.set(request, kind);
  });
  app.addHook("onSend", async (request, reply, payload) => {
    const kind = spoiled.get(request);
    if (kind === undefined || typeof payload !== "string") return payload;
    if (kind === "truncated") return payload.slice(0, Math.floor(payload.length * 0.7));
    // more is announced than comes
    reply.header("content-length", String(Buffer.byteLength(payload) + 9));
    reply.raw.once("finish", () => request.raw.socket.destroy());
    return payload;
  });
  app.addHook("onResponse", async (request, reply) => {
    const entry = entries.get(request);
    if (entry !== undefined) entry.status = reply.statusCode;
  });
  app.get("/_log", async () => log);
  return log;
}
