/** `mend`: what is in quarantine and why; records tried again, discarded or taken out as JSON Lines. */

import { open, rm } from "node:fs/promises";
import colors from "picocolors";
import { BridgeError } from "../core/errors.js";
import { grouped } from "../core/grouped.js";
import { stringifyExact } from "../core/shape/exact-json.js";
import { type OpenedProject, openProject } from "../node/project.js";
import { type Mended, mend } from "../run/mend.js";
import type {
  Quarantined,
  QuarantineFault,
  QuarantineFilter,
  WarehouseSession,
} from "../warehouse/warehouse.js";
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
  const wanted = { project, names, options };
  if (options.show !== undefined) await showOne(wanted, options.show);
  else if (options.export !== undefined) await exportAll(wanted, options.export);
  else if (options.json === true)
    await onEach(wanted, (some) => some.forEach((each) => void process.stdout.write(recordLine(each))));
  else if (options.discard !== true) say(reasonsText(await faultsOf(wanted), options));
  if (options.discard === true) await discardAll(wanted);
  return EXIT_CODES.done;
}

/** Which records: the bridges, and what else is said of them. */
interface Wanted {
  readonly project: OpenedProject;
  readonly names: readonly string[];
  readonly options: MendCommandOptions;
}

/** A bridge's ledger, where a run has made one. */
interface OpenLedger {
  readonly filter: QuarantineFilter;
  readonly schema: string;
  readonly ledger: WarehouseSession["ledger"];
}

async function onLedgers(
  { project, names, options }: Wanted,
  work: (open: OpenLedger) => Promise<void>,
): Promise<void> {
  const { show: id, stream, reason, path, discard } = options;
  for (const name of names) {
    const { to, schema = name } = project.bridge(name);
    const session = await openThere(await project.warehouse(to), discard !== true);
    if (session === undefined) continue;
    try {
      const filter = { bridge: name, stream, reason, path, id };
      await work({ filter, schema, ledger: session.ledger });
    } finally {
      await session.close();
    }
  }
}

async function faultsOf(wanted: Wanted): Promise<QuarantineFault[]> {
  const faults: QuarantineFault[] = [];
  await onLedgers(wanted, async ({ ledger, filter }) => {
    faults.push(...(await ledger.faults(filter)));
  });
  return faults;
}

/** Goes through the records, some at a time, stream by stream. */
function onEach(
  wanted: Wanted,
  work: (some: readonly Quarantined[], of: OpenLedger) => Promise<void> | void,
): Promise<void> {
  return onLedgers(wanted, async (open) => {
    const { ledger, filter } = open;
    const streams = new Set((await ledger.faults(filter)).map(({ stream }) => stream));
    for (const stream of streams)
      for await (const some of ledger.quarantined({ ...filter, stream })) await work(some, open);
  });
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

async function discardAll(wanted: Wanted): Promise<void> {
  const { why, json } = wanted.options;
  let count = 0;
  await onEach(wanted, async (some, { ledger, filter: { bridge }, schema }) => {
    const ids = some.map(({ id }) => id);
    const of = { bridge, stream: some[0]!.stream, schema };
    await ledger.settle(of, { ids, how: "discarded", why }, Date.now());
    count += some.length;
  });
  if (json !== true) say(`${countOf(count, "record")} discarded. They stay in the ledger, with the reason.`);
}

function recordLine({ record, ...each }: Quarantined): string {
  return jsonLine("in_quarantine", { ...each, record: plainNumbers(record) });
}

function reasonsText(faults: readonly QuarantineFault[], { project }: MendCommandOptions): string {
  if (faults.length === 0) return "Nothing is in quarantine.";
  const groups = [
    ...grouped(faults, ({ bridge, stream, reason, path }) =>
      [bridge, stream, reason, path].join("\n"),
    ).values(),
  ].map((runs) => ({ last: lastOf(runs), records: recordsOf(runs) }));
  const lines = groups
    .sort((a, b) => b.records - a.records)
    .flatMap(({ last, records }) => {
      const { bridge, stream, reason, path, id, message, quarantinedAtMs } = last;
      const what = [plainWords(reason), path].filter((text) => text !== "").join(" at ");
      const count = `${countOf(records, "record")}, the last ${momentText(quarantinedAtMs)}`;
      return [
        `${colors.bold(`${bridge} ${stream}`)}  ${colors.yellow(what)}  ${colors.dim(count)}`,
        `  ${id}  ${message}`,
      ];
    });
  const folder = project === "." ? "" : ` --project ${project}`;
  const next = [
    [`--show ${lastOf(faults).id}`, "one of them, whole"],
    ["--retry", "after the rule, the type or the data is put right"],
    ["--discard --why '…'", "what is not wanted"],
  ];
  return [
    ...lines,
    "",
    `${countOf(recordsOf(faults), "record")} in quarantine. Next:`,
    ...next.map(([option, what]) => `  early-bridge mend${folder} ${option!.padEnd(20)}  ${what}`),
  ].join("\n");
}

const recordsOf = (faults: readonly QuarantineFault[]) =>
  faults.reduce((sum, { records }) => sum + records, 0);

/** The one whose last record came last. */
function lastOf(faults: readonly QuarantineFault[]): QuarantineFault {
  return faults.reduce((last, each) => (each.quarantinedAtMs >= last.quarantinedAtMs ? each : last));
}

async function showOne(wanted: Wanted, id: string): Promise<void> {
  const found: Quarantined[] = [];
  await onEach(wanted, (some) => void found.push(...some));
  const [one] = found;
  if (one === undefined)
    throw new BridgeError("USAGE", `No record ${id} is open in quarantine.`, {
      hint: "early-bridge mend lists what is, each reason with the id of an example.",
    });
  const { bridge, stream, run, page, quarantinedAtMs, message, record } = one;
  const place = `${bridge} ${stream}, run ${run}${page === undefined ? "" : `, page ${page}`}, ${momentText(quarantinedAtMs)}`;
  say(`${colors.bold(one.id)}  ${place}\n${message}\n`);
  say(prettyJson(record));
}

async function exportAll(wanted: Wanted, file: string): Promise<void> {
  const refused = (message: string, cause: unknown) =>
    new BridgeError("USAGE", message, { hint: "Name another file.", cause });
  // what is in them is the API's data: nobody else is to read it
  const out = await open(file, "wx", 0o600).catch((cause: NodeJS.ErrnoException) => {
    const isThere = cause.code === "EEXIST";
    throw refused(
      isThere ? `${file} is there already.` : `${file} cannot be written: ${cause.message}.`,
      cause,
    );
  });
  let count = 0;
  let isWhole = false;
  try {
    await onEach(wanted, async (some) => {
      const lines = some.map((each) => `${stringifyExact(each)}\n`).join("");
      await out.appendFile(lines).catch((cause: NodeJS.ErrnoException) => {
        throw refused(`${file} cannot be written: ${cause.message}.`, cause);
      });
      count += some.length;
    });
    isWhole = true;
  } finally {
    await out.close();
    // some of them are not to be taken for all
    if (!isWhole) await rm(file, { force: true });
  }
  say(`${countOf(count, "record")} in ${file}, one JSON object a line.`);
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
