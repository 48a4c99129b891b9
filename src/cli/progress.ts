/** What a run shows while it goes on: a live view on a terminal, plain lines elsewhere, JSON lines for machines. */

import colors from "picocolors";
import type { OnRunEvent, RunEvent, StreamReport } from "../run/events.js";
import { changeText } from "./change-text.js";
import { countOf, countText, errorText, plainWords, timeText } from "./format.js";
import { eventLines } from "./json-lines.js";
import { tableText } from "./table.js";

export interface ProgressView {
  readonly onEvent: OnRunEvent;
  /** the user has asked to stop */
  stopping(): void;
  /** takes the view away; nothing is shown afterwards */
  close(): void;
}

export type ViewKind = "live" | "plain" | "json";

/** `title` says what is carried where. */
export async function openView(kind: ViewKind, title: string): Promise<ProgressView> {
  if (kind === "json") return jsonView();
  if (kind === "plain") return plainView(title);
  const { createLogUpdate } = await import("log-update");
  return new LiveView(title, createLogUpdate(process.stdout));
}

function jsonView(): ProgressView {
  const lineOf = eventLines();
  return { onEvent: (event) => process.stdout.write(lineOf(event)), stopping: () => {}, close: () => {} };
}

/** One line per noteworthy event; pages are not. */
function plainView(title: string): ProgressView {
  const say = (text: string) => process.stdout.write(`${text}\n`);
  say(title);
  const quarantined = new Map<string, number>();
  return {
    onEvent: (event) => {
      const line = event.type === "quarantined" ? quarantineLine(event, quarantined) : plainLine(event);
      if (line !== undefined) say(line);
    },
    stopping: () => say("Stopping at a checkpoint …"),
    close: () => {},
  };
}

/** Records that go into quarantine for one reason may be many: some are told of, all are counted at the end. */
const QUARANTINE_LINES = 3;

function quarantineLine(
  { stream, message }: Extract<RunEvent, { type: "quarantined" }>,
  counts: Map<string, number>,
): string | undefined {
  const count = (counts.get(stream) ?? 0) + 1;
  counts.set(stream, count);
  if (count <= QUARANTINE_LINES) return `${stream}: a record went into quarantine: ${message}`;
  return count === QUARANTINE_LINES + 1
    ? `${stream}: more records went into quarantine; they are counted at the end`
    : undefined;
}

function plainLine(event: RunEvent): string | undefined {
  switch (event.type) {
    case "run_started":
      return `run ${event.run} started`;
    case "stream_started": {
      const from = event.goesOn
        ? "goes on where the last run broke off"
        : `from ${event.since ?? "the beginning"}`;
      return `${event.stream}: reading ${event.parts > 1 || event.windows !== undefined ? partsText(event) : from}`;
    }
    case "waiting":
      return event.ms >= 5000
        ? `${event.stream}: waiting ${timeText(event.ms)} (${plainWords(event.reason)})`
        : undefined;
    case "retry":
      return `${event.stream}: ${event.why} Trying again in ${timeText(event.ms)}.`;
    case "schema_changed":
      return `${event.stream}: ${changeText(event)}`;
    case "notice":
      return `${event.stream}: ${event.message}`;
    case "checkpoint":
      return `${event.stream}: checkpoint ${event.number}${event.cursor === undefined ? "" : `, cursor ${event.cursor}`}`;
    case "stream_ended":
      return `${event.stream}: ${event.report.outcome}, ${countOf(event.report.records, "record")}`;
    default:
      return undefined;
  }
}

/** `40 parts, 80 windows of time`. */
function partsText({ parts, windows }: Extract<RunEvent, { type: "stream_started" }>): string {
  const inParts = parts === 1 ? [] : [countOf(parts, "part")];
  if (windows === undefined) return inParts.join("");
  return [...inParts, windows === 0 ? "no window is open" : `${countOf(windows, "window")} of time`].join(
    ", ",
  );
}

interface StreamState {
  outcome: string;
  pages: number;
  rows: number;
  startedAtMs: number;
  endedAtMs: number | undefined;
  requestsLeft: number | undefined;
  note: string;
  noteUntilMs: number;
}

const REDRAW_MS = 100;

class LiveView implements ProgressView {
  private readonly streams = new Map<string, StreamState>();
  private readonly timer: NodeJS.Timeout;
  private readonly startedAtMs = Date.now();
  private run = "";
  private isStopping = false;

  constructor(
    private readonly title: string,
    private readonly draw: { (text: string): void; clear(): void; done(): void },
  ) {
    this.timer = setInterval(() => this.show(), REDRAW_MS);
    this.timer.unref();
  }

  readonly onEvent: OnRunEvent = (event) => {
    if (event.type === "run_started") {
      this.run = `run ${event.run}`;
      for (const stream of event.streams) this.streams.set(stream, newState());
    } else if (event.type !== "run_ended") this.take(event, this.streams.get(event.stream) ?? newState());
  };

  stopping(): void {
    this.isStopping = true;
    this.show();
  }

  close(): void {
    clearInterval(this.timer);
    this.draw.clear();
    this.draw.done();
  }

  private take(event: Exclude<RunEvent, { type: "run_started" | "run_ended" }>, state: StreamState): void {
    this.streams.set(event.stream, state);
    switch (event.type) {
      case "stream_started":
        state.outcome = "reading";
        state.startedAtMs = Date.now();
        break;
      case "page":
        state.pages++;
        state.rows += event.rows;
        state.requestsLeft = event.requestsLeft;
        break;
      case "waiting":
        note(state, `waiting ${timeText(event.ms)}: ${event.reason}`, event.ms);
        break;
      case "retry":
        note(state, `again in ${timeText(event.ms)}: ${event.why}`, Math.max(event.ms, 1500));
        break;
      case "schema_changed":
        note(state, changeText(event), 1500);
        break;
      case "quarantined":
      case "notice":
        note(state, event.message, 3000);
        break;
      case "stream_ended":
        state.outcome = event.report.outcome;
        state.endedAtMs = Date.now();
        state.note = "";
        break;
    }
  }

  private show(): void {
    const width = process.stdout.columns ?? 80;
    const rows = [...this.streams].map(([name, state]) => streamCells(name, state));
    const columns = [
      { title: "stream" },
      { title: "" },
      { title: "pages", right: true },
      { title: "rows", right: true },
      { title: "rows/s", right: true },
      { title: "requests left", right: true },
      { title: "" },
    ];
    const lines = [
      `${this.title}  ${colors.dim(`${this.run}  ${timeText(Date.now() - this.startedAtMs)}`)}`,
      "",
      rows.length === 0 ? "  opening the warehouse …" : tableText(columns, rows),
      "",
      colors.dim(
        this.isStopping
          ? "Stopping at a checkpoint … (Ctrl-C again ends at once)"
          : "Ctrl-C stops at a checkpoint",
      ),
    ];
    this.draw(
      lines
        .join("\n")
        .split("\n")
        .map((line) => cut(line, width))
        .join("\n"),
    );
  }
}

function newState(): StreamState {
  const now = Date.now();
  return {
    outcome: "waits",
    pages: 0,
    rows: 0,
    startedAtMs: now,
    endedAtMs: undefined,
    requestsLeft: undefined,
    note: "",
    noteUntilMs: 0,
  };
}

function note(state: StreamState, text: string, ms: number): void {
  state.note = text;
  state.noteUntilMs = Date.now() + ms;
}

function streamCells(name: string, state: StreamState): string[] {
  const now = Date.now();
  const seconds = ((state.endedAtMs ?? now) - state.startedAtMs) / 1000;
  const rate = state.rows === 0 ? "" : countText(state.rows / Math.max(seconds, 0.1));
  const colour =
    state.outcome === "done" ? colors.green : state.outcome === "failed" ? colors.red : colors.cyan;
  const left =
    state.requestsLeft === undefined || state.endedAtMs !== undefined ? "" : String(state.requestsLeft);
  const shown = now < state.noteUntilMs ? colors.yellow(state.note) : "";
  return [name, colour(state.outcome), countText(state.pages), countText(state.rows), rate, left, shown];
}

/** Cuts a line to the terminal's width, colour codes not counted. */
function cut(line: string, width: number): string {
  let visible = 0;
  // biome-ignore lint/suspicious/noControlCharactersInRegex: colour codes begin with the escape character
  return line.replaceAll(/\u001b\[[0-9;]*m|[\s\S]/gu, (part) =>
    part.length > 2 || visible++ < width - 1 ? part : "",
  );
}

/** The report at a run's end: a line per stream, then what deserves attention. */
export function reportText(bridge: string, streams: readonly StreamReport[]): string {
  const columns = [
    { title: "stream" },
    { title: "" },
    { title: "added", right: true },
    { title: "changed", right: true },
    { title: "unchanged", right: true, leaves: 5 },
    { title: "removed", right: true, leaves: 3 },
    { title: "requests", right: true, leaves: 4 },
    { title: "retries", right: true, leaves: 1 },
    { title: "waited", right: true, leaves: 2 },
    { title: "cursor", leaves: 6 },
  ];
  const rows = streams.map((each) => [
    each.stream,
    each.outcome,
    ...[each.added, each.changed, each.unchanged, each.removed, each.requests, each.retries].map(countText),
    timeText(each.waitedMs),
    each.cursor ?? "",
  ]);
  const lines = [tableText(columns, rows)];
  for (const { stream, received, leftOut, doubled, passedOver } of streams) {
    const others = [
      leftOut === 0 ? [] : [`${countText(leftOut)} left out`],
      doubled === 0 ? [] : [`${countText(doubled)} came more than once`],
      passedOver === 0 ? [] : [`${countText(passedOver)} passed over`],
    ].flat();
    if (others.length === 0) continue;
    lines.push(colors.dim(`  ${countOf(received, "record")} of ${stream} received: ${others.join(", ")}`));
  }
  for (const { stream, quarantined } of streams) {
    if (quarantined === 0) continue;
    const next = `early-bridge mend ${bridge} --stream ${stream}`;
    lines.push(
      colors.yellow(`  ${countOf(quarantined, "record")} of ${stream} went into quarantine: ${next}`),
    );
  }
  const streamsByMessage = new Map<string, string[]>();
  for (const { stream, error } of streams) {
    if (error === undefined) continue;
    // what several streams met is told once, with all of their names
    const others = streamsByMessage.get(error.message);
    if (others === undefined) lines.push("", errorText(error));
    streamsByMessage.set(error.message, [...(others ?? []), stream]);
  }
  for (const names of streamsByMessage.values())
    if (names.length > 1)
      lines.push(`  ${colors.dim("also")}   ${names.slice(1).join(", ")}: the same as ${names[0]}`);
  return lines.join("\n");
}
