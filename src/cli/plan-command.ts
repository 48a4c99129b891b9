/** `plan`: what a run would ask and write. Nothing is sent. */

import { stripVTControlCharacters } from "node:util";
import colors from "picocolors";
import wrapAnsi from "wrap-ansi";
import { planBridge, type StreamPlan } from "../run/plan.js";
import { openProject } from "../run/project.js";
import { EXIT_CODES } from "./exit-codes.js";
import { jsonLine } from "./json-lines.js";

export interface PlanCommandOptions {
  readonly project: string;
  readonly json?: boolean | undefined;
}

const LABEL_WIDTH = 9;
const MOST_WIDTH = 120;

export async function planCommand(bridge: string | undefined, options: PlanCommandOptions): Promise<number> {
  const project = await openProject(options.project);
  for (const name of bridge === undefined ? project.bridges : [bridge]) {
    const opened = await project.openBridge(name);
    try {
      const plans = await planBridge(opened.bridge, opened.api);
      if (options.json === true)
        for (const plan of plans) process.stdout.write(jsonLine("plan", { bridge: name, ...plan }));
      else tell(name, opened.bridge.warehouse.title, plans);
    } finally {
      await opened.close();
    }
  }
  if (options.json !== true)
    say(
      `Nothing was sent. Next: early-bridge run${bridge === undefined ? "" : ` ${bridge}`}${folderOption(options)}`,
    );
  return EXIT_CODES.done;
}

function tell(bridge: string, warehouse: string, plans: readonly StreamPlan[]): void {
  say(`${colors.bold(bridge)} → ${warehouse}\n`);
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
