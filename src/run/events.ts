/** What a run tells while it goes on, and its report at the end. */

import type { BridgeError } from "../core/errors.js";
import type { RunOutcome, SchemaChange, StreamRecord, ViewOutcome } from "../warehouse/warehouse.js";
import type { AskEvent } from "./ask/asker.js";

/** A stream's part of the report. Times are in ms; `rowsByTable` counts rows written, children as well. */
export interface StreamReport extends StreamRecord {
  /** what changed in the form of its tables, and what was left out of them */
  readonly changes: readonly SchemaChange[];
  readonly rowsByTable: Readonly<Record<string, number>>;
  /** where the cursor stands now, in words; of a stream with parts, that of the part furthest behind */
  readonly cursor: string | undefined;
  /** parts of the stream that were asked for, and those of them that failed */
  readonly parts: number;
  readonly failedParts: readonly { readonly part: string; readonly error: BridgeError }[];
  readonly error: BridgeError | undefined;
}

/** What a run has done. Look at `outcome`: only `done` is whole. */
export interface RunReport {
  readonly run: number;
  readonly bridge: string;
  readonly outcome: RunOutcome;
  readonly startedAtMs: number;
  readonly endedAtMs: number;
  readonly streams: readonly StreamReport[];
  /** what became of the bridge's views */
  readonly views: readonly ViewOutcome[];
  /** the first stream's failure, or that of a view, where there is one */
  readonly error: BridgeError | undefined;
}

type OfStream<T> = T & { readonly stream: string };

/** What a run tells while it goes on. */
export type RunEvent =
  | {
      readonly type: "run_started";
      readonly run: number;
      readonly bridge: string;
      readonly streams: readonly string[];
    }
  | OfStream<{
      readonly type: "stream_started";
      readonly since: string | undefined;
      readonly goesOn: boolean;
      readonly parts: number;
      /** windows of time to ask for, in all parts; undefined for a stream without windows */
      readonly windows: number | undefined;
    }>
  | OfStream<{
      readonly type: "page";
      /** "" for a stream without parts */
      readonly part: string;
      readonly page: number;
      readonly records: number;
      /** rows of all tables */
      readonly rows: number;
      readonly bytes: number;
      readonly requestsLeft: number | undefined;
    }>
  | OfStream<AskEvent>
  | OfStream<{ readonly type: "checkpoint"; readonly number: number; readonly cursor: string | undefined }>
  | OfStream<{ readonly type: "schema_changed" } & SchemaChange>
  | OfStream<{
      readonly type: "quarantined";
      readonly reason: string;
      readonly path: string;
      readonly message: string;
    }>
  | OfStream<{ readonly type: "stream_ended"; readonly report: StreamReport }>
  | { readonly type: "run_ended"; readonly report: RunReport };

/** Takes events, in their order. */
export type OnRunEvent = (event: RunEvent) => void;
