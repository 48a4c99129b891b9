/** Rows of the ledger's tables, from and to what they stand for. */

import { type ColumnType, parseColumnType } from "../../core/shape/column-type.js";
import type { RunOutcome, StreamEnd } from "../warehouse.js";
import type { SqlCell, SqlRow } from "./dialect.js";
import { COUNTS } from "./ledger-schema.js";

export function timestamp(ms: number): string {
  return new Date(ms).toISOString();
}

export function textOrNothing(value: unknown): string | undefined {
  return value === null || value === undefined ? undefined : String(value);
}

export function knownType(text: string): ColumnType {
  return parseColumnType(text) ?? { kind: "text" };
}

type Counts = Record<(typeof COUNTS)[number], number>;

/** A row of `run_streams`. */
export function streamCells(run: number, stream: StreamEnd): SqlCell[] {
  const { leftOut, passedOver, waitedMs, askMs, shapeMs, loadMs, failure } = stream;
  const times = { waited_ms: waitedMs, ask_ms: askMs, shape_ms: shapeMs, load_ms: loadMs };
  const byName: Counts = { ...stream, ...times, left_out: leftOut, passed_over: passedOver };
  return [
    ...[run, stream.stream, stream.outcome],
    ...COUNTS.map((name) => Math.round(byName[name])),
    ...[failure?.code ?? null, failure?.message ?? null, failure?.where ?? null, failure?.hint ?? null],
  ];
}

export function streamRecord(row: SqlRow): StreamEnd {
  // an older ledger has fewer of them
  const count = (name: keyof Counts) => Number(row[name] ?? 0);
  const code = textOrNothing(row.error_code);
  const failure = code && {
    code,
    message: String(row.error_message),
    where: String(row.error_where),
    hint: String(row.error_hint),
  };
  return {
    stream: String(row.stream),
    outcome: String(row.outcome) as RunOutcome,
    received: count("received"),
    leftOut: count("left_out"),
    records: count("records"),
    added: count("added"),
    changed: count("changed"),
    unchanged: count("unchanged"),
    removed: count("removed"),
    quarantined: count("quarantined"),
    doubled: count("doubled"),
    passedOver: count("passed_over"),
    pages: count("pages"),
    checkpoints: count("checkpoints"),
    requests: count("requests"),
    retries: count("retries"),
    waitedMs: count("waited_ms"),
    bytes: count("bytes"),
    askMs: count("ask_ms"),
    shapeMs: count("shape_ms"),
    loadMs: count("load_ms"),
    failure: failure || undefined,
  };
}
