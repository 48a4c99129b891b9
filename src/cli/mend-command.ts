/** `mend`: what is in quarantine and why; records tried again, discarded or taken out as JSON Lines. */

import { writeFile } from "node:fs/promises";
import colors from "picocolors";
import { BridgeError } from "../core/errors.js";
import { grouped } from "../core/grouped.js";
import { stringifyExact } from "../core/shape/exact-json.js";
import { type OpenedProject, openProject } from "../node/project.js";
import { type Mended, mend } from "../run/mend.js";
import type { Quarantined, QuarantineFilter, WarehouseSession } from "../warehouse/warehouse.js";
import { EXIT_CODES } from "./exit-codes.js";
import { countOf, countText, momentText, plainWords } from "./format.js";
import { jsonLine } from "./json-lines.js";
import { plainNumbers, prettyJson } from "./pretty-json.js";

export interface MendCommandOptions extends Pick<QuarantineFilter, "stream" | "reason" | "path"> {
  readonly project: string;
  readonly show?: string | undefined;
  readonly retry?: boolean | undefined;
  readonly discard?: boolean | undefined;
  readonly why?: string | undefined;
  readonly export?: string | undefined;
  readonly json?: boolean | undefined;
}

export async function mendCommand(bridge: string | undefined, options: MendCommandOptions): Promise<number> {
  const project = await openProject(options.project);
  const names = bridge === undefined ? project.bridges : [bridge];
  if (options.retry === true) return retry(project, names, options);
  if (options.discard === true && (options.why ?? "") === "")
    throw new BridgeError("USAGE", "Say why these records are discarded.", {
      hint: "Such as --discard --why 'test bookings of the trade fair': it is kept with them.",
    });
  const found: Quarantined[] = [];
  for (const name of names) found.push(...(await onBridge(project, name, options)));
  if (options.show !== undefined) return showOne(found, options.show);
  if (options.export !== undefined) return exportAll(found, options.export);
  if (options.json === true) for (const each of found) process.stdout.write(recordLine(each));
  else if (options.discard === true)
    say(`${countOf(found.length, "record")} discarded. They stay in the ledger, with the reason.`);
  else say(reasonsText(found, options));
  return EXIT_CODES.done;
}

/** The bridge's open records, discarded where that is asked for. */
async function onBridge(
  project: OpenedProject,
  name: string,
  { discard, why, show, stream, reason, path }: MendCommandOptions,
): Promise<readonly Quarantined[]> {
  const { to, schema = name } = project.bridge(name);
  const session = await openThere(await project.warehouse(to), discard !== true);
  if (session === undefined) return [];
  try {
    const records = await session.ledger.quarantined({ bridge: name, stream, reason, path, id: show });
    const streams = discard === true ? new Set(records.map((each) => each.stream)) : [];
    for (const each of streams) {
      const ids = records.filter((record) => record.stream === each).map(({ id }) => id);
      const of = { bridge: name, stream: each, schema };
      await session.ledger.settle(of, { ids, how: "discarded", why }, Date.now());
    }
    return records;
  } finally {
    await session.close();
  }
}

/** Undefined where no run has made the warehouse yet. */
async function openThere(
  warehouse: { open(options: { readOnly: boolean }): Promise<WarehouseSession> },
  readOnly: boolean,
): Promise<WarehouseSession | undefined> {
  return warehouse.open({ readOnly }).catch((error: unknown) => {
    if (error instanceof BridgeError && error.code === "WAREHOUSE_EMPTY") return undefined;
    throw error;
  });
}

function recordLine({ record, ...each }: Quarantined): string {
  return jsonLine("in_quarantine", { ...each, record: plainNumbers(record) });
}

function reasonsText(found: readonly Quarantined[], { project }: MendCommandOptions): string {
  if (found.length === 0) return "Nothing is in quarantine.";
  const groups = grouped(found, ({ bridge, stream, reason, path }) =>
    [bridge, stream, reason, path].join("\n"),
  );
  const lines = [...groups.values()]
    .sort((a, b) => b.length - a.length)
    .flatMap((records) => {
      const { bridge, stream, reason, path } = records[0]!;
      const { id, message, quarantinedAtMs } = records.at(-1)!;
      const what = [plainWords(reason), path].filter((text) => text !== "").join(" at ");
      const count = `${countOf(records.length, "record")}, the last ${momentText(quarantinedAtMs)}`;
      return [
        `${colors.bold(`${bridge} ${stream}`)}  ${colors.yellow(what)}  ${colors.dim(count)}`,
        `  ${id}  ${message}`,
      ];
    });
  const folder = project === "." ? "" : ` --project ${project}`;
  const next = [
    [`--show ${found.at(-1)!.id}`, "one of them, whole"],
    ["--retry", "after the rule, the type or the data is put right"],
    ["--discard --why '…'", "what is not wanted"],
  ];
  return [
    ...lines,
    "",
    `${countOf(found.length, "record")} in quarantine. Next:`,
    ...next.map(([option, what]) => `  early-bridge mend${folder} ${option!.padEnd(20)}  ${what}`),
  ].join("\n");
}

function showOne(found: readonly Quarantined[], id: string): number {
  const [one] = found;
  if (one === undefined)
    throw new BridgeError("USAGE", `No record ${id} is open in quarantine.`, {
      hint: "early-bridge mend lists what is, each reason with the id of an example.",
    });
  const { bridge, stream, run, page, quarantinedAtMs, message, record } = one;
  const place = `${bridge} ${stream}, run ${run}${page === undefined ? "" : `, page ${page}`}, ${momentText(quarantinedAtMs)}`;
  say(`${colors.bold(one.id)}  ${place}\n${message}\n`);
  say(prettyJson(record));
  return EXIT_CODES.done;
}

async function exportAll(found: readonly Quarantined[], file: string): Promise<number> {
  const lines = found.map((each) => `${stringifyExact(each)}\n`);
  // what is in them is the API's data: nobody else is to read it
  await writeFile(file, lines.join(""), { mode: 0o600, flag: "wx" }).catch((cause: NodeJS.ErrnoException) => {
    const message =
      cause.code === "EEXIST" ? `${file} is there already.` : `${file} cannot be written: ${cause.message}.`;
    throw new BridgeError("USAGE", message, { hint: "Name another file.", cause });
  });
  say(`${countOf(found.length, "record")} in ${file}, one JSON object a line.`);
  return EXIT_CODES.done;
}

async function retry(
  project: OpenedProject,
  names: readonly string[],
  options: MendCommandOptions,
): Promise<number> {
  const { stream, reason, path, show: id, json } = options;
  let left = 0;
  for (const name of names) {
    const { bridge, api, close } = await project.openBridge(name);
    try {
      const mended = await mend({ bridge, api, stream, reason, path, id });
      left += mended.streams.reduce((sum, each) => sum + each.left, 0);
      if (json === true) process.stdout.write(jsonLine("mended", { bridge: name, ...mended }));
      else if (mended.run !== undefined || names.length === 1) say(mendedText(name, mended));
    } finally {
      await close();
    }
  }
  return left > 0 ? EXIT_CODES.data : EXIT_CODES.done;
}

function mendedText(name: string, { run, streams }: Mended): string {
  if (run === undefined) return `${name}: nothing is in quarantine that could be tried again.`;
  const lines = streams.map(({ stream, tried, mended, outdated, leftOut, left, message }) => {
    const parts = [
      `${countText(mended)} mended`,
      ...(outdated > 0 ? [`${countText(outdated)} newer or the same in the table already`] : []),
      ...(leftOut > 0 ? [`${countText(leftOut)} left out by rules`] : []),
      ...(left > 0 ? [colors.yellow(`${countText(left)} still do not fit: ${message}`)] : []),
    ];
    return `  ${stream}: ${countOf(tried, "record")} tried, ${parts.join(", ")}`;
  });
  return [`${colors.bold(name)}  run ${run}`, ...lines].join("\n");
}

function say(text: string): void {
  process.stdout.write(`${text}\n`);
}
