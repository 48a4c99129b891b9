/** Bridges: one account's chosen streams, carried into one warehouse. */

import pLimit from "p-limit";
import { checkValue } from "../core/define/check.js";
import { codeSource } from "../core/define/connector.js";
import {
  type BridgeStreamInput,
  bridgeStreamsSchema,
  checkpointSchema,
  driftSchema,
  quarantineSchema,
} from "../core/define/project-schema.js";
import { nameText } from "../core/define/text-schemas.js";
import { WRITE_METHODS } from "../core/define/write-method.js";
import { BridgeError, describeWhere, toBridgeError } from "../core/errors.js";
import { durationMs } from "../core/language/duration.js";
import { oneQuery } from "../core/language/one-query.js";
import type { DriftPolicy } from "../core/shape/drift-policy.js";
import { snakeCase } from "../core/shape/naming.js";
import type { RunRecorder, StartCursors } from "../http/har.js";
import type {
  ErrorRecord,
  RunOutcome,
  ViewQueries,
  Warehouse,
  WarehouseSession,
} from "../warehouse/warehouse.js";
import { type Api, type ApiInside, accountKey, insideOf, takeSpent } from "./api.js";
import { type BridgeStream, bridgeStream } from "./bridge-stream.js";
import { carryStream } from "./carry-stream.js";
import type { OnRunEvent, RunReport, StreamReport } from "./events.js";
import { type MadeViews, makeViewsOf } from "./make-views.js";
import type { QuarantineRule } from "./stream-totals.js";

/** What a bridge joins, and how its streams are written. */
export interface BridgeOptions {
  readonly from: Api;
  readonly to: Warehouse;
  /** the bridge's name in the ledger; default: the connector's name */
  readonly name?: string | undefined;
  /** schema of the tables; default: the bridge's name */
  readonly schema?: string | undefined;
  /** streams to carry, with what the bridge says of each; default: all of them */
  readonly streams?: Readonly<Record<string, BridgeStreamInput>> | undefined;
  /** rows and time (ISO 8601) between two checkpoints, at most */
  readonly checkpoint?:
    | { readonly rows?: number | undefined; readonly every?: string | undefined }
    | undefined;
  /** what may go to quarantine in one run of a stream before it stops; default: half of what came */
  readonly quarantine?: QuarantineRule | undefined;
  /** what happens to fields, lists and types that are new in tables that stand; default: they are taken in */
  readonly drift?: Partial<DriftPolicy> | undefined;
  /** queries by the name of the view that each becomes after a run; their tables are named with their schema */
  readonly views?: Readonly<Record<string, string>> | undefined;
}

/** What may be said of one run. */
export interface RunOptions {
  /** some of the bridge's streams; default: all of them */
  readonly streams?: readonly string[] | undefined;
  /** Aborted: reading stops, what was read is committed, and the report says "stopped". */
  readonly signal?: AbortSignal | undefined;
  /** notes what the run begins with, so that it can be replayed */
  readonly recorder?: RunRecorder | undefined;
  /** begin with these cursors instead of the ledger's: those of a recording */
  readonly cursors?: StartCursors | undefined;
  readonly onEvent?: OnRunEvent | undefined;
}

/** One account's chosen streams, on their way into one warehouse. */
export interface Bridge {
  readonly name: string;
  readonly schema: string;
  readonly warehouse: Warehouse;
  readonly streams: ReadonlyMap<string, BridgeStream>;
  /** by name */
  readonly views: ViewQueries;
  /**
   * Runs once. A failing stream does not stop the others, and is told in the report.
   * @throws BridgeError when nothing could begin: WAREHOUSE_*, TABLE_NOT_OURS, CONFIG_UNKNOWN_NAME
   */
  run(options?: RunOptions): Promise<RunReport>;
}

/**
 * Joins an API and a warehouse. What streams are may have to be asked of the API first.
 * @throws BridgeError CONFIG_INVALID, CONFIG_UNKNOWN_KEY, CONFIG_UNKNOWN_NAME
 */
export async function openBridge(options: BridgeOptions): Promise<Bridge> {
  const { to: warehouse } = options;
  const api = insideOf(options.from);
  const { connector } = api;
  const { name = connector.connector, schema = name } = options;
  const rule = checkValue(checkpointSchema, options.checkpoint ?? {}, codeSource("openBridge.checkpoint"));
  const quarantine = checkValue(
    quarantineSchema,
    options.quarantine ?? {},
    codeSource("openBridge.quarantine"),
  );
  const drift = checkValue(driftSchema, options.drift ?? {}, codeSource("openBridge.drift"));
  const chosen = checkValue(
    bridgeStreamsSchema,
    options.streams ?? (await allStreams(api)),
    codeSource("openBridge.streams"),
  );
  const streams = new Map<string, BridgeStream>();
  for (const [stream, said] of Object.entries(chosen))
    streams.set(stream, await bridgeStream(api, name, stream, said, drift));
  const checkpoint = { rows: rule.rows, everyMs: durationMs(rule.every) };
  const views = viewQueries(options.views ?? {}, name);
  return {
    name,
    schema,
    warehouse,
    streams,
    views,
    async run({ streams: only, signal, recorder, cursors, onEvent = () => {} } = {}) {
      const names = chooseStreams(streams, only, name);
      const session = await warehouse.open();
      try {
        return await runStreams({
          api,
          session,
          name,
          schema,
          streams,
          views,
          names,
          checkpoint,
          quarantine,
          signal,
          recorder,
          cursors,
          onEvent,
        });
      } finally {
        await session.close();
      }
    },
  };
}

/** @throws BridgeError VIEW_INVALID */
function viewQueries(views: Readonly<Record<string, string>>, bridge: string): ViewQueries {
  const queries = Object.entries(views).map(([name, text]) => {
    const where = { bridge, table: name };
    if (!nameText.safeParse(name).success)
      throw new BridgeError("VIEW_INVALID", `A view cannot have the name ${JSON.stringify(name)}.`, {
        where,
        hint: "Name it, and its file, in lower-case letters, digits and _, beginning with a letter.",
      });
    try {
      return [name, oneQuery(text)] as const;
    } catch (error) {
      throw toBridgeError(error, where);
    }
  });
  return new Map(queries);
}

async function allStreams(api: ApiInside): Promise<Record<string, BridgeStreamInput>> {
  return Object.fromEntries((await api.streamNames()).map((stream) => [stream, {}]));
}

function chooseStreams(
  streams: ReadonlyMap<string, BridgeStream>,
  only: readonly string[] | undefined,
  bridge: string,
): readonly string[] {
  for (const stream of only ?? []) {
    if (streams.has(stream)) continue;
    const message = `Bridge ${bridge} carries no stream ${stream}.`;
    const hint = `Its streams: ${[...streams.keys()].join(", ")}.`;
    throw new BridgeError("CONFIG_UNKNOWN_NAME", message, { where: { bridge }, hint });
  }
  return only ?? [...streams.keys()];
}

/** Limits are told for a day at most. */
const DAY_MS = 86_400_000;

interface RunParts {
  readonly api: ApiInside;
  readonly session: WarehouseSession;
  readonly name: string;
  readonly schema: string;
  readonly streams: ReadonlyMap<string, BridgeStream>;
  readonly views: ViewQueries;
  readonly names: readonly string[];
  readonly checkpoint: { readonly rows: number; readonly everyMs: number };
  readonly quarantine: QuarantineRule;
  readonly signal: AbortSignal | undefined;
  readonly recorder: RunRecorder | undefined;
  readonly cursors: StartCursors | undefined;
  readonly onEvent: OnRunEvent;
}

async function runStreams(parts: RunParts): Promise<RunReport> {
  const { api, session, name: bridge } = parts;
  const { ledger } = session;
  const startedAtMs = api.clock.now();
  api.beginRun();
  for (const { atMs, group, cost } of await ledger.spentSince(accountKey(api), startedAtMs - DAY_MS))
    api.gate.noteEarlier(atMs, group, cost);
  const run = await ledger.startRun({ bridge, startedAtMs });
  try {
    return await runStarted(parts, run, startedAtMs);
  } finally {
    ledger.letGo(bridge);
  }
}

async function runStarted(parts: RunParts, run: number, startedAtMs: number): Promise<RunReport> {
  const { api, session, name: bridge, schema, streams, names, checkpoint, quarantine, onEvent } = parts;
  const { ledger } = session;
  // waiting for a checkpoint to fall due would be waiting like any other: it would pass at once
  const due = api.replays ? { ...checkpoint, everyMs: Number.POSITIVE_INFINITY } : checkpoint;
  parts.recorder?.runStarted(startedAtMs);
  onEvent({ type: "run_started", run, bridge, streams: names });
  // a wrong secret or a broken warehouse concerns all streams: the others stop instead of failing one by one
  const fatal = new AbortController();
  const signal = AbortSignal.any([fatal.signal, ...(parts.signal === undefined ? [] : [parts.signal])]);
  api.expectListeners(signal, fatal.signal);
  const rootTables = new Set([...streams.keys()].map(snakeCase));
  const atOnce = pLimit(api.connector.api.rate_limit.concurrency);
  const carry = async (stream: string): Promise<StreamReport> => {
    const { write: mode, deletes, into, drift } = streams.get(stream)!;
    const write = WRITE_METHODS[mode];
    const { recorder, cursors } = parts;
    const own = { recorder, cursors: cursors?.[stream] };
    const common = {
      api,
      session,
      run,
      bridge,
      schema,
      checkpoint: due,
      quarantine,
      rootTables,
      startedAtMs,
      onEvent,
      ...own,
    };
    const report = await carryStream({
      ...common,
      stream,
      choices: streams,
      write,
      deletes,
      into,
      drift,
      signal,
    });
    const { error } = report;
    if (error?.kind === "sign_in" || error?.kind === "warehouse") {
      const message = `Stopped, for stream ${stream} has failed with ${error.code}, which concerns all streams.`;
      fatal.abort(
        new BridgeError("STOPPED", message, { hint: `Mend what stream ${stream} tells of, then run again.` }),
      );
    }
    return report;
  };
  const reports = await Promise.all(names.map((stream) => atOnce(() => carry(stream))));
  const carried = makeReport(run, bridge, startedAtMs, api.clock.now(), reports);
  const hasWarehouse = carried.error?.kind !== "warehouse";
  const { views, error: viewError } = hasWarehouse
    ? await makeViewsOf(session, { bridge, schema, run }, parts.views, api.clock.now())
    : NO_VIEWS;
  const report = { ...carried, views, error: carried.error ?? viewError, endedAtMs: api.clock.now() };
  const { outcome, endedAtMs, error } = report;
  await ledger
    .endRun({
      run,
      outcome,
      endedAtMs,
      errorCode: error?.code,
      errorMessage: error?.message,
      streams: reports.map((each) => ({ ...each, failure: each.error && errorRecord(each.error) })),
      spent: takeSpent(api),
    })
    .catch((thrown: unknown) => {
      // the streams' own failure explains more than the ledger's, which mostly follows from it
      if (error === undefined) throw toBridgeError(thrown, { bridge });
    });
  onEvent({ type: "run_ended", report });
  return report;
}

/** -1 is the heaviest, then the highest. */
function heavier(a: number, b: number): boolean {
  return b >= 0 && (a < 0 || a > b);
}

function errorRecord({ code, message, where, hint }: BridgeError): ErrorRecord {
  return { code, message, where: describeWhere(where), hint };
}

const NO_VIEWS: MadeViews = { views: [], error: undefined };

function makeReport(
  run: number,
  bridge: string,
  startedAtMs: number,
  endedAtMs: number,
  streams: readonly StreamReport[],
): Omit<RunReport, "views"> {
  // a failure tells more than what may be missing, that more than a limit, and that more than being stopped
  const errors = streams.flatMap(({ error }) => error ?? []);
  const weight = ({ kind }: BridgeError) => ["stopped", "limit", "incomplete"].indexOf(kind);
  const error = errors.reduce<BridgeError | undefined>(
    (worst, each) => (worst === undefined || heavier(weight(each), weight(worst)) ? each : worst),
    undefined,
  );
  const one = (outcome: RunOutcome) => streams.some((each) => each.outcome === outcome);
  const outcome = (["failed", "incomplete", "paused", "stopped"] as const).find(one) ?? "done";
  return { run, bridge, outcome, startedAtMs, endedAtMs, streams, error };
}
