/** `survey`: what an account's OData service holds; sets that are picked are written into the connector file. */

import { readFile, writeFile } from "node:fs/promises";
import { resolve } from "node:path";
import colors from "picocolors";
import { type Document, isMap, isNode, isSeq, parseDocument } from "yaml";
import { BridgeError } from "../core/errors.js";
import { type OpenedProject, openProject } from "../node/project.js";
import type { Api } from "../run/api.js";
import { type SurveySet, survey } from "../run/survey.js";
import { EXIT_CODES } from "./exit-codes.js";
import { clipped, countOf, countText } from "./format.js";
import { jsonLine } from "./json-lines.js";
import { tableText } from "./table.js";

export interface SurveyCommandOptions {
  readonly project: string;
  readonly search?: string | undefined;
  /** write these sets into the connector file; true: those that are ticked in a list */
  readonly pick?: readonly string[] | true | undefined;
  readonly json?: boolean | undefined;
}

export async function surveyCommand(
  account: string,
  set: string | undefined,
  options: SurveyCommandOptions,
): Promise<number> {
  const project = await openProject(options.project);
  const api = await project.openAccount(account);
  try {
    const { search, pick } = options;
    if (pick !== undefined) return await pickSets(project, api, account, options);
    const sets = await survey({ api, search, set });
    if (options.json === true)
      for (const each of sets) process.stdout.write(jsonLine("set", { account, ...each }));
    else say(set === undefined ? listText(account, sets, search) : detailText(sets[0]!));
    return EXIT_CODES.done;
  } finally {
    await api.close();
  }
}

async function pickSets(
  project: OpenedProject,
  api: Api,
  account: string,
  { pick, search }: SurveyCommandOptions,
): Promise<number> {
  const picked = pick === true || pick === undefined ? await ticked(api, account, search) : pick;
  if (picked === undefined) return EXIT_CODES.stopped;
  // names that are none are told before anything is written
  for (const each of picked) await survey({ api, set: each, count: false });
  if (picked.length > 0) await writePicks(project, account, picked);
  return EXIT_CODES.done;
}

/** What is ticked of the sets that no stream carries yet; undefined where the list is left. */
async function ticked(api: Api, account: string, search: string | undefined): Promise<string[] | undefined> {
  if (!process.stdin.isTTY || !process.stdout.isTTY)
    throw new BridgeError("CONFIG_INVALID", "A list to tick needs a terminal.", {
      hint: `Name the sets instead: early-bridge survey ${account} --pick <set> <set> …`,
    });
  const sets = (await survey({ api, search })).filter(({ stream }) => stream === undefined);
  if (sets.length === 0) {
    say(search === undefined ? "Every set is carried already." : `No other set holds "${search}".`);
    return [];
  }
  const { autocompleteMultiselect, isCancel } = await import("@clack/prompts");
  const choice = await autocompleteMultiselect({
    message: `Sets to carry from ${account} (type to search, Tab to tick, Enter to write)`,
    options: sets.map(({ set, rows, description }) => ({
      value: set,
      label: rows === undefined ? set : `${set}  ${countText(rows)} rows`,
      ...(description === undefined ? {} : { hint: description }),
    })),
    required: false,
    maxItems: 15,
  });
  return isCancel(choice) ? undefined : choice;
}

function listText(account: string, sets: readonly SurveySet[], search: string | undefined): string {
  if (sets.length === 0)
    return search === undefined
      ? "The service has no sets."
      : `No set, column or description holds "${search}".`;
  const columns = [
    { title: "set" },
    { title: "stream" },
    { title: "key" },
    { title: "columns", right: true, leaves: 3 },
    { title: "rows", right: true, leaves: 2 },
    { title: "cursor" },
    { title: "leads to", leaves: 1 },
  ];
  const rows = sets.map((each) => [
    each.set,
    each.stream ?? colors.dim("—"),
    each.key.join(", "),
    countText(each.columns.length),
    each.rows === undefined ? "" : countText(each.rows),
    cursorsOf(each)[0] ?? "",
    clipped(
      [...new Set(each.navigation.map(({ to, many }) => (many ? `${to}[]` : to)))].join(", "),
      CELL_WIDTH,
    ),
  ]);
  const left = sets.find(({ stream }) => stream === undefined);
  const next = [
    `One of them in detail: early-bridge survey ${account} ${sets[0]!.set}`,
    ...(left === undefined ? [] : [`To carry more: early-bridge survey ${account} --pick ${left.set}`]),
  ];
  return [countOf(sets.length, "set"), "", tableText(columns, rows), "", ...next.map(colors.dim)].join("\n");
}

function detailText({
  set,
  stream,
  key,
  columns,
  rows,
  navigation,
  description,
  ...rest
}: SurveySet): string {
  const cursors = cursorsOf(rest);
  const facts: readonly (readonly [string, string | undefined])[] = [
    ["stream", stream ?? "none carries it"],
    ["key", key.length === 0 ? "none" : key.join(", ")],
    ["rows", rows === undefined ? undefined : countText(rows)],
    ["cursor", cursors.length === 0 ? "none: it is read whole each time" : cursors.join(", ")],
    ["leads to", navigation.map(({ name, to, many }) => `${name} (${to}${many ? "[]" : ""})`).join(", ")],
  ];
  const head = [
    `${colors.bold(set)}${description === undefined ? "" : `  ${description}`}`,
    "",
    ...facts.flatMap(([label, text]) => (text ? [`  ${colors.dim(label.padEnd(LABEL_WIDTH))}${text}`] : [])),
  ];
  const titles = ["column", "declared", "becomes", "description"].map((title) => ({ title }));
  const cells = columns.map(({ path, edmType, type, description: words }) => [
    path,
    edmType.replaceAll("Edm.", ""),
    type ?? colors.dim("what comes"),
    clipped(words ?? "", CELL_WIDTH),
  ]);
  return [...head, "", tableText(titles, cells)].join("\n");
}

/** What may tell of changes, the best way first. */
function cursorsOf({ cursors, tracksChanges }: Pick<SurveySet, "cursors" | "tracksChanges">): string[] {
  return tracksChanges ? ["delta links", ...cursors] : [...cursors];
}

/** Adds sets to the connector file, whose comments and order stay. */
async function writePicks(project: OpenedProject, account: string, picks: readonly string[]): Promise<void> {
  const path = project.definition.accounts[account]!.connector;
  const file = resolve(project.folder, path);
  const text = await readFile(file, "utf8");
  const document = parseDocument(text);
  if (!document.hasIn(["odata"]))
    throw new BridgeError("CONFIG_INVALID", `${path} has no odata.`, { where: { file: path } });
  const sets = document.getIn(["odata", "sets"]);
  const known = isSeq(sets) ? sets.toJSON().map(String) : [];
  const streams = (document.toJSON() as { streams?: Record<string, { set?: string }> }).streams ?? {};
  const own = Object.values(streams).flatMap(({ set }) => set ?? []);
  const added = picks.filter((each) => !known.includes(each) && !own.includes(each));
  if (added.length > 0) {
    await writeFile(file, withSets(text, document, [...known, ...added]));
  }
  for (const each of picks)
    say(`  ${each.padEnd(30)} ${added.includes(each) ? colors.green("added") : colors.yellow("was there")}`);
  const named = new Set([...known, ...added, ...own]).size;
  say(`\n${path} names ${countOf(named, "set")}. Next: early-bridge probe ${account}`);
}

/** The text with the list of sets in it; all else stands as it stood, to the last blank. */
function withSets(text: string, document: Document, names: readonly string[]): string {
  const list = `[${names.map((name) => (/^[A-Za-z]\w*$/.test(name) ? name : JSON.stringify(name))).join(", ")}]`;
  const put = (from: number, to: number, what: string) => text.slice(0, from) + what + text.slice(to);
  const sets = document.getIn(["odata", "sets"], true);
  if (isNode(sets) && sets.range) return put(sets.range[0], sets.range[1], list);
  const odata = document.get("odata", true);
  if (!isMap(odata) || !odata.range) throw new BridgeError("INTERNAL", "odata is no map");
  const [from, to] = odata.range;
  const inside = text.slice(from + 1, to - 1).trim();
  if (odata.flow === true) return put(from, to, `{ sets: ${list}${inside === "" ? "" : `, ${inside}`} }`);
  const indent = from - text.lastIndexOf("\n", from) - 1;
  return put(from, from, `sets: ${list}\n${" ".repeat(indent)}`);
}

const CELL_WIDTH = 40;
const LABEL_WIDTH = 10;

function say(text: string): void {
  process.stdout.write(`${text}\n`);
}
