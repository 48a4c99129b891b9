/** `probe`: the checklist of an account, or of a bridge with its warehouse. */

import colors from "picocolors";
import wrapAnsi from "wrap-ansi";
import { BridgeError, describeWhere } from "../core/errors.js";
import { warehouseNeeds } from "../core/into/warehouse-needs.js";
import { type OpenedProject, openProject } from "../node/project.js";
import { type ProbeLine, probe } from "../run/probe.js";
import { EXIT_CODES } from "./exit-codes.js";
import { timeText } from "./format.js";
import { jsonLine } from "./json-lines.js";
import { type Log, NO_LOG } from "./no-log.js";

export interface ProbeCommandOptions {
  readonly project: string;
  readonly json?: boolean | undefined;
  readonly grants?: boolean | undefined;
}

const MARKS: Readonly<Record<ProbeLine["outcome"], string>> = {
  good: colors.green("good"),
  note: colors.yellow("note"),
  bad: colors.red("bad "),
  left_out: colors.dim("—   "),
};
const CHECK_WIDTH = 18;
const TIME_WIDTH = 8;
/** where the last column begins: two blanks, the mark, two blanks, check, blank, time, two blanks */
const INDENT = 2 + 4 + 2 + CHECK_WIDTH + 1 + TIME_WIDTH + 2;

/** The exit code: that of the worst line. */
export async function probeCommand(
  name: string,
  options: ProbeCommandOptions,
  log: Log = NO_LOG,
): Promise<number> {
  const project = await openProject(options.project);
  if (options.grants === true) return tellGrants(project, name);
  const opened = await openTarget(project, name);
  const onLine = (line: ProbeLine) => {
    log.note(line.outcome === "bad" ? "error" : "info", "check", line);
    if (options.json === true) process.stdout.write(jsonLine("check", line));
    else tellLine(line);
  };
  if (options.json !== true) process.stdout.write(`${colors.bold(name)}  ${opened.api.account.baseUrl}\n\n`);
  try {
    const lines = await probe({ ...opened, onLine });
    const worst = lines.find((line) => line.error !== undefined)?.error;
    if (options.json !== true) process.stdout.write(worst === undefined ? "\nAll is well.\n" : "\n");
    return worst === undefined ? EXIT_CODES.done : EXIT_CODES[worst.kind];
  } finally {
    await opened.api.close();
  }
}

/** A bridge where there is one of that name, else an account. */
async function openTarget(project: OpenedProject, name: string) {
  const definition = project.definition.bridges[name];
  if (definition === undefined) return { api: await project.openAccount(name) };
  // what an OData service has is a line of the checklist: the bridge itself is not opened before
  const { from, to, schema = name, streams, views } = definition;
  const warehouse = await project.warehouse(to);
  return {
    api: await project.openAccount(from),
    streams: streams && Object.keys(streams),
    warehouse: { warehouse, schema, streams, hasViews: views !== undefined },
  };
}

async function tellGrants(project: OpenedProject, name: string): Promise<number> {
  const { warehouse, api } = await openTarget(project, name);
  await api.close();
  if (warehouse === undefined)
    throw new BridgeError("CONFIG_UNKNOWN_NAME", `There is no bridge ${name}.`, {
      hint: "--grants is for a bridge: an account has no warehouse.",
    });
  const { schema, streams, hasViews } = warehouse;
  process.stdout.write(`${warehouse.warehouse.grants(warehouseNeeds(schema, streams, hasViews))}\n`);
  return EXIT_CODES.done;
}

function tellLine({ check, outcome, ms, found, error }: ProbeLine): void {
  const time = outcome === "left_out" || ms === 0 ? "" : timeText(ms);
  const head = `  ${MARKS[outcome]}  ${check.padEnd(CHECK_WIDTH)} ${colors.dim(time.padStart(TIME_WIDTH))}  `;
  process.stdout.write(`${head}${indented(found)}\n`);
  if (error === undefined) return;
  const where = describeWhere(error.where);
  const code = where === "" ? error.code : `${error.code} · ${where}`;
  for (const text of [colors.dim(code), error.hint])
    process.stdout.write(`${" ".repeat(INDENT)}${indented(text)}\n`);
}

/** Text that stands behind the indent, its further lines under the first. */
function indented(text: string): string {
  const width = Math.max(40, (process.stdout.columns ?? 120) - INDENT - 1);
  return wrapAnsi(text, width).replaceAll("\n", `\n${" ".repeat(INDENT)}`);
}
