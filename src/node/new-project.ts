/**
 * The files of a new project: a connector skeleton for the chosen sign-in, bridges.yaml, and what keeps secrets
 * out.
 */

import { mkdir, writeFile } from "node:fs/promises";
import { dirname, join } from "node:path";
import { Document, isMap, parseDocument, type YAMLMap } from "yaml";
import { BridgeError } from "../core/errors.js";
import { readIfThere } from "./files.js";

/** A way of signing in that `init` knows a skeleton for. */
export interface SignInChoice {
  readonly name: string;
  readonly title: string;
  /** lines under `settings:` */
  readonly settings: readonly string[];
  /** the value of `sign_in:` */
  readonly signIn: string;
  /** settings that are secrets: the account refers to them by $NAME */
  readonly secrets: readonly string[];
}

const secret = (name: string) => `${name}: { type: string, secret: true }`;

export const SIGN_IN_CHOICES: readonly SignInChoice[] = [
  { name: "none", title: "no sign-in", settings: [], signIn: "none", secrets: [] },
  {
    name: "key",
    title: "an API key",
    settings: [secret("api_key")],
    signIn: '{ key: "{api_key}", in: header, name: X-API-Key }',
    secrets: ["api_key"],
  },
  {
    name: "bearer",
    title: "a fixed bearer token",
    settings: [secret("token")],
    signIn: '{ bearer: "{token}" }',
    secrets: ["token"],
  },
  {
    name: "basic",
    title: "user and password (HTTP Basic)",
    settings: ["user: { type: string }", secret("password")],
    signIn: "{ basic: {} }",
    secrets: ["password"],
  },
  {
    name: "client_credentials",
    title: "OAuth 2.0 client credentials",
    settings: ["client_id: { type: string }", secret("client_secret")],
    signIn: '{ oauth2: client_credentials, token_url: "{+base}/oauth/token" }',
    secrets: ["client_secret"],
  },
  {
    name: "authorization_code",
    title: "OAuth 2.0, a person signs in with a browser",
    settings: ["client_id: { type: string }"],
    signIn:
      '{ oauth2: authorization_code, authorize_url: "{+base}/oauth/authorize", token_url: "{+base}/oauth/token" }',
    secrets: [],
  },
  {
    name: "device_code",
    title: "OAuth 2.0, a person types a code on another device",
    settings: ["client_id: { type: string }"],
    signIn: '{ oauth2: device_code, device_url: "{+base}/oauth/device", token_url: "{+base}/oauth/token" }',
    secrets: [],
  },
  {
    name: "jwt_bearer",
    title: "OAuth 2.0, a service account's key file",
    settings: ["key_file: { type: string }"],
    signIn: '{ oauth2: jwt_bearer, token_url: "{+base}/oauth/token", key_file: "{key_file}" }',
    secrets: [],
  },
  {
    name: "session",
    title: "a sign-in request that gives a token or cookie",
    settings: ["user: { type: string }", secret("password")],
    signIn:
      '{ session: { post: "/login", json: { user: "{user}", password: "{password}" }, token: $.token } }',
    secrets: ["password"],
  },
];

/** A sign-in that is written out, as a connector's `sign_in` has it: the names in it become settings. */
export function writtenSignIn(text: string): SignInChoice {
  const named = [...text.matchAll(/\{\+?([a-z][a-z0-9_]*)\}/g)].map(([, name]) => name!);
  const own = /\bbasic:/.test(text)
    ? ["user", "password"]
    : /client_credentials/.test(text)
      ? ["client_id", "client_secret"]
      : [];
  const names = [...new Set([...named, ...own])].filter((name) => name !== "base");
  const isSecret = (name: string) =>
    !/^(user|username|client_id|tenant|account|key_file|scope|region)$/.test(name);
  return {
    name: "written",
    title: "written out",
    settings: names.map((name) => (isSecret(name) ? secret(name) : `${name}: { type: string }`)),
    signIn: text,
    secrets: names.filter(isSecret),
  };
}

export interface NewProject {
  readonly folder: string;
  /** the connector's name: lower case letters, digits and _ */
  readonly name: string;
  readonly baseUrl: string;
  readonly signIn: SignInChoice;
}

export interface WrittenFile {
  readonly path: string;
  /** kept: it was there already and is as it was */
  readonly outcome: "written" | "kept" | "added to";
}

export interface WrittenProject {
  readonly files: readonly WrittenFile[];
  /** the new account's name */
  readonly account: string;
}

const BRIDGES_FILE = "bridges.yaml";

/**
 * Writes a new project's files, or adds to the project that is there. What is there stays, its comments too.
 * @throws BridgeError CONFIG_SYNTAX where the bridges.yaml that is there is no YAML, FILE_FAILED
 */
export async function writeNewProject(project: NewProject): Promise<WrittenProject> {
  const { folder, name } = project;
  const before = await readIfThere(join(folder, BRIDGES_FILE));
  const there = before === undefined ? undefined : parsed(before);
  const account = there === undefined ? "main" : freeAccount(there, name);
  const isThere = there?.hasIn(["bridges", name]) === true;
  const bridges = isThere
    ? undefined
    : await write(folder, BRIDGES_FILE, bridgesText(project, account, there));
  const connector = await writeNew(folder, `connectors/${name}.connector.yaml`, connectorText(project));
  const files = [
    bridges ?? { path: BRIDGES_FILE, outcome: "kept" as const },
    connector,
    await addLines(folder, ".env.example", [ENV_HEAD, ...envLines(project)]),
    await addLines(folder, ".gitignore", IGNORED),
  ];
  return { files, account };
}

/**
 * Writes a connector file that is not there yet.
 * @throws BridgeError FILE_UNWRITABLE where it is
 */
export async function writeNewConnector(folder: string, path: string, text: string): Promise<void> {
  const { outcome } = await writeNew(folder, path, text);
  if (outcome !== "kept") return;
  throw new BridgeError("FILE_UNWRITABLE", `${path} is there already, and nothing is written over it.`, {
    hint: "Choose another name: --name.",
  });
}

async function write(folder: string, path: string, text: string): Promise<WrittenFile> {
  const whole = join(folder, path);
  await mkdir(dirname(whole), { recursive: true });
  const before = await readIfThere(whole);
  await writeFile(whole, text);
  return { path, outcome: before === undefined ? "written" : "added to" };
}

async function writeNew(folder: string, path: string, text: string): Promise<WrittenFile> {
  const there = await readIfThere(join(folder, path));
  return there === undefined ? write(folder, path, text) : { path, outcome: "kept" };
}

/** Adds those lines that a file does not have yet. */
async function addLines(folder: string, path: string, lines: readonly string[]): Promise<WrittenFile> {
  const before = (await readIfThere(join(folder, path))) ?? "";
  const has = new Set(before.split(/\r?\n/));
  // a value that is filled in counts as the line that asks for it
  const missing = lines.filter(
    (line) => !has.has(line) && !(line.endsWith("=") && before.includes(`\n${line}`)),
  );
  if (missing.length === 0) return { path, outcome: "kept" };
  const joint = before === "" || before.endsWith("\n") ? "" : "\n";
  return write(folder, path, `${before}${joint}${missing.join("\n")}\n`);
}

/** Secrets, warehouses and recordings stay out of version control. */
const IGNORED = [".env", "*.duckdb", "*.duckdb.wal", "*.har"];

const ENV_HEAD = "# Copy to .env, fill in, and keep it to yourself: cp .env.example .env && chmod 600 .env";

function parsed(text: string): Document {
  const document = parseDocument(text);
  const [error] = document.errors;
  if (error === undefined) return document;
  throw new BridgeError("CONFIG_SYNTAX", `The bridges.yaml that is there is no YAML: ${error.message}`, {
    where: { file: BRIDGES_FILE },
    cause: error,
  });
}

function freeAccount(document: Document, name: string): string {
  for (let n = 1; ; n++) {
    const account = n === 1 ? name : `${name}_${n}`;
    if (!document.hasIn(["accounts", account])) return account;
  }
}

/** The environment's name for a setting of the account of a connector. */
export function envName(name: string, setting: string): string {
  return `${name}_${setting}`.toUpperCase();
}

const SCHEMA_LINE =
  "# yaml-language-server: $schema=./node_modules/early-bridge/schemas/bridges.schema.json\n";

/** The whole file, new or with the new account and bridge behind those that are there. */
function bridgesText(project: NewProject, account: string, there: Document | undefined): string {
  const { name, signIn, baseUrl } = project;
  const document = there ?? new Document({});
  document.setIn(["accounts", account], {
    connector: `./connectors/${name}.connector.yaml`,
    base: baseUrl,
    ...Object.fromEntries(
      signIn.settings.map(settingName).map((setting) => [setting, `$${envName(name, setting)}`]),
    ),
  });
  const warehouses = document.get("warehouses");
  // not the bridge's name: DuckDB would take a file and a schema of one name for each other
  if (!isMap(warehouses) || warehouses.items.length === 0)
    document.setIn(["warehouses", "local"], inLine(document, { duckdb: "./warehouse.duckdb" }));
  const [warehouse] = (document.get("warehouses") as YAMLMap).items;
  document.setIn(["bridges", name], inLine(document, { from: account, to: String(warehouse!.key) }));
  return `${there === undefined ? SCHEMA_LINE : ""}${document.toString({ lineWidth: 0 })}`;
}

function inLine(document: Document, value: object): unknown {
  return document.createNode(value, { flow: true });
}

/** `name` of `name: { … }`. */
function settingName(line: string): string {
  return line.slice(0, line.indexOf(":"));
}

function connectorText({ name, signIn }: NewProject): string {
  const settings = signIn.settings.map((line) => `  ${line}\n`).join("");
  return `# yaml-language-server: $schema=../node_modules/early-bridge/schemas/connector.schema.json
connector: ${name}
version: 0.1.0
settings: # what an account fills in
  base: { type: string, format: uri }
${settings}api:
  url: "{+base}"
  sign_in: ${signIn.signIn}
  rate_limit: { per_second: 5, concurrency: 2 } # as the API's documentation publishes it
  # probe: { get: /me }               # a cheap request that any account may make
streams:
  things: # a series of records of one kind
    get: /things
    records: $[*] # where the records are in the response
    key: id
    # pages: { token: $.next_token, query: after }
    # cursor: { field: changed_at, query: changed_after, start: -P90D, overlap: PT5M }
`;
}

function envLines(project: NewProject): string[] {
  return project.signIn.settings.map((line) => `${envName(project.name, settingName(line))}=`);
}
