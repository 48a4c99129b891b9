/** `demo`: the whole way on made-up data: a service, a first run, an hour later a second run, and the tables. */

import { mkdirSync, rmSync } from "node:fs";
import { join } from "node:path";
import colors from "picocolors";
import { type OpenedProject, openProject } from "../node/project.js";
import type { StreamReport } from "../run/events.js";
import { BOOKINGS_DEFAULTS } from "../standins/bookings/server.js";
import { type SpawnedService, type SpawnOptions, spawnService } from "../standins/spawn.js";
import { writeDemoProject } from "./demo-project.js";
import { showRepair } from "./demo-repair.js";
import { EXIT_CODES } from "./exit-codes.js";
import { countOf, countText, timeText } from "./format.js";
import { type Log, NO_LOG } from "./no-log.js";
import { runBridge, viewKind } from "./run-command.js";
import { tableText } from "./table.js";

export const DEMO_FOLDER = "early-bridge-demo";
const DEMO_PORT = 4180;
/** some answers fail, as those of real services do */
const FAILING = 0.04;
const MINUTE_MS = 60_000;
const CELL_WIDTH = 28;

/** The other bridges, with how each service is asked. */
const OTHERS: Readonly<Record<string, string>> = {
  sensors: "by hut, in windows of time, by page numbers; its limit is learned",
  logbook: "lists of values under a header row",
  figures: "reports: submitted, looked at, downloaded, joined",
  feedback: "by offset over a list that changes meanwhile",
  deliveries: "XML envelopes, the token in the body",
  crew: "fields described first; after the last key",
  notices: "the next page in a Link header",
  stores: "an OData service: its metadata tells what there is",
};

export interface DemoOptions {
  readonly serve?: boolean | undefined;
  readonly bookings: number;
  readonly plain?: boolean | undefined;
  /** another warehouse than the DuckDB file: a server's address, or a folder */
  readonly to?: string | undefined;
}

export async function demoCommand(options: DemoOptions, log: Log = NO_LOG): Promise<number> {
  mkdirSync(DEMO_FOLDER, { recursive: true });
  const { serve: serving = false, bookings } = options;
  const service = await startService({ bookings, failing: FAILING, neighbours: true });
  try {
    writeDemoProject(DEMO_FOLDER, service, options.to);
    return serving ? await serve(service) : await show(service.url, options, log);
  } finally {
    await service.close();
  }
}

async function show(url: string, options: DemoOptions, log: Log): Promise<number> {
  const { perSecond } = BOOKINGS_DEFAULTS;
  if (options.to === undefined) rmSync(join(DEMO_FOLDER, "huts.duckdb"), { force: true });
  say(`A bookings service with ${countText(options.bookings)} bookings listens at ${url}.`);
  say(
    `It asks for OAuth 2.0, gives pages, permits ${perSecond} requests a second, and fails now and then.\n`,
  );
  const what = options.to === undefined ? "everything" : "what is not there yet";
  say(colors.dim(`── the first run takes ${what} ──\n`));
  const project = await openProject(DEMO_FOLDER);
  const stop = new AbortController();
  const kind = viewKind(options);
  const first = await runBridge(project, "bookings", { kind, log }, stop);
  if (first.outcome !== "done") return first.outcome === "stopped" ? EXIT_CODES.stopped : EXIT_CODES.api;
  const news = (await (await fetch(`${url}/_tick`, { method: "POST" })).json()) as {
    changed: number;
    added: number;
  };
  say(
    colors.dim(
      `── an hour later: ${countOf(news.changed, "booking")} changed, ${news.added} are new; the second run takes only those ──\n`,
    ),
  );
  const second = await runBridge(project, "bookings", { kind, log }, stop);
  if (second.outcome !== "done") return second.outcome === "stopped" ? EXIT_CODES.stopped : EXIT_CODES.api;
  await showTables(project);
  const others = await carryOthers(project, stop, log);
  if (others !== EXIT_CODES.done) return others;
  await showRepair(DEMO_FOLDER, stop.signal);
  say("Next");
  const next = [
    [`npx early-bridge plan --project ${DEMO_FOLDER}`, "what each bridge asks, and how"],
    [`npx early-bridge history --project ${DEMO_FOLDER}`, "what each run did"],
    ["npx early-bridge demo --serve", "keeps the service up; then, in another terminal:"],
    [`npx early-bridge run --project ${DEMO_FOLDER}`, "takes the news"],
  ] as const;
  const width = Math.max(...next.map(([line]) => line.length));
  for (const [line, why] of next) say(`  ${line.padEnd(width)}  ${colors.dim(why)}`);
  return EXIT_CODES.done;
}

/** Carries the federation's other services, and shows in one table how each was asked. */
async function carryOthers(project: OpenedProject, stop: AbortController, log: Log): Promise<number> {
  say(colors.dim("── the federation's other services, each asked in its own way ──\n"));
  const rows: string[][] = [];
  for (const [name, asked] of Object.entries(OTHERS)) {
    const { bridge, close } = await project.openBridge(name);
    const report = await bridge
      .run({ signal: stop.signal, onEvent: (event) => log.onEvent(event) })
      .finally(close);
    if (report.outcome === "stopped") return EXIT_CODES.stopped;
    if (report.error !== undefined) throw report.error;
    const sum = (count: (stream: StreamReport) => number) =>
      countText(report.streams.reduce((all, stream) => all + count(stream), 0));
    const took = timeText(report.endedAtMs - report.startedAtMs);
    rows.push([
      name,
      asked,
      sum((each) => each.requests),
      sum((each) => each.retries),
      sum((each) => each.added),
      took,
    ]);
  }
  const right = ["requests", "retries", "rows", "took"].map((title) => ({ title, right: true }));
  say(`${tableText([{ title: "bridge" }, { title: "asked" }, ...right], rows)}\n`);
  return EXIT_CODES.done;
}

/** The tables that stand in the warehouse now: columns with their types, and some rows. */
async function showTables(project: Awaited<ReturnType<typeof openProject>>): Promise<void> {
  const warehouse = await project.warehouse("local");
  const session = await warehouse.open({ readOnly: true });
  try {
    say(colors.dim(`── ${warehouse.title}, schema bookings ──\n`));
    for (const { name, rows, columns } of await session.describeTables("bookings")) {
      const typed = columns.map((column) => `${column.name} ${colors.cyan(shortType(column.type))}`);
      say(`${colors.bold(name)}  ${countOf(rows, "row")}`);
      say(`${wrapped(typed, ", ", Math.min(process.stdout.columns ?? 120, 120) - 4)}\n`);
    }
    const sample = await session.sampleRows("bookings", "bookings", 4);
    const shown = ["id", "reference", "lead_guest_name", "price_amount", "stay_from", "extras", "changed_at"];
    const cells = sample.map((row) => shown.map((column) => clipped(row[column] ?? "")));
    say(
      `${tableText(
        shown.map((title) => ({ title })),
        cells,
      )}\n`,
    );
  } finally {
    await session.close();
  }
}

/** Keeps the service up; every minute an hour passes in it. */
async function serve({ url, neighbours }: SpawnedService): Promise<number> {
  const urls = [url, ...(neighbours === undefined ? [] : [neighbours.url])];
  const tick = () => Promise.all(urls.map((each) => fetch(`${each}/_tick`, { method: "POST" })));
  // the demo's own hour, and one more: the next run finds news
  await tick();
  await tick();
  say(`The bookings service listens at ${url}; every minute an hour passes there.`);
  say(`In another terminal: npx early-bridge run --project ${DEMO_FOLDER}`);
  say("The federation's other services are up too, each with a sign-in and a way of asking of its own.");
  say(`Try: npx early-bridge probe sensors --project ${DEMO_FOLDER}`);
  say(colors.dim("Ctrl-C ends it."));
  const timer = setInterval(() => void tick().catch(() => {}), MINUTE_MS);
  await new Promise<void>((resolve) => process.once("SIGINT", () => resolve()));
  clearInterval(timer);
  return EXIT_CODES.done;
}

/** On the demo's own port, so that its files stay true; on any other where that one is taken. */
async function startService(options: SpawnOptions): Promise<SpawnedService> {
  try {
    return await spawnService({ ...options, port: DEMO_PORT });
  } catch {
    return await spawnService({ ...options, port: 0 });
  }
}

function shortType(type: string): string {
  return type.toLowerCase().replace("timestamp with time zone", "timestamptz");
}

function clipped(text: string): string {
  return text.length > CELL_WIDTH ? `${text.slice(0, CELL_WIDTH - 1)}…` : text;
}

function wrapped(parts: readonly string[], separator: string, width: number): string {
  const lines: string[] = [];
  let line = "";
  let length = 0;
  for (const part of parts) {
    // biome-ignore lint/suspicious/noControlCharactersInRegex: colour codes begin with the escape character
    const visible = part.replaceAll(/\u001b\[[0-9;]*m/g, "").length + separator.length;
    if (length + visible > width && line !== "") {
      lines.push(line);
      line = "";
      length = 0;
    }
    line += (line === "" ? "" : separator) + part;
    length += visible;
  }
  return [...lines, line].map((each) => `  ${each}`).join("\n");
}

function say(text: string): void {
  process.stdout.write(`${text}\n`);
}
