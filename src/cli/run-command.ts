/** `run`: carries a bridge, or all bridges of the project. */

import { rmSync } from "node:fs";
import colors from "picocolors";
import { BridgeError, isBridgeError, toBridgeError } from "../core/errors.js";
import { openReplay, type Recorder, type Replay } from "../http/har.js";
import { readRecording, recordInto } from "../http/har-file.js";
import { nodeClock } from "../http/node-clock.js";
import { type OpenedProject, openProject } from "../node/project.js";
import type { RunEvent, RunReport } from "../run/events.js";
import type { RunOutcome, ViewOutcome, Warehouse } from "../warehouse/warehouse.js";
import { EXIT_CODES } from "./exit-codes.js";
import { countOf, errorText, timeText } from "./format.js";
import { jsonLine } from "./json-lines.js";
import { type Log, NO_LOG } from "./no-log.js";
import { openView, reportText, type ViewKind } from "./progress.js";

export interface RunCommandOptions {
  readonly project: string;
  readonly stream?: readonly string[] | undefined;
  readonly json?: boolean | undefined;
  readonly plain?: boolean | undefined;
  /** write what the API answers into this HAR file */
  readonly record?: string | undefined;
  /** take the responses from this HAR file */
  readonly replay?: string | undefined;
  /** wait while another run has the warehouse */
  readonly wait?: boolean | undefined;
}

/** The exit code: of the first failure, where there is one. */
export async function runCommand(
  bridge: string | undefined,
  options: RunCommandOptions,
  log: Log = NO_LOG,
): Promise<number> {
  const project = await openProject(options.project);
  const names = bridge === undefined ? project.bridges : [bridge];
  checkRecording(names, options);
  const stop = new AbortController();
  const ended: EndedBridge[] = [];
  for (const name of names) {
    if (stop.signal.aborted) break;
    ended.push(await runOne(project, name, options, { stop, log }));
  }
  if (names.length > 1 && options.json !== true) tellBridges(names.length, ended);
  const exitCode = ended.find(({ code }) => code !== EXIT_CODES.done)?.code ?? EXIT_CODES.done;
  return stop.signal.aborted && exitCode === EXIT_CODES.done ? EXIT_CODES.stopped : exitCode;
}

/** How the run of a bridge ended. */
interface EndedBridge {
  readonly name: string;
  readonly code: number;
  readonly outcome: RunOutcome;
  readonly error: BridgeError | undefined;
}

/** What went wrong far above is told once more, on a line for each bridge. */
function tellBridges(all: number, ended: readonly EndedBridge[]): void {
  const others = ended.filter(({ outcome }) => outcome !== "done");
  const say = (text: string) => process.stdout.write(`${text}\n`);
  say(`${colors.bold(`${ended.length - others.length} of ${all} bridges`)} are done.`);
  for (const { name, outcome, error } of others)
    say(
      `  ${colors.bold(name)}  ${outcome}${error === undefined ? "" : `: ${error.code}  ${error.message}`}`,
    );
}

async function runOne(
  project: OpenedProject,
  name: string,
  options: RunCommandOptions,
  { stop, log }: { readonly stop: AbortController; readonly log: Log },
): Promise<EndedBridge> {
  try {
    const ways = options.replay === undefined ? {} : await openReplayFile(options.replay);
    const kind = viewKind(options);
    const run = { stream: options.stream, kind, log, ...ways };
    const carry = (recorder?: Recorder) => {
      const once = () => runBridge(project, name, { ...run, recorder }, stop);
      return options.wait === true ? whenFree(once, kind, stop.signal) : once();
    };
    const report = await (options.record === undefined ? carry() : recorded(options.record, kind, carry));
    return {
      name,
      code: exitCodeOf(report, stop.signal.aborted),
      outcome: report.outcome,
      error: report.error,
    };
  } catch (thrown) {
    const error = toBridgeError(thrown, { bridge: name });
    log.note("error", "error", { bridge: name, error });
    tellError(error, options.json === true);
    return {
      name,
      code: exitCodeOf({ outcome: "failed", error }, stop.signal.aborted),
      outcome: "failed",
      error,
    };
  }
}

/** How long to wait before looking again whether the warehouse is free, in ms. */
const LOOK_AGAIN_MS = 1000;

/** Tries again while another run has the warehouse. */
async function whenFree<T>(work: () => Promise<T>, kind: ViewKind, signal: AbortSignal): Promise<T> {
  for (let said = false; ; said = true) {
    try {
      return await work();
    } catch (error) {
      const isTaken = isBridgeError(error, "WAREHOUSE_LOCKED") || isBridgeError(error, "BRIDGE_RUNNING");
      if (!isTaken || signal.aborted) throw error;
      if (!said && kind !== "json") process.stdout.write(`${error.message} Waiting until it is free …\n`);
      await nodeClock.sleep(LOOK_AGAIN_MS, signal);
    }
  }
}

export function viewKind({ json, plain }: Pick<RunCommandOptions, "json" | "plain">): ViewKind {
  if (json === true) return "json";
  const isPlain = plain === true || process.stdout.isTTY !== true || process.env.TERM === "dumb";
  return isPlain ? "plain" : "live";
}

/** How a bridge is run from the command line. */
export interface BridgeRun {
  readonly stream?: readonly string[] | undefined;
  readonly kind: ViewKind;
  readonly recorder?: Recorder | undefined;
  readonly replay?: Replay | undefined;
  readonly warehouse?: Warehouse | undefined;
  readonly log?: Log | undefined;
}

/** A recording is of one run of one bridge. */
function checkRecording(names: readonly string[], { record, replay }: RunCommandOptions): void {
  if (record === undefined && replay === undefined) return;
  const option = record === undefined ? "--replay" : "--record";
  if (record !== undefined && replay !== undefined)
    throw new BridgeError("CONFIG_INVALID", "--record and --replay do not go together.");
  if (names.length > 1)
    throw new BridgeError(
      "CONFIG_INVALID",
      `${option} is for one bridge, and the project has ${names.length}.`,
      {
        hint: `Name the bridge: early-bridge run ${names[0]} ${option} ${record ?? replay}`,
      },
    );
}

/** Answers from a HAR file, into a DuckDB file of their own beside it: the bridge's tables stay as they are. */
async function openReplayFile(path: string): Promise<Pick<BridgeRun, "replay" | "warehouse">> {
  const har = readRecording(path);
  const { duckdb } = await import("../warehouse/duckdb/index.js");
  const database = `${path}.duckdb`;
  rmSync(database, { force: true });
  return { replay: openReplay(har), warehouse: duckdb(database) };
}

/** Carries with a recording, which is whole however the run ends. */
async function recorded<T>(
  path: string,
  kind: ViewKind,
  carry: (recorder: Recorder) => Promise<T>,
): Promise<T> {
  const { recorder, close } = recordInto(path);
  // a second Ctrl-C ends the process at once
  process.once("exit", close);
  try {
    return await carry(recorder);
  } finally {
    process.off("exit", close);
    close();
    if (kind !== "json") {
      process.stdout.write(`Recorded ${countOf(recorder.count, "exchange")} in ${path}, without secrets. `);
      process.stdout.write("It holds the API's data: look through it before you give it away.\n");
    }
  }
}

/** Runs one bridge under a view, and prints its report. Ctrl-C stops it at a checkpoint; a second one ends at once. */
export async function runBridge(
  project: OpenedProject,
  name: string,
  options: BridgeRun,
  stop: AbortController,
): Promise<RunReport> {
  const { recorder, replay, warehouse, stream, log = NO_LOG } = options;
  const { bridge, close } = await project.openBridge(name, {
    warehouse,
    onRecord: recorder?.onRecord,
    replay: replay?.send,
    clock: replay?.clock,
  });
  const view = await openView(options.kind, `${colors.bold(name)} → ${bridge.warehouse.title}`);
  const onInterrupt = () => {
    if (stop.signal.aborted) process.exit(EXIT_CODES.stopped);
    view.stopping();
    stop.abort();
  };
  // nobody reads any more, as with `| head`: the run ends at a checkpoint, and quietly
  const onClosed = () => stop.abort();
  process.stdout.on("error", onClosed);
  process.on("SIGINT", onInterrupt);
  process.on("SIGTERM", onInterrupt);
  try {
    const { signal } = stop;
    const onEvent = (event: RunEvent) => {
      log.onEvent(event);
      view.onEvent(event);
    };
    const report = await bridge.run({ streams: stream, signal, recorder, cursors: replay?.cursors, onEvent });
    view.close();
    if (options.kind === "plain") process.stdout.write("\n");
    if (options.kind !== "json") tellReport(report);
    return report;
  } finally {
    view.close();
    process.off("SIGINT", onInterrupt);
    process.off("SIGTERM", onInterrupt);
    await close();
    process.stdout.off("error", onClosed);
  }
}

function tellReport(report: RunReport): void {
  const { run, bridge, outcome, startedAtMs, endedAtMs, streams, views, error } = report;
  const colour = outcome === "done" ? colors.green : outcome === "failed" ? colors.red : colors.yellow;
  const took = timeText(endedAtMs - startedAtMs);
  process.stdout.write(`${colors.bold(bridge)}  run ${run}  ${colour(outcome)} in ${took}\n\n`);
  process.stdout.write(`${reportText(bridge, streams)}\n\n`);
  if (views.length > 0) process.stdout.write(`${viewsText(views)}\n\n`);
  if (error?.code === "VIEW_FAILED") tellError(error, false);
  if (outcome === "stopped" && report.error === undefined)
    process.stdout.write("Stopped at a checkpoint; run again to go on from there.\n");
  if (outcome === "incomplete")
    process.stdout.write(
      "Incomplete: what came is loaded, rows may be missing, and the cursor stays where it was.\n",
    );
}

/** `views  nights, open_bookings`, and those that are gone or could not be made. */
function viewsText(views: readonly ViewOutcome[]): string {
  const line = (outcome: ViewOutcome["outcome"], title: string) => {
    const names = views.filter((each) => each.outcome === outcome).map(({ view }) => view);
    return names.length === 0 ? [] : [`  ${title}  ${names.join(", ")}`];
  };
  return [
    ...line("made", "views"),
    ...line("dropped", "views dropped, for their files are gone"),
    ...line("failed", colors.red("views not made")),
  ].join("\n");
}

/** Only who has asked a run to stop is told that it has. */
function exitCodeOf({ outcome, error }: Pick<RunReport, "outcome" | "error">, asked: boolean): number {
  if (outcome === "stopped" && asked) return EXIT_CODES.stopped;
  if (error === undefined) return outcome === "done" ? EXIT_CODES.done : EXIT_CODES.internal;
  return error.kind === "stopped" && !asked ? EXIT_CODES.internal : EXIT_CODES[error.kind];
}

/** An error for people on stderr, or as one JSON line on stdout. */
export function tellError(thrown: unknown, json: boolean): void {
  const error = isBridgeError(thrown) ? thrown : toBridgeError(thrown);
  if (json) process.stdout.write(jsonLine("error", { error }));
  else process.stderr.write(`${errorText(error)}\n`);
}
