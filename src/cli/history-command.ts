/** `history`: the runs of a project, or one of them in detail, from the ledger. */

import colors from "picocolors";
import { BridgeError } from "../core/errors.js";
import { openProject } from "../node/project.js";
import type { ErrorRecord, RunRecord, StreamOutcome } from "../warehouse/warehouse.js";
import { changeText } from "./change-text.js";
import { EXIT_CODES } from "./exit-codes.js";
import { bytesText, countOf, countText, momentText, plainWords, timeText } from "./format.js";
import { errorOf, jsonLine } from "./json-lines.js";
import { tableText } from "./table.js";

export interface RunsCommandOptions {
  readonly project: string;
  readonly bridge?: string | undefined;
  readonly warehouse?: string | undefined;
  readonly limit: number;
  readonly json?: boolean | undefined;
}

export async function historyCommand(run: number | undefined, options: RunsCommandOptions): Promise<number> {
  const project = await openProject(options.project);
  const { bridges } = project.definition;
  const used = [...new Set(Object.values(bridges).map((bridge) => bridge.to))];
  const names = options.warehouse === undefined ? used : [options.warehouse];
  for (const name of names) {
    const warehouse = await project.warehouse(name);
    const session = await warehouse.open({ readOnly: true });
    try {
      const runs = await session.ledger.runs({ bridge: options.bridge, run, limit: options.limit });
      if (run !== undefined && runs.length === 0) throw noSuchRun(run);
      if (options.json === true) for (const each of runs) process.stdout.write(runLine(each));
      else
        process.stdout.write(
          `${run === undefined ? historyText(warehouse.title, runs) : detailText(run, runs)}\n`,
        );
    } finally {
      await session.close();
    }
  }
  return EXIT_CODES.done;
}

/** The run's own failure is that of its first stream that failed. */
function runLine({ streams, errorCode, errorMessage, ...run }: RunRecord): string {
  const plain = streams.map(({ failure, ...stream }) => ({
    ...stream,
    error: failure && errorOf(failure),
  }));
  const own = streams.find(({ failure }) => failure?.code === errorCode)?.failure;
  const unplaced = errorCode && { code: errorCode, message: errorMessage ?? "", where: "", hint: "" };
  const error = own ?? unplaced;
  return jsonLine("run", { ...run, streams: plain, error: error ? errorOf(error) : undefined });
}

function historyText(title: string, runs: readonly RunRecord[]): string {
  if (runs.length === 0) return `${colors.bold(title)} holds no runs yet. Start one: early-bridge run`;
  const columns = [
    ...["run", "bridge", "outcome"].map((title) => ({ title })),
    { title: "started", leaves: 6 },
    { title: "took", right: true },
    { title: "added", right: true },
    { title: "changed", right: true, leaves: 5 },
    { title: "unchanged", right: true, leaves: 4 },
    { title: "requests", right: true, leaves: 3 },
    { title: "retries", right: true, leaves: 1 },
    { title: "waited", right: true, leaves: 2 },
  ];
  const rows = runs.map((run) => [
    String(run.run),
    run.bridge,
    outcomeText(run.outcome),
    momentText(run.startedAtMs),
    run.endedAtMs === undefined ? "" : timeText(run.endedAtMs - run.startedAtMs),
    ...(["added", "changed", "unchanged", "requests", "retries"] as const).map((key) =>
      countText(sum(run, key)),
    ),
    timeText(sum(run, "waitedMs")),
  ]);
  const failures = runs.filter((run) => run.errorCode !== undefined);
  const failed = failures.map(
    (run) => `  run ${run.run}: ${colors.red(run.errorCode!)}  ${run.errorMessage}`,
  );
  return [
    colors.bold(title),
    "",
    tableText(columns, rows),
    ...(failed.length > 0 ? ["", ...failed] : []),
    "",
    colors.dim(`One of them in detail: early-bridge history ${runs[0]!.run}`),
  ].join("\n");
}

function detailText(number: number, runs: readonly RunRecord[]): string {
  const run = runs[0];
  if (run === undefined) throw noSuchRun(number);
  const took = run.endedAtMs === undefined ? "" : `, took ${timeText(run.endedAtMs - run.startedAtMs)}`;
  const lines = [`${colors.bold(`run ${run.run}`)} of bridge ${run.bridge}: ${outcomeText(run.outcome)}`];
  lines.push(`started ${momentText(run.startedAtMs)}${took}`);
  // a stream tells of its own failure
  if (run.errorCode !== undefined && run.streams.every(({ failure }) => failure === undefined))
    lines.push(`${colors.red(run.errorCode)}  ${run.errorMessage}`);
  for (const stream of run.streams) lines.push("", ...streamLines(stream));
  return lines.join("\n");
}

function noSuchRun(number: number): BridgeError {
  return new BridgeError("CONFIG_UNKNOWN_NAME", `There is no run ${number}.`, {
    hint: "See early-bridge history.",
  });
}

function streamLines(stream: StreamOutcome): string[] {
  const { added, changed, unchanged, removed, quarantined, leftOut, doubled, passedOver, changes, failure } =
    stream;
  const rows = [
    `${countText(added)} added`,
    `${countText(changed)} changed`,
    `${countText(unchanged)} unchanged`,
  ];
  if (removed > 0) rows.push(`${countText(removed)} removed`);
  if (quarantined > 0) rows.push(`${countText(quarantined)} in quarantine`);
  if (leftOut > 0) rows.push(`${countText(leftOut)} left out`);
  if (doubled > 0) rows.push(`${countText(doubled)} came more than once`);
  if (passedOver > 0) rows.push(`${countText(passedOver)} passed over`);
  const asked = [
    countOf(stream.requests, "request"),
    countOf(stream.retries, "retrie").replace("retrie ", "retry "),
    bytesText(stream.bytes),
  ];
  return [
    `  ${colors.bold(stream.stream)}  ${outcomeText(stream.outcome)}`,
    `    rows    ${rows.join(", ")}`,
    `    asked   ${countOf(stream.pages, "page")} in ${asked.join(", ")}; waited ${timeText(stream.waitedMs)}`,
    `    time    ${timeText(stream.askMs)} for pages, ${timeText(stream.shapeMs)} shaping, ${timeText(stream.loadMs)} loading, ${countOf(stream.checkpoints, "checkpoint")}`,
    ...changes.map((change, i) => `    ${i === 0 ? "form" : "    "}    ${changeText(change)}`),
    ...(failure === undefined ? [] : failureLines(failure)),
  ];
}

function failureLines({ code, message, where, hint }: ErrorRecord): string[] {
  return [
    `    ${colors.red(code)}  ${message}`,
    ...(where === "" ? [] : [`      ${colors.dim("where")}  ${where}`]),
    `      ${colors.dim("next")}   ${hint}`,
  ];
}

function outcomeText(outcome: string): string {
  const text = plainWords(outcome);
  if (outcome === "done") return colors.green(text);
  return outcome === "failed" || outcome === "broken_off" ? colors.red(text) : colors.yellow(text);
}

function sum(
  run: RunRecord,
  key: "added" | "changed" | "unchanged" | "requests" | "retries" | "waitedMs",
): number {
  return run.streams.reduce((total, stream) => total + stream[key], 0);
}
