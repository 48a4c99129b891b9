/** `survey`: what there is to carry; what is picked is written into the connector file. */

import colors from "picocolors";
import { type DraftStream, parentNames } from "../core/draft/draft.js";
import { BridgeError } from "../core/errors.js";
import { readDocument } from "../node/draft.js";
import { type OpenedProject, openProject } from "../node/project.js";
import type { Api } from "../run/api.js";
import { survey, surveyedStreams } from "../run/survey.js";
import type { SurveyResource } from "../run/survey-resource.js";
import { pickSets, pickStreams } from "./connector-picks.js";
import { EXIT_CODES } from "./exit-codes.js";
import { clipped, countOf, countText } from "./format.js";
import { jsonLine } from "./json-lines.js";
import { tableText } from "./table.js";

export interface SurveyCommandOptions {
  readonly project: string;
  readonly search?: string | undefined;
  /** an OpenAPI document: a file, or a whole address */
  readonly openapi?: string | undefined;
  /** write these into the connector file; true: those that are ticked in a list */
  readonly pick?: readonly string[] | true | undefined;
  readonly json?: boolean | undefined;
}

export async function surveyCommand(
  account: string,
  name: string | undefined,
  options: SurveyCommandOptions,
): Promise<number> {
  const project = await openProject(options.project);
  const openApi = options.openapi === undefined ? undefined : await readDocument(options.openapi);
  const api = await project.openAccount(account);
  try {
    const { search } = options;
    if (options.pick !== undefined) return await pick(project, api, account, openApi, options);
    const found = await survey({ api, search, name, openApi });
    if (options.json === true)
      for (const each of found) process.stdout.write(jsonLine("resource", { account, ...each }));
    else say(name === undefined ? listText(account, found, search) : detailText(found[0]!));
    return EXIT_CODES.done;
  } finally {
    await api.close();
  }
}

async function pick(
  project: OpenedProject,
  api: Api,
  account: string,
  openApi: unknown,
  { pick: named, search }: SurveyCommandOptions,
): Promise<number> {
  const found = await survey({ api, count: false, openApi });
  const picked = named === true || named === undefined ? await ticked(api, account, search, openApi) : named;
  if (picked === undefined) return EXIT_CODES.stopped;
  if (picked.length === 0) return EXIT_CODES.done;
  // names that are none are told before anything is written
  const unknown = picked.find((each) => !found.some(({ name }) => name === each));
  if (unknown !== undefined) await survey({ api, name: unknown, count: false, openApi });
  const isOData = found.some(({ kind }) => kind !== "list");
  const result = isOData
    ? await pickSets(project, account, picked)
    : await pickStreams(project, account, await streamsNamed(api, account, picked, openApi));
  for (const each of picked) {
    const isAdded = result.added.includes(each);
    say(`  ${each.padEnd(30)} ${isAdded ? colors.green("added") : colors.yellow("was there")}`);
  }
  say(
    `\n${result.path} names ${countOf(result.total, isOData ? "set" : "stream")}. Next: early-bridge probe ${account}`,
  );
  return EXIT_CODES.done;
}

/** The streams of an OpenAPI document by their names, and those that give them values. */
async function streamsNamed(
  api: Api,
  account: string,
  names: readonly string[],
  openApi: unknown,
): Promise<DraftStream[]> {
  const all = await surveyedStreams(api, openApi);
  if (all === undefined)
    throw new BridgeError(
      "CONFIG_INVALID",
      "Only names are known: how they are asked for has to be drafted.",
      {
        hint: `Run: early-bridge draft <address>, or give a document: early-bridge survey ${account} --openapi <file>.`,
      },
    );
  const byName = new Map(all.map((each) => [each.name, each]));
  const parents = names.flatMap((name) => {
    const stream = byName.get(name);
    return stream === undefined ? [] : parentNames(stream);
  });
  return [...new Set([...parents, ...names])].flatMap((name) => byName.get(name) ?? []);
}

/** What is ticked of the sets that no stream carries yet; undefined where the list is left. */
async function ticked(
  api: Api,
  account: string,
  search: string | undefined,
  openApi: unknown,
): Promise<string[] | undefined> {
  if (!process.stdin.isTTY || !process.stdout.isTTY)
    throw new BridgeError("CONFIG_INVALID", "A list to tick needs a terminal.", {
      hint: `Name them instead: early-bridge survey ${account} --pick <name> <name> …`,
    });
  const sets = (await survey({ api, search, openApi })).filter(({ stream }) => stream === undefined);
  if (sets.length === 0) {
    say(search === undefined ? "All of them are carried already." : `No other holds "${search}".`);
    return [];
  }
  const { autocompleteMultiselect, isCancel } = await import("@clack/prompts");
  const choice = await autocompleteMultiselect({
    message: `To carry from ${account} (type to search, Tab to tick, Enter to write)`,
    options: sets.map(({ name, rows, description }) => ({
      value: name,
      label: rows === undefined ? name : `${name}  ${countText(rows)} rows`,
      ...(description === undefined ? {} : { hint: description }),
    })),
    required: false,
    maxItems: 15,
  });
  return isCancel(choice) ? undefined : choice;
}

function listText(account: string, found: readonly SurveyResource[], search: string | undefined): string {
  if (found.length === 0)
    return search === undefined
      ? "There is nothing to carry."
      : `No name, column or description holds "${search}".`;
  const isOData = found.some(({ kind }) => kind !== "list");
  const columns = [
    { title: isOData ? "set" : "list" },
    { title: "stream" },
    ...(isOData ? [] : [{ title: "path" }]),
    { title: "key" },
    { title: "columns", right: true, leaves: 3 },
    ...(isOData ? [{ title: "rows", right: true, leaves: 2 }] : [{ title: "pages", leaves: 2 }]),
    { title: "cursor" },
    { title: isOData ? "leads to" : "needs", leaves: 1 },
  ];
  const rows = found.map((each) => [
    each.name,
    each.stream ?? colors.dim("—"),
    ...(isOData ? [] : [clipped(each.path ?? "", CELL_WIDTH)]),
    each.key.join(", "),
    each.columns.length === 0 ? "" : countText(each.columns.length),
    isOData ? (each.rows === undefined ? "" : countText(each.rows)) : clipped(each.pages ?? "", CELL_WIDTH),
    cursorsOf(each)[0] ?? "",
    clipped(leadsTo(each, isOData), CELL_WIDTH),
  ]);
  const left = found.find(({ stream, missing }) => stream === undefined && missing.length === 0);
  const next = [
    `One of them in detail: early-bridge survey ${account} ${found[0]!.name}`,
    ...(left === undefined ? [] : [`To carry more: early-bridge survey ${account} --pick ${left.name}`]),
  ];
  const counted = countOf(found.length, isOData ? "set" : "list");
  return [counted, "", tableText(columns, rows), "", ...next.map(colors.dim)].join("\n");
}

/** Of a set, the types that it leads to; of a list, the streams and values that it needs. */
function leadsTo({ navigation, missing }: SurveyResource, isOData: boolean): string {
  if (isOData) return [...new Set(navigation.map(({ to, many }) => (many ? `${to}[]` : to)))].join(", ");
  return [
    ...navigation.map(({ to }) => `stream ${to}`),
    ...missing.map((each) => `${each}: no list gives it`),
  ].join(", ");
}

function detailText(resource: SurveyResource): string {
  const { name, kind, path, stream, key, columns, rows, navigation, description, pages, scopes, missing } =
    resource;
  const isOData = kind !== "list";
  const cursors = cursorsOf(resource);
  const facts: readonly (readonly [string, string | undefined])[] = [
    ["stream", stream ?? "none carries it"],
    ["path", path],
    ["key", key.length === 0 ? "none is known" : key.join(", ")],
    ["rows", rows === undefined ? undefined : countText(rows)],
    ["pages", isOData ? undefined : (pages ?? "nothing is known of them")],
    ["cursor", cursors.length === 0 ? "none: it is read whole each time" : cursors.join(", ")],
    ["scopes", scopes.join(", ")],
    isOData
      ? [
          "leads to",
          navigation.map(({ name: way, to, many }) => `${way} (${to}${many ? "[]" : ""})`).join(", "),
        ]
      : [
          "needs",
          [...navigation.map(({ name: part, to }) => `${part}, by stream ${to}`), ...missing].join("; "),
        ],
  ];
  const head = [
    `${colors.bold(name)}${description === undefined ? "" : `  ${description}`}`,
    "",
    ...facts.flatMap(([label, text]) => (text ? [`  ${colors.dim(label.padEnd(LABEL_WIDTH))}${text}`] : [])),
  ];
  if (columns.length === 0) return head.join("\n");
  const titles = ["column", "declared", "becomes", "description"].map((title) => ({ title }));
  const cells = columns.map(({ path: at, declared, type, description: words }) => [
    at,
    declared.replaceAll("Edm.", ""),
    type ?? colors.dim("what comes"),
    clipped(words ?? "", CELL_WIDTH),
  ]);
  return [...head, "", tableText(titles, cells)].join("\n");
}

/** What may tell of changes, the best way first. */
function cursorsOf({ cursors, tracksChanges }: Pick<SurveyResource, "cursors" | "tracksChanges">): string[] {
  return tracksChanges ? ["delta links", ...cursors] : [...cursors];
}

const CELL_WIDTH = 40;
const LABEL_WIDTH = 10;

function say(text: string): void {
  process.stdout.write(`${text}\n`);
}
