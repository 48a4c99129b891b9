/** `draft`: a connector file found out from addresses, with the account and the bridge that use it. */

import { readFile } from "node:fs/promises";
import { parse } from "node:path";
import colors from "picocolors";
import type { DraftStream } from "../core/draft/draft.js";
import { resourceOf } from "../core/draft/find-records.js";
import { BridgeError, isBridgeError } from "../core/errors.js";
import { type Drafted, draft, draftDocument, readDocument } from "../node/draft.js";
import {
  envName,
  type SignInChoice,
  writeNewConnector,
  writeNewProject,
  writtenSignIn,
} from "../node/new-project.js";
import { readEnvironment } from "../node/project.js";
import { EXIT_CODES } from "./exit-codes.js";
import { countOf } from "./format.js";
import { nameOf, signInChoice } from "./init-command.js";
import { tableText } from "./table.js";

const SIGN_IN_HINT =
  "Say how one signs in: --sign-in basic, bearer, key, client_credentials, …, or written out: '{ key: \"{api_key}\", name: x-api-key }'.";

const LOGIN_HINT =
  "A person has to sign in first: early-bridge init with the same --sign-in, early-bridge login; then draft with --account.";
const GET_HINT =
  "Check the address. A draft asks by GET alone, unless --post names a body that only asks. Reports are written by hand (report: submit, poll, download).";

export interface DraftCommandOptions {
  readonly project: string;
  readonly name?: string | undefined;
  readonly signIn?: string | undefined;
  /** account of the project whose tokens are used, where a person signs in; default: main */
  readonly account?: string | undefined;
  /** what is posted, or the file that holds it */
  readonly post?: string | undefined;
  /** address of the API, for a document on disk */
  readonly base?: string | undefined;
  /** streams of a document */
  readonly only?: readonly string[] | undefined;
}

export async function draftCommand(
  sources: readonly string[],
  options: DraftCommandOptions,
): Promise<number> {
  const [first] = sources as [string];
  const name = nameOf(options.name ?? nameFrom(first));
  const path = `connectors/${name}.connector.yaml`;
  const isAddress = /^https?:/i.test(first);
  const made = isAddress ? await draftAsked(sources, name, options) : await draftRead(first, name, options);
  await writeNewConnector(options.project, path, made.text);
  const signIn = writtenSignIn(made.draft.signIn.value);
  const { account } = await writeNewProject({
    folder: options.project,
    name,
    baseUrl: options.base ?? made.draft.base,
    signIn,
  });
  say(draftedText(made, path));
  const folder = options.project === "." ? "" : ` --project ${options.project}`;
  const stream = made.draft.streams[0]?.name;
  say("\nNext");
  if (!isAddress && signIn.settings.length > 0)
    say("  cp .env.example .env && chmod 600 .env   then fill it in");
  if (/authorization_code|device_code/.test(signIn.signIn))
    say(`  npx early-bridge login ${account}${folder}`);
  say(`  npx early-bridge probe ${name}${folder}   whether all of it is well`);
  if (stream !== undefined) say(`  npx early-bridge peek ${account} ${stream}${folder}   what it holds`);
  say(`  npx early-bridge run ${name}${folder}   into the warehouse`);
  return EXIT_CODES.done;
}

async function draftAsked(
  addresses: readonly string[],
  name: string,
  options: DraftCommandOptions,
): Promise<Drafted> {
  const signIn = signInChoice(options.signIn ?? "none");
  const values = await valuesOf(options.project, name, signIn);
  const post = options.post === undefined ? undefined : await bodyText(options.post);
  const which = addresses.length === 1 ? "this address" : "these addresses";
  const how = post === undefined ? "by GET alone" : "by POST of this body";
  say(colors.dim(`Asks ${which} ${how}, five requests a second at most: about ten to thirty for each.`));
  try {
    const { account, only } = options;
    return await draft({ addresses, name, account, signIn, values, only, post });
  } catch (error) {
    const hint = isBridgeError(error) ? hintFor(error, options) : undefined;
    if (hint === undefined || !isBridgeError(error)) throw error;
    throw new BridgeError(error.code, error.message, { where: error.where, hint, cause: error });
  }
}

/** A body as it is, or the file that holds it. */
async function bodyText(post: string): Promise<string> {
  if (/^\s*[<{[]/.test(post)) return post;
  return readFile(post, "utf8").catch((cause: Error) => {
    const hint = "Give the body itself, JSON or XML, or a file that holds it.";
    throw new BridgeError("FILE_UNREADABLE", `${post} cannot be read: ${cause.message}.`, { hint, cause });
  });
}

/** What a draft in particular can do about an error; undefined where its own hint says it. */
function hintFor({ code }: BridgeError, { signIn }: DraftCommandOptions): string | undefined {
  if ((code === "TOKEN_REFUSED" || code === "FORBIDDEN") && signIn === undefined) return SIGN_IN_HINT;
  if (code === "LOGIN_NEEDED") return LOGIN_HINT;
  return code === "NOT_FOUND" ? GET_HINT : undefined;
}

/** From a document on disk; nothing is sent. */
async function draftRead(file: string, name: string, options: DraftCommandOptions): Promise<Drafted> {
  return draftDocument(await readDocument(file), { name, at: options.base, only: options.only });
}

/** From the host, or from what is behind it on this machine. */
function nameFrom(address: string): string {
  if (!/^https?:/i.test(address) || !URL.canParse(address)) return parse(address).name.replace(/\..*$/, "");
  const { hostname } = new URL(address);
  const labels = hostname.split(".").filter((label) => !/^(api|www|\d+|com|org|net|io|example)$/.test(label));
  return labels[0] === undefined || labels[0] === "localhost" ? resourceOf(address) : labels[0];
}

async function valuesOf(
  folder: string,
  name: string,
  { settings }: SignInChoice,
): Promise<Record<string, string>> {
  if (settings.length === 0) return {};
  const environment = await readEnvironment(folder);
  const values: Record<string, string> = {};
  const missing: string[] = [];
  for (const line of settings) {
    const setting = line.slice(0, line.indexOf(":"));
    const value = environment[envName(name, setting)];
    if (value === undefined || value === "") missing.push(envName(name, setting));
    else values[setting] = value;
  }
  if (missing.length === 0) return values;
  throw new BridgeError(
    "CONFIG_INVALID",
    `The sign-in needs ${missing.join(" and ")}, which ${missing.length === 1 ? "is" : "are"} not set.`,
    {
      hint: "Set them in the environment, or in .env (chmod 600).",
    },
  );
}

function draftedText({ draft: made, requests }: Drafted, path: string): string {
  const rows = made.streams.map((stream) => [
    stream.name,
    stream.set ?? stream.records?.value ?? "",
    pagesWords(stream),
    stream.key?.value.join(", ") ??
      (stream.set === undefined ? colors.yellow("none") : colors.dim("metadata's")),
    cursorWords(stream.cursor),
  ]);
  const columns = ["stream", "records", "pages", "key", "cursor"].map((title) => ({ title }));
  const open = made.streams.flatMap((stream) =>
    stream.open.map((each) => `  ${colors.yellow("not found out")}  ${stream.name}: ${each}`),
  );
  const odata = made.odata === undefined ? [] : [`  ${made.odata.why}`];
  return [
    `${path} is written, with a comment beside each guess (${countOf(requests, "request")}).`,
    "",
    ...(rows.length === 0 ? [] : [tableText(columns, rows)]),
    ...odata,
    ...open,
  ].join("\n");
}

function pagesWords({ set, pages: found }: DraftStream): string {
  if (found === undefined) return colors.dim(set === undefined ? "one page" : "its next links");
  const { value: pages } = found;
  const kind = ["token", "link", "offset", "number", "after"].find((each) => pages[each] !== undefined) ?? "";
  const value = typeof pages[kind] === "string" ? ` ${pages[kind]}` : "";
  return `by ${kind}${value}${pages.query === undefined ? "" : `, as ${String(pages.query)}`}`;
}

function cursorWords(cursor: DraftStream["cursor"]): string {
  if (cursor === undefined) return colors.dim("none");
  const { delta, field, query } = cursor.value;
  if (delta === true) return "delta links";
  return `${String(field)}${query === undefined ? "" : `, as ${String(query)}`}`;
}

function say(text: string): void {
  process.stdout.write(`${text}\n`);
}
