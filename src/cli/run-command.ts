/** `run`: carries a bridge, or all bridges of the project. */

import colors from "picocolors";
import { isBridgeError, toBridgeError } from "../core/errors.js";
import type { RunReport } from "../run/events.js";
import { type OpenedProject, openProject } from "../run/project.js";
import { EXIT_CODES } from "./exit-codes.js";
import { openView, reportText, type ViewKind } from "./progress.js";
import { errorText, timeText } from "./words.js";

export interface RunCommandOptions {
  readonly project: string;
  readonly stream?: readonly string[] | undefined;
  readonly json?: boolean | undefined;
  readonly plain?: boolean | undefined;
}

/** The exit code: of the first failure, where there is one. */
export async function runCommand(bridge: string | undefined, options: RunCommandOptions): Promise<number> {
  const project = await openProject(options.project);
  const names = bridge === undefined ? project.bridges : [bridge];
  const stop = new AbortController();
  let exitCode = EXIT_CODES.done;
  for (const name of names) {
    if (stop.signal.aborted) break;
    const code = await runOne(project, name, options, stop);
    if (exitCode === EXIT_CODES.done) exitCode = code;
  }
  return stop.signal.aborted && exitCode === EXIT_CODES.done ? EXIT_CODES.stopped : exitCode;
}

async function runOne(
  project: OpenedProject,
  name: string,
  options: RunCommandOptions,
  stop: AbortController,
): Promise<number> {
  try {
    const report = await runBridge(project, name, { ...options, kind: viewKind(options) }, stop);
    return exitCodeOf(report);
  } catch (thrown) {
    const error = toBridgeError(thrown, { bridge: name });
    tellError(error, options.json === true);
    return EXIT_CODES[error.kind];
  }
}

export function viewKind({ json, plain }: Pick<RunCommandOptions, "json" | "plain">): ViewKind {
  if (json === true) return "json";
  return plain === true || process.stdout.isTTY !== true ? "plain" : "live";
}

/** Runs one bridge under a view, and prints its report. Ctrl-C stops it at a checkpoint; a second one ends at once. */
export async function runBridge(
  project: OpenedProject,
  name: string,
  options: { readonly stream?: readonly string[] | undefined; readonly kind: ViewKind },
  stop: AbortController,
): Promise<RunReport> {
  const { bridge, close } = await project.openBridge(name);
  const view = await openView(options.kind, `${colors.bold(name)} → ${bridge.warehouse.title}`);
  const onInterrupt = () => {
    if (stop.signal.aborted) process.exit(EXIT_CODES.stopped);
    view.stopping();
    stop.abort();
  };
  process.on("SIGINT", onInterrupt);
  process.on("SIGTERM", onInterrupt);
  try {
    const report = await bridge.run({ streams: options.stream, signal: stop.signal, onEvent: view.onEvent });
    view.close();
    if (options.kind === "plain") process.stdout.write("\n");
    if (options.kind !== "json") tellReport(report);
    return report;
  } finally {
    view.close();
    process.off("SIGINT", onInterrupt);
    process.off("SIGTERM", onInterrupt);
    await close();
  }
}

function tellReport(report: RunReport): void {
  const { run, bridge, outcome, startedAtMs, endedAtMs, streams } = report;
  const colour = outcome === "done" ? colors.green : outcome === "failed" ? colors.red : colors.yellow;
  const took = timeText(endedAtMs - startedAtMs);
  process.stdout.write(`${colors.bold(bridge)}  run ${run}  ${colour(outcome)} in ${took}\n\n`);
  process.stdout.write(`${reportText(run, streams)}\n\n`);
  if (outcome === "stopped")
    process.stdout.write("Stopped at a checkpoint; run again to go on from there.\n");
}

function exitCodeOf({ outcome, error }: RunReport): number {
  if (outcome === "stopped") return EXIT_CODES.stopped;
  return error === undefined ? EXIT_CODES.done : EXIT_CODES[error.kind];
}

/** An error for people on stderr, or as one JSON line on stdout. */
export function tellError(thrown: unknown, json: boolean): void {
  const error = isBridgeError(thrown) ? thrown : toBridgeError(thrown);
  if (json) process.stdout.write(`${JSON.stringify({ type: "error", error })}\n`);
  else process.stderr.write(`${errorText(error)}\n`);
}
