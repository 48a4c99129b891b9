/** `plan`: what a run would ask and write. Nothing is sent, but for the question what an OData service has. */

import { stripVTControlCharacters } from "node:util";
import colors from "picocolors";
import wrapAnsi from "wrap-ansi";
import { type BridgeError, toBridgeError } from "../core/errors.js";
import { type OpenedProject, openProject } from "../node/project.js";
import { forecast, type StreamForecast } from "../run/forecast.js";
import { planViews, type ViewPlan } from "../run/make-views.js";
import { planBridge, type StreamPlan } from "../run/plan.js";
import { EXIT_CODES } from "./exit-codes.js";
import { forecastText } from "./forecast-text.js";
import { countOf } from "./format.js";
import { jsonLine } from "./json-lines.js";
import { tellError } from "./run-command.js";

export interface PlanCommandOptions {
  readonly project: string;
  readonly forecast?: boolean | undefined;
  readonly json?: boolean | undefined;
}

const LABEL_WIDTH = 9;
const MOST_WIDTH = 120;

export async function planCommand(bridge: string | undefined, options: PlanCommandOptions): Promise<number> {
  const project = await openProject(options.project);
  const planned: PlannedBridge[] = [];
  const names = bridge === undefined ? project.bridges : [bridge];
  const failures: BridgeError[] = [];
  for (const name of names) {
    try {
      planned.push(await planOne(project, name, options.forecast === true));
    } catch (error) {
      // one service that cannot be asked what it has keeps no other bridge from its plan
      failures.push(toBridgeError(error, { bridge: name }));
    }
  }
  for (const each of withClashes(planned)) {
    if (options.json !== true) tell(each);
    else tellLines(each);
  }
  for (const error of failures) tellError(error, options.json === true);
  const [first] = failures;
  if (first !== undefined) return EXIT_CODES[first.kind];
  if (options.json !== true) {
    const sent = planned.flatMap(({ forecasts }) => forecasts).reduce((sum, { asked }) => sum + asked, 0);
    const metadata = planned.some(({ isOData }) => isOData)
      ? "Only metadata was asked for."
      : "Nothing was sent.";
    const asked = options.forecast === true ? `${countOf(sent, "request")} sent for it.` : metadata;
    say(`${asked} Next: early-bridge run${bridge === undefined ? "" : ` ${bridge}`}${folderOption(options)}`);
  }
  return EXIT_CODES.done;
}

async function planOne(project: OpenedProject, name: string, isForecast: boolean): Promise<PlannedBridge> {
  const { bridge, api, close } = await project.openBridge(name);
  try {
    const plans = await planBridge(bridge, api);
    const isOData = api.connector.odata !== undefined;
    const views = await planViews(bridge);
    const forecasts = isForecast ? await forecast({ api, bridge }) : [];
    return { name, warehouse: bridge.warehouse.title, plans, views, isOData, forecasts };
  } finally {
    await close();
  }
}

interface PlannedBridge {
  readonly name: string;
  readonly warehouse: string;
  readonly plans: readonly StreamPlan[];
  readonly views: readonly ViewPlan[];
  /** what its streams are was asked of the service */
  readonly isOData: boolean;
  /** empty where none is wanted */
  readonly forecasts: readonly StreamForecast[];
}

/** Bridges that would write into one table are warned of each other. */
function withClashes(planned: readonly PlannedBridge[]): PlannedBridge[] {
  const writers = new Map<string, string[]>();
  const key = (warehouse: string, table: string) => `${warehouse} ${table}`;
  for (const { name, warehouse, plans } of planned)
    for (const { table } of plans)
      writers.set(key(warehouse, table), [...(writers.get(key(warehouse, table)) ?? []), name]);
  return planned.map((each) => ({
    ...each,
    plans: each.plans.map((plan) => {
      const others = writers.get(key(each.warehouse, plan.table))!.filter((name) => name !== each.name);
      if (others.length === 0) return plan;
      const warning = `Bridge ${others.join(", ")} writes into ${plan.table} as well: give one of them a schema of its own.`;
      return { ...plan, warnings: [...plan.warnings, warning] };
    }),
  }));
}

function tellLines({ name, plans, views, forecasts }: PlannedBridge): void {
  for (const plan of plans) process.stdout.write(jsonLine("plan", { bridge: name, ...plan }));
  for (const view of views) process.stdout.write(jsonLine("view", { bridge: name, ...view }));
  for (const each of forecasts) process.stdout.write(jsonLine("forecast", { bridge: name, ...each }));
}

function tell({ name, warehouse, plans, views, forecasts }: PlannedBridge): void {
  say(`${colors.bold(name)} → ${warehouse}\n`);
  for (const { stream, table, write, lines, warnings } of plans) {
    say(`  ${colors.bold(stream)} → ${table}, ${write}`);
    let last = "";
    for (const { label, text } of lines) {
      say(labelled(label === last ? "" : label, text));
      last = label;
    }
    for (const warning of warnings) say(labelled(colors.yellow("careful"), warning));
    say("");
  }
  for (const { view, warnings } of views) {
    say(`  view ${colors.bold(view)}, made after the run`);
    for (const warning of warnings) say(labelled(colors.yellow("careful"), warning));
  }
  if (views.length > 0) say("");
  if (forecasts.length > 0) say(`${forecastText(forecasts)}\n`);
}

/** A label and its text, wrapped behind the label. */
function labelled(label: string, text: string): string {
  const width = Math.min(process.stdout.columns ?? MOST_WIDTH, MOST_WIDTH);
  const indent = " ".repeat(4 + LABEL_WIDTH);
  const wrapped = wrapAnsi(text, Math.max(30, width - indent.length)).replaceAll("\n", `\n${indent}`);
  const blanks = " ".repeat(LABEL_WIDTH - stripVTControlCharacters(label).length);
  return `    ${label}${blanks}${wrapped}`;
}

function folderOption({ project }: PlanCommandOptions): string {
  return project === "." ? "" : ` --project ${project}`;
}

function say(text: string): void {
  process.stdout.write(`${text}\n`);
}
