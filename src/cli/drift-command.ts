/** `drift`: how the tables' form has changed over time, run by run. */

import colors from "picocolors";
import { grouped } from "../core/grouped.js";
import { openProject } from "../node/project.js";
import type { JournaledChange } from "../warehouse/warehouse.js";
import { changeText } from "./change-text.js";
import { EXIT_CODES } from "./exit-codes.js";
import { countOf, momentText } from "./format.js";
import { jsonLine } from "./json-lines.js";

export interface DriftCommandOptions {
  readonly project: string;
  readonly json?: boolean | undefined;
}

export async function driftCommand(
  bridge: string | undefined,
  options: DriftCommandOptions,
): Promise<number> {
  const project = await openProject(options.project);
  const chosen = (bridge === undefined ? project.bridges : [bridge]).map((name) => project.bridge(name));
  for (const name of new Set(chosen.map(({ to }) => to))) {
    const session = await (await project.warehouse(name)).open({ readOnly: true });
    try {
      const changes = await session.ledger.changes({ bridge });
      if (options.json === true) for (const each of changes) say(jsonLine("change", { ...each }).trimEnd());
      else say(storyText(changes));
    } finally {
      await session.close();
    }
  }
  return EXIT_CODES.done;
}

function storyText(changes: readonly JournaledChange[]): string {
  if (changes.length === 0) return "Nothing has changed its form, and no table has been made yet.";
  const runs = grouped(changes, ({ run, bridge }) => `${run} ${bridge ?? ""}`);
  return [...runs.values()].map(runText).join("\n\n");
}

function runText(changes: readonly JournaledChange[]): string {
  const { run, bridge, changedAtMs } = changes[0]!;
  const head = `${colors.bold(`run ${run}`)}  ${bridge ?? ""}  ${colors.dim(momentText(changedAtMs))}`;
  const made = changes.filter(({ change }) => change === "table_added");
  const others = changes.filter(({ change }) => change !== "table_added");
  const tables = made.map(({ schema, table }) => `${schema}.${table}`).join(", ");
  return [
    head,
    ...(made.length === 0 ? [] : [`  ${countOf(made.length, "new table")}: ${tables}`]),
    ...others.map((each) => `  ${changeText(each, each.schema)}`),
  ].join("\n");
}

function say(text: string): void {
  process.stdout.write(`${text}\n`);
}
