/** `mend`: records in quarantine are tried again, after the connector, the bridge or the rules were put right. */

import { pageOfRecords } from "../core/ask/read-page.js";
import { applyRules } from "../core/ask/record-rules.js";
import { WRITE_METHODS, type WriteMethod } from "../core/define/write-method.js";
import { toBridgeError } from "../core/errors.js";
import { grouped } from "../core/grouped.js";
import { snakeCase } from "../core/shape/naming.js";
import type { CompiledStream } from "../core/stream/compile-stream.js";
import { addCounts, NO_ROWS, type RowCounts } from "../warehouse/row-counts.js";
import type { QuarantineFilter, Settled, StreamLoad, WarehouseSession } from "../warehouse/warehouse.js";
import { type Api, type ApiInside, accountKey, insideOf } from "./api.js";
import type { Bridge } from "./bridge.js";
import { asBridged, type BridgeStream } from "./bridge-stream.js";
import { openTables } from "./open-tables.js";

/** Which records are tried again; default: all that are open in the bridge. */
export interface MendOptions {
  readonly bridge: Bridge;
  readonly api: Api;
  readonly stream?: string | undefined;
  readonly reason?: string | undefined;
  readonly path?: string | undefined;
  readonly id?: string | undefined;
}

/** What became of a stream's records. */
export interface MendedStream {
  readonly stream: string;
  readonly tried: number;
  /** in the tables now */
  readonly mended: number;
  /** what stands of them is newer, or the same: it stays */
  readonly outdated: number;
  /** rules leave them out */
  readonly leftOut: number;
  /** they still do not fit, and stay in quarantine */
  readonly left: number;
  /** why, of the first that is left */
  readonly message: string | undefined;
}

/** What a mend did; `run` is its number in the history, undefined where there was nothing to do. */
export interface Mended {
  readonly run: number | undefined;
  readonly streams: readonly MendedStream[];
}

/**
 * Tries records in quarantine again: through the rules, the shaping and the way of writing of their stream as they are
 * now. Nothing is asked of the API. What a later run has written is never replaced; what fails stays in quarantine.
 * @throws BridgeError WAREHOUSE_*, WRITE_CHANGED, CONFIG_*
 */
export async function mend({ bridge, api, ...wanted }: MendOptions): Promise<Mended> {
  const inside = insideOf(api);
  const session = await bridge.warehouse.open();
  try {
    const open = { ...wanted, bridge: bridge.name };
    const byStream = grouped(await session.ledger.faults(open), ({ stream }) => stream);
    const names = [...byStream.keys()].filter((name) => bridge.streams.has(name));
    if (names.length === 0) return { run: undefined, streams: [] };
    const startedAtMs = inside.clock.now();
    const run = await session.ledger.startRun({ bridge: bridge.name, startedAtMs });
    const streams: { readonly told: MendedStream; readonly counts: RowCounts }[] = [];
    let failure: ReturnType<typeof toBridgeError> | undefined;
    try {
      for (const name of names) {
        const mender = new StreamMender({ inside, session, bridge, run, startedAtMs, open }, name);
        const runs = byStream.get(name)!.map((fault) => fault.run);
        streams.push(await mender.mend([...new Set(runs)].sort((a, b) => a - b)));
      }
    } catch (error) {
      failure = toBridgeError(error, { bridge: bridge.name });
      throw failure;
    } finally {
      session.ledger.letGo(bridge.name);
      await session.ledger.endRun({
        run,
        outcome: failure === undefined ? "done" : "failed",
        endedAtMs: inside.clock.now(),
        errorCode: failure?.code,
        errorMessage: failure?.message,
        streams: streams.map(({ told, counts }) => recordOf(told, counts)),
        spent: { account: accountKey(inside), byGroup: new Map() },
      });
    }
    return { run, streams: streams.map(({ told }) => told) };
  } finally {
    await session.close();
  }
}

/** As the history has it: nothing was asked for. */
function recordOf({ stream, tried, leftOut, left }: MendedStream, counts: RowCounts) {
  const nothing = { pages: 0, checkpoints: 0, requests: 0, retries: 0, waitedMs: 0, bytes: 0 };
  const times = { askMs: 0, shapeMs: 0, loadMs: 0 };
  const of = { received: tried, leftOut, quarantined: left, records: tried - leftOut };
  return { stream, outcome: "done" as const, ...counts, ...of, ...nothing, ...times };
}

interface MendParts {
  readonly inside: ApiInside;
  readonly session: WarehouseSession;
  readonly bridge: Bridge;
  readonly run: number;
  readonly startedAtMs: number;
  /** which records are tried */
  readonly open: QuarantineFilter;
}

class StreamMender {
  private counts = NO_ROWS;
  private tried = 0;
  private mended = 0;
  private outdated = 0;
  private leftOut = 0;
  private message: string | undefined;

  constructor(
    private readonly parts: MendParts,
    private readonly name: string,
  ) {}

  /** `runs`: those by which the records came. */
  async mend(runs: readonly number[]): Promise<{ told: MendedStream; counts: RowCounts }> {
    const said = this.parts.bridge.streams.get(this.name)!;
    const stream = asBridged(await this.parts.inside.stream(this.name), said, this.parts.inside);
    // what stands may be newer than the records of one run and older than those of another
    for (const run of runs) await this.mendOf(run, stream, said);
    const { tried, mended, outdated, leftOut, message } = this;
    const left = tried - mended - outdated - leftOut;
    const told = { stream: this.name, tried, mended, outdated, leftOut, left, message };
    return { told, counts: this.counts };
  }

  private async mendOf(notOver: number, stream: CompiledStream, said: BridgeStream): Promise<void> {
    const { session, bridge, run, startedAtMs, inside, open } = this.parts;
    const { load, shape } = await openTables(stream, {
      digest: inside.digest,
      ...{ session, run, bridge: bridge.name, schema: bridge.schema, startedAtMs, notOver },
      write: intoStanding(said, stream),
      deletes: said.deletes,
      into: said.into,
      rootTables: new Set([...bridge.streams.keys()].map(snakeCase)),
      cursors: {},
    });
    try {
      const fitting: string[] = [];
      const leftOut: string[] = [];
      let version = -1;
      const rules = { ...stream, keep: stream.code?.keep, add: {} };
      const mine = { ...open, stream: this.name, run: notOver };
      for await (const { id, record } of eachOf(session.ledger.quarantined(mine))) {
        this.tried++;
        const page = applyRules(pageOfRecords([record], 0), rules);
        for (const slice of page.shape(shape)) {
          const [issue] = slice.issues;
          if (issue !== undefined) this.message ??= issue.message;
          else if (page.leftOut > 0) leftOut.push(id);
          else {
            fitting.push(id);
            await load.add(slice, version === shape.version ? undefined : shape.schema());
            version = shape.version;
          }
        }
      }
      await this.commit(load, fitting, leftOut);
    } finally {
      await load.close();
    }
  }

  /** Rows and what is said of the records are committed together. */
  private async commit(
    load: StreamLoad,
    fitting: readonly string[],
    leftOut: readonly string[],
  ): Promise<void> {
    const { inside, run } = this.parts;
    const settled: Settled[] = [
      { ids: fitting, how: "mended", run },
      { ids: leftOut, how: "left_out", run },
    ];
    const spent = { account: accountKey(inside), byGroup: new Map<string, number>() };
    const entry = { number: 1, cursors: new Map(), atMs: inside.clock.now(), spent, settled };
    const { counts } = await load.finish(entry);
    this.counts = addCounts(this.counts, counts);
    const written = counts.added + counts.changed + counts.removed;
    this.mended += written + counts.doubled;
    this.outdated += fitting.length - written - counts.doubled;
    this.leftOut += leftOut.length;
  }
}

async function* eachOf<T>(lists: AsyncIterable<readonly T[]>): AsyncGenerator<T> {
  for await (const list of lists) yield* list;
}

/** Into the tables that stand, also where a run would build others beside them. */
function intoStanding({ write }: BridgeStream, { key }: CompiledStream): WriteMethod {
  const method = WRITE_METHODS[write];
  if (!method.buildsBeside) return method;
  return key.length > 0 ? WRITE_METHODS.upsert : WRITE_METHODS.append;
}
