/** `probe`: a checklist from the address to the warehouse, each line with its time and what was found. */

import { checkValue } from "../core/define/check.js";
import { codeSource } from "../core/define/connector.js";
import { type BridgeStreamInput, bridgeStreamsSchema } from "../core/define/project-schema.js";
import { schemeName, schemesOf } from "../core/define/sign-in-schema.js";
import { WRITE_METHODS } from "../core/define/write-method.js";
import { BridgeError, toBridgeError } from "../core/errors.js";
import { nameOfTable } from "../core/into/user-table.js";
import { warehouseNeeds } from "../core/into/warehouse-needs.js";
import { readLimits } from "../core/pace/limit-headers.js";
import { OPEN_POLICY } from "../core/shape/drift-policy.js";
import { checkFirstPage } from "../core/stream/check-first-page.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import { ANY_NAMES, shapeOf } from "../core/stream/shape-of.js";
import { startValue } from "../core/track/cursor.js";
import { newTally } from "../http/exchange.js";
import type { HttpResponse } from "../http/send.js";
import type { Warehouse } from "../warehouse/warehouse.js";
import { type Api, type ApiInside, insideOf } from "./api.js";
import type { AskEvent } from "./ask/asker.js";
import { everyPage } from "./ask/stream-ask.js";
import { asBridged, bridgeStream } from "./bridge-stream.js";
import type { Known } from "./odata-service.js";
import { userTableOf } from "./open-tables.js";
import { hostOf } from "./ports.js";

/** One line of the checklist. `ms` is how long it took. */
export interface ProbeLine {
  readonly check: string;
  /** note: good to know, nothing is wrong · left_out: another line must be good first */
  readonly outcome: "good" | "note" | "bad" | "left_out";
  readonly ms: number;
  readonly found: string;
  readonly error?: BridgeError | undefined;
}

type Found = Pick<ProbeLine, "outcome" | "found">;

/** What is to be checked. */
export interface ProbeOptions {
  readonly api: Api;
  /** streams to ask for one record each; default: all of the connector */
  readonly streams?: readonly string[] | undefined;
  readonly warehouse?: ProbedWarehouse | undefined;
  readonly signal?: AbortSignal | undefined;
  readonly onLine?: ((line: ProbeLine) => void) | undefined;
}

/** The warehouse of a bridge, and what the bridge does there. */
export interface ProbedWarehouse {
  readonly warehouse: Warehouse;
  readonly schema: string;
  /** what the bridge says of its streams; default: all go into tables of their own */
  readonly streams?: Readonly<Record<string, BridgeStreamInput>> | undefined;
  readonly hasViews?: boolean | undefined;
}

/** A clock that is off by more than this is told of: signed requests and cursors suffer. In ms. */
const CLOCK_TOLERANCE_MS = 60_000;

/** Goes through the checklist; never throws, what is wrong is in the lines. */
export async function probe(options: ProbeOptions): Promise<ProbeLine[]> {
  const list = new Checklist(options.onLine ?? (() => {}));
  const { signal, warehouse } = options;
  const api = insideOf(options.api);
  const base = new URL(api.account.baseUrl);
  let ready = await list.run("address", () => checkAddress(api, base));
  ready = await list.when(ready, base.protocol === "https:" ? "TLS" : "connection", () =>
    checkConnection(api, signal),
  );
  ready = await list.when(ready, "sign-in", () => checkSignIn(api, signal));
  const answers: HttpResponse[] = [];
  const { probe: probeRequest } = api.connector.api;
  if (probeRequest !== undefined) {
    await list.when(ready, "probe request", async () => {
      const answer = await api.ask(probeRequest.get, signal);
      answers.push(answer);
      return `GET ${probeRequest.get} answers ${answer.status}`;
    });
  }
  let names = options.streams ?? Object.keys(api.connector.streams);
  if (api.odata !== undefined) {
    ready = await list.when(ready, "metadata", async () => {
      const found = await api.streamNames();
      names = options.streams ?? found;
      return metadataText(await api.odata!.learn());
    });
  }
  for (const stream of names)
    await list.when(ready, `stream ${stream}`, () => checkStream(api, stream, signal));
  await list.note(ready && answers.length > 0, "clock", () => checkClock(api, answers[0]!));
  await list.note(ready && answers.length > 0, "limits", () => checkLimits(api, answers[0]!));
  if (warehouse !== undefined) await checkWarehouse(list, api, ready, warehouse);
  return list.lines;
}

class Checklist {
  readonly lines: ProbeLine[] = [];

  constructor(private readonly onLine: (line: ProbeLine) => void) {}

  /** Runs a check; true when nothing is wrong. */
  async run(check: string, work: () => Promise<string | Found>): Promise<boolean> {
    const from = performance.now();
    try {
      const result = await work();
      const found = typeof result === "string" ? { outcome: "good" as const, found: result } : result;
      this.add({ check, ms: performance.now() - from, ...found });
      return true;
    } catch (thrown) {
      const error = toBridgeError(thrown);
      this.add({ check, outcome: "bad", ms: performance.now() - from, found: error.message, error });
      return false;
    }
  }

  async when(ready: boolean, check: string, work: () => Promise<string | Found>): Promise<boolean> {
    if (ready) return this.run(check, work);
    this.add({ check, outcome: "left_out", ms: 0, found: "needs the lines above" });
    return false;
  }

  /** A check that cannot fail, only tell. */
  async note(ready: boolean, check: string, work: () => Found): Promise<void> {
    if (ready) this.add({ check, ms: 0, ...work() });
  }

  private add(line: ProbeLine): void {
    this.lines.push(line);
    this.onLine(line);
  }
}

async function checkAddress({ network }: ApiInside, base: URL): Promise<string> {
  const host = hostOf(base.href);
  const address = await network.addressOf(host).catch((cause: unknown) => {
    // behind a proxy, names of the outside are often known to the proxy only
    if (network.isProxied()) return "left to the proxy";
    throw new BridgeError("HOST_UNKNOWN", `No host is known by the name ${host}.`, { cause });
  });
  return `${base.origin} is ${address}`;
}

/** Any answer shows that the way is open, and over https that the certificate is good. */
async function checkConnection(api: ApiInside, signal: AbortSignal | undefined): Promise<string> {
  const { status } = await api.reach(signal);
  const { protocol, host } = new URL(api.account.baseUrl);
  return protocol === "https:"
    ? `${host} shows a good certificate`
    : `${host} answers (${status}); plain http, on this machine`;
}

async function checkSignIn(api: ApiInside, signal: AbortSignal | undefined): Promise<string> {
  await api.signIn(signal);
  const schemes = schemesOf(api.connector.api.sign_in);
  if (schemes.length === 0) return "none is needed";
  return schemes
    .map((scheme) => ("oauth2" in scheme ? `OAuth 2.0 ${schemeName(scheme)}` : schemeName(scheme)))
    .join(" and ");
}

function metadataText({ root, streams }: Known): string {
  const { sets } = root.model;
  const shown = sets.slice(0, 6).map(({ name }) => name);
  const more = sets.length > shown.length ? ", …" : "";
  return `OData ${root.version}, ${sets.length} sets: ${shown.join(", ")}${more}; ${streams.size} carried`;
}

/** The first page as a run would ask for it and look at it; what a run would tell of it is a note. */
async function checkStream(
  api: ApiInside,
  name: string,
  signal: AbortSignal | undefined,
): Promise<string | Found> {
  const stream = await api.stream(name);
  if (stream.definition.report !== undefined) return "comes as a report: a probe submits none";
  const notices: string[] = [];
  const onEvent = (event: AskEvent) => {
    if (event.type === "notice") notices.push(event.message);
  };
  const nowMs = api.clock.now();
  const ask = await api.openStream(name, { tally: newTally(), signal, onEvent, nowMs });
  const field = ask.cursorField;
  const since = startValue(stream.cursor?.start, nowMs);
  let result: string | Found | undefined;
  for await (const page of everyPage(ask, { since, once: true })) {
    const slices = [...page.shape(shapeOf(stream, { names: ANY_NAMES }))];
    const issues = slices.flatMap((slice) => slice.issues);
    if (page.received > 0) checkFirstPage(stream, page, slices[0]!, field, false);
    if (issues.length > 0) notices.push(`${issues.length} would go to quarantine: ${issues[0]!.message}.`);
    if (page.received > 0 && page.records.length === 0)
      notices.push(
        `${page.received} records came and all are left out: those before ${since ?? "the cursor's start"}, or by where`,
      );
    const found = [pageText(page.records, stream), ...notices].join("; ");
    result = notices.length === 0 ? found : { outcome: "note", found };
    // that a last page may not be the last is told behind it
    if (page.next.at !== "end") return result;
  }
  return result ?? "reachable; no page came";
}

function pageText(records: readonly unknown[], { isControl }: CompiledStream): string {
  const [first] = records;
  if (first === undefined) return "reachable; the first page is empty";
  const all = typeof first === "object" && first !== null ? Object.keys(first) : [typeof first];
  const fields = all.filter((field) => isControl?.(field) !== true);
  const more = fields.length > 6 ? ", …" : "";
  return `${records.length} records on the first page: ${fields.slice(0, 6).join(", ")}${more}`;
}

function checkClock(api: ApiInside, answer: HttpResponse): Found {
  const serverMs = Date.parse(answer.headers.date ?? "");
  if (Number.isNaN(serverMs)) return { outcome: "note", found: "the API does not tell its time" };
  const offMs = api.clock.now() - serverMs;
  const seconds = Math.round(Math.abs(offMs) / 1000);
  if (Math.abs(offMs) <= CLOCK_TOLERANCE_MS)
    return { outcome: "good", found: `within ${Math.max(1, seconds)} s of the API's` };
  const way = offMs > 0 ? "ahead of" : "behind";
  return { outcome: "note", found: `this machine is ${seconds} s ${way} the API: set its clock` };
}

function checkLimits(api: ApiInside, answer: HttpResponse): Found {
  const reported = readLimits(answer.headers, api.clock.now());
  const { per_second: perSecond, per_minute: perMinute, concurrency: atOnce } = api.connector.api.rate_limit;
  const declared = [
    perSecond === undefined ? [] : `${perSecond} a second`,
    perMinute === undefined ? [] : `${perMinute} a minute`,
    `${atOnce} at once`,
  ].flat();
  const limit =
    reported.limit === undefined
      ? ""
      : `${reported.limit} requests${reported.windowMs === undefined ? "" : ` in ${reported.windowMs / 1000} s`}`;
  const left = reported.remaining === undefined ? "" : `, ${reported.remaining} left`;
  if (limit === "" && left === "")
    return { outcome: "note", found: `the API tells none; declared: ${declared.join(", ")}` };
  return { outcome: "good", found: `the API tells ${limit}${left}; declared: ${declared.join(", ")}` };
}

async function checkWarehouse(
  list: Checklist,
  api: ApiInside,
  isReady: boolean,
  { warehouse, schema, streams, hasViews }: ProbedWarehouse,
): Promise<void> {
  let session: Awaited<ReturnType<Warehouse["open"]>> | undefined;
  const open = await list.run("warehouse", async () => {
    session = await warehouse.open();
    const { program, way } = await session.about();
    const found = `${warehouse.title} opens: ${program}`;
    if (way === undefined)
      return { outcome: "note", found: `${found}; rows and password go there in plain words, without TLS` };
    return way.startsWith("TLS") ? `${found}, over ${way}` : found;
  });
  const said = streams && checkValue(bridgeStreamsSchema, streams, codeSource("probe.streams"));
  const needs = warehouseNeeds(schema, said, hasViews);
  if (needs.schema !== undefined)
    await list.when(open, "write", async () => {
      await session!.tryWriting(schema);
      return `schema ${schema} and tables in it can be made and written`;
    });
  for (const [name, definition] of Object.entries(said ?? {}))
    if (definition.into !== undefined)
      await list.when(open && isReady, `into ${definition.into.table}`, async () => {
        const own = await bridgeStream(api, schema, name, definition, OPEN_POLICY);
        const { match } = await userTableOf(asBridged(await api.stream(name), own, api), {
          session: session!,
          schema,
          into: own.into!,
          write: WRITE_METHODS[own.write],
        });
        return `${nameOfTable(match.table)} takes ${name} as it stands`;
      });
  await session?.close();
}
