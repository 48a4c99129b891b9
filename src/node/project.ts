/** A project on disk: bridges.yaml, its connector files, and secrets from the environment and .env. */

import { readFile } from "node:fs/promises";
import { dirname, join, relative, resolve } from "node:path";
import { parseEnv } from "node:util";
import { fileTokenStore } from "../auth/file-token-store.js";
import { readPrivateFile } from "../auth/private-file.js";
import type { TokenStore } from "../auth/token-store.js";
import { type SealedTokenTable, warehouseTokenStore } from "../auth/warehouse-token-store.js";
import { checkValue, namesHint, parseYaml, type YamlFile } from "../core/define/check.js";
import { type AccountSettings, checkConnector } from "../core/define/connector.js";
import type { Connector } from "../core/define/connector-schema.js";
import { type Project, projectSchema } from "../core/define/project-schema.js";
import { BridgeError, isBridgeError } from "../core/errors.js";
import { durationMs } from "../core/language/duration.js";
import type { PaceGate } from "../http/pace-gate.js";
import { type Api, insideOf } from "../run/api.js";
import { type Bridge, openBridge } from "../run/bridge.js";
import type { HttpOptions } from "../run/connect-with.js";
import type { Warehouse, WarehouseSession } from "../warehouse/warehouse.js";
import { type ConnectOptions, connect } from "./connect.js";
import { readIfThere, unlessMissing } from "./files.js";
import { openWarehouse } from "./open-warehouse.js";
import { isReference } from "./references.js";
import { readViews } from "./view-files.js";

export const PROJECT_FILE = "bridges.yaml";
const FILE_REFERENCE = "$file:";
/** keys of an account that are no settings of its connector */
const ACCOUNT_KEYS: ReadonlySet<string> = new Set(["connector", "http", "hash_secret", "keep_tokens"]);

/** What a project takes from its surroundings. */
export interface ProjectOptions {
  /** values for $NAME; default: process.env. A .env file in the project's folder fills what is missing. */
  readonly env?: Readonly<Record<string, string | undefined>> | undefined;
  /** where refresh tokens are kept; default: files in the user's config folder */
  readonly tokens?: TokenStore | undefined;
  readonly onWarning?: ((message: string) => void) | undefined;
}

/** A bridge with its API, to be closed after use. */
export interface OpenedBridge {
  readonly bridge: Bridge;
  readonly api: Api;
  close(): Promise<void>;
}

/** What may be chosen when an account of a project is opened. */
export type AccountOptions = Pick<
  ConnectOptions,
  "http" | "retry" | "clock" | "random" | "onRecord" | "replay"
>;

export interface BridgeChoice extends AccountOptions {
  /** carry into this warehouse instead of the project's */
  readonly warehouse?: Warehouse | undefined;
}

/** Stands for settings that are not there when a recording is replayed: no request goes there. */
const REPLAYED = "https://replay.invalid";
const REPLAYED_SECRET = "not-needed-for-a-replay";

/** A project, read and checked: its bridges, accounts and warehouses are opened by name. */
export interface OpenedProject {
  readonly folder: string;
  readonly definition: Project;
  /** names of the bridges, in the file's order */
  readonly bridges: readonly string[];
  /**
   * What the project says of a bridge; no account is needed for it.
   * @throws BridgeError CONFIG_UNKNOWN_NAME
   */
  bridge(name: string): Project["bridges"][string];
  /** @throws BridgeError CONFIG_*, SECRET_*, URL_*, DRIVER_MISSING */
  openBridge(name: string, options?: BridgeChoice): Promise<OpenedBridge>;
  /** @throws BridgeError CONFIG_*, SECRET_*, URL_* */
  openAccount(name: string, options?: AccountOptions): Promise<Api>;
  warehouse(name: string): Promise<Warehouse>;
}

/**
 * Reads and checks a project's bridges.yaml.
 * @throws BridgeError CONFIG_NOT_FOUND, CONFIG_SYNTAX, CONFIG_INVALID, CONFIG_UNKNOWN_KEY
 */
export async function openProject(folder: string, options: ProjectOptions = {}): Promise<OpenedProject> {
  const file = await readYaml(join(folder, PROJECT_FILE), "No bridges.yaml is here.");
  const definition = checkValue(projectSchema, file.value, file);
  const env = await readEnvironment(folder, options.env);
  const tokens = options.tokens ?? fileTokenStore({ onWarning: options.onWarning });
  const reader = new ProjectReader(folder, file, definition, env, tokens);
  return {
    folder,
    definition,
    bridges: Object.keys(definition.bridges),
    bridge: (name) => reader.named("bridges", name, []),
    openBridge: (name, accountOptions) => reader.openBridge(name, accountOptions),
    openAccount: (name, accountOptions) => reader.openAccount(name, accountOptions),
    warehouse: (name) => reader.warehouse(name),
  };
}

class ProjectReader {
  /** one object for each: a bridge and a token store that use the same file share its session */
  private readonly warehouses = new Map<string, Warehouse>();
  /** bridges of one account share its limits */
  private readonly gates = new Map<string, PaceGate>();

  constructor(
    private readonly folder: string,
    private readonly file: YamlFile,
    private readonly project: Project,
    private readonly env: Readonly<Record<string, string | undefined>>,
    private readonly tokens: TokenStore,
  ) {}

  async openBridge(name: string, { warehouse: other, ...options }: BridgeChoice = {}): Promise<OpenedBridge> {
    const definition = this.named("bridges", name, []);
    const { from, to, views, ...said } = definition;
    const api = await this.openAccount(from, options, ["bridges", name, "from"]);
    try {
      this.checkStreams(name, said.streams, api.connector);
      const warehouse = other ?? (await this.warehouse(to, ["bridges", name, "to"]));
      const bridge = await openBridge({
        from: api,
        to: warehouse,
        name,
        ...said,
        ...(views === undefined ? {} : { views: await this.views(views, ["bridges", name, "views"]) }),
      });
      return { bridge, api, close: () => api.close() };
    } catch (error) {
      await api.close();
      throw error;
    }
  }

  async openAccount(name: string, options: AccountOptions = {}, asked: readonly string[] = []): Promise<Api> {
    const account = this.named("accounts", name, asked);
    const path = resolve(this.folder, account.connector);
    const missing = `The connector file of account ${name} is not there.`;
    const file = await readYaml(path, missing, this.file.place(["accounts", name, "connector"]));
    const connector = checkConnector(file.value, file);
    const replays = options.replay !== undefined;
    const settings = await this.settings(name, account, connector, replays);
    const api = connect(connector, settings, {
      ...options,
      gate: replays ? undefined : this.gates.get(name),
      name,
      place: (setting) => this.file.place(["accounts", name, setting], true),
      http: { ...(replays ? {} : await this.http(name, account.http)), ...options.http },
      tokens: await this.tokensOf(name),
      hashSecret: await this.hashSecret(name, replays),
      readFile: (partFile) => readFile(resolve(this.folder, partFile)),
      readSecretFile: (secretPath) => this.secretFile(secretPath, ["accounts", name]),
    });
    if (!replays) this.gates.set(name, insideOf(api).gate);
    return api;
  }

  private async hashSecret(account: string, replays: boolean): Promise<string | undefined> {
    const { hash_secret: given } = this.named("accounts", account, []);
    if (given === undefined) return undefined;
    const path = ["accounts", account, "hash_secret"];
    if (!isReference(given)) throw this.secretInPlain("hash_secret", account);
    const value = this.value(given, path);
    // a recording has the hashes in it
    return String(await (replays ? value.catch(() => REPLAYED_SECRET) : value));
  }

  private secretInPlain(key: string, account: string): BridgeError {
    const message = `${key} of account ${account} is a secret and stands in the file itself.`;
    return new BridgeError("SECRET_IN_PLAIN", message, {
      where: { file: this.file.place(["accounts", account, key]) },
      hint: `Write ${key}: $${account.toUpperCase()}_${key.toUpperCase()} and put the value into .env.`,
    });
  }

  /** Where an account's tokens are kept. */
  private async tokensOf(account: string): Promise<TokenStore> {
    const keeper = this.named("accounts", account, []).keep_tokens;
    if (keeper === undefined) return this.tokens;
    const warehouse = await this.warehouse(keeper, ["accounts", account, "keep_tokens"]);
    return warehouseTokenStore(ledgerTokens(warehouse), this.env.EARLY_BRIDGE_KEY || undefined);
  }

  async warehouse(name: string, asked: readonly string[] = []): Promise<Warehouse> {
    const known = this.warehouses.get(name);
    if (known !== undefined) return known;
    const definition = this.named("warehouses", name, asked);
    const at = ["warehouses", name];
    const warehouse = await openWarehouse(definition, {
      folder: this.folder,
      file: this.file.place([...at, ...Object.keys(definition).slice(0, 1)]),
      resolved: (text, key) => this.value(text, [...at, ...key.split(".")]),
    });
    this.warehouses.set(name, warehouse);
    return warehouse;
  }

  named<K extends "accounts" | "warehouses" | "bridges">(
    kind: K,
    name: string,
    asked: readonly string[],
  ): Project[K][string] {
    const found = this.project[kind][name];
    if (found !== undefined) return found as Project[K][string];
    const known = Object.keys(this.project[kind]);
    throw new BridgeError("CONFIG_UNKNOWN_NAME", `${this.file.name} has no ${kind.slice(0, -1)} ${name}.`, {
      where: { file: this.file.place(asked.length > 0 ? asked : [kind]) },
      hint: namesHint(name, known, "It has"),
    });
  }

  private async settings(
    name: string,
    account: Project["accounts"][string],
    connector: Connector,
    replays: boolean,
  ): Promise<AccountSettings> {
    const settings: Record<string, string | number | boolean> = {};
    for (const [key, value] of Object.entries(account)) {
      if (ACCOUNT_KEYS.has(key) || typeof value === "object" || value === undefined) continue;
      const path = ["accounts", name, key];
      if (connector.settings[key]?.secret === true && !isReference(value))
        throw this.secretInPlain(key, name);
      settings[key] = await this.value(value, path).catch((error: unknown) => {
        if (replays && isBridgeError(error))
          return connector.settings[key]?.secret === true ? REPLAYED_SECRET : REPLAYED;
        throw error;
      });
    }
    return settings;
  }

  private async http(name: string, http: Project["accounts"][string]["http"]): Promise<HttpOptions> {
    if (http === undefined) return {};
    const path = ["accounts", name, "http"];
    const pem = async (key: "ca" | "cert" | "key") => {
      const file = http[key];
      if (file === undefined) return undefined;
      return key === "key" ? this.secretFile(file, [...path, key]) : this.plainFile(file, [...path, key]);
    };
    const tls = { ca: await pem("ca"), cert: await pem("cert"), key: await pem("key") };
    const headers: Record<string, string> = {};
    const secrets: string[] = [];
    for (const [header, text] of Object.entries(http.headers ?? {})) {
      headers[header] = String(await this.value(text, [...path, "headers", header]));
      if (isReference(text)) secrets.push(headers[header]);
    }
    const proxy =
      http.proxy === undefined ? undefined : String(await this.value(http.proxy, [...path, "proxy"]));
    const answerMs = http.response_timeout === undefined ? undefined : durationMs(http.response_timeout);
    return {
      proxy,
      secrets,
      userAgent: http.user_agent,
      headers,
      connectMs: http.connect_timeout === undefined ? undefined : durationMs(http.connect_timeout),
      headersMs: answerMs,
      bodyMs: answerMs,
      tls: Object.values(tls).every((each) => each === undefined) ? undefined : tls,
    };
  }

  /** A value, what the environment has under its $NAME, or the text of its $file:path. */
  private async value(
    value: string | number | boolean,
    path: readonly string[],
  ): Promise<string | number | boolean> {
    if (!isReference(value)) return value;
    if (value.startsWith(FILE_REFERENCE)) {
      return (await this.secretFile(value.slice(FILE_REFERENCE.length), path)).trimEnd();
    }
    const name = value.slice(1);
    const found = this.env[name];
    if (found !== undefined && found !== "") return found;
    const lack = found === "" ? "is empty" : "is not set";
    throw new BridgeError("SECRET_MISSING", `${path.join(".")} refers to $${name}, which ${lack}.`, {
      where: { file: this.file.place(path) },
      hint: `Put ${name}=… into ${shownPath(join(this.folder, ".env"))}, or set it in the environment.`,
    });
  }

  private secretFile(path: string, asked: readonly string[]): Promise<string> {
    return readPrivateFile(resolve(this.folder, path)).catch((error: unknown) => {
      throw this.fileError(error, path, asked);
    });
  }

  private plainFile(path: string, asked: readonly string[]): Promise<string> {
    return readFile(resolve(this.folder, path), "utf8").catch((error: unknown) => {
      throw this.fileError(error, path, asked);
    });
  }

  private fileError(cause: unknown, path: string, asked: readonly string[]): BridgeError {
    const where = { file: this.file.place(asked) };
    if (isBridgeError(cause)) return cause;
    return new BridgeError(
      "CONFIG_NOT_FOUND",
      `${asked.join(".")} names the file ${path}, which cannot be read.`,
      {
        where,
        hint: `Looked for ${shownPath(resolve(this.folder, path))}.`,
        cause,
      },
    );
  }

  private views(folder: string, asked: readonly string[]): Promise<Record<string, string>> {
    return readViews(resolve(this.folder, folder)).catch((error: unknown) => {
      throw this.fileError(error, folder, asked);
    });
  }

  private checkStreams(
    bridge: string,
    streams: Project["bridges"][string]["streams"],
    connector: Connector,
  ): void {
    // what an OData service has is known when it is asked
    if (connector.odata !== undefined) return;
    const known = Object.keys(connector.streams);
    for (const stream of Object.keys(streams ?? {})) {
      if (known.includes(stream)) continue;
      throw new BridgeError(
        "CONFIG_UNKNOWN_NAME",
        `Connector ${connector.connector} has no stream ${stream}.`,
        {
          where: { file: this.file.place(["bridges", bridge, "streams", stream], true) },
          hint: namesHint(stream, known, "Streams"),
        },
      );
    }
  }
}

/** A warehouse's ledger as the place for tokens: it is opened for each use, and shared with a run that has it open. */
function ledgerTokens(warehouse: Warehouse): SealedTokenTable {
  const use = async <T>(work: (session: WarehouseSession) => Promise<T>): Promise<T> => {
    const session = await warehouse.open();
    try {
      return await work(session);
    } finally {
      await session.close();
    }
  };
  return {
    title: `the ledger of ${warehouse.title}`,
    read: (key) => use((session) => session.ledger.readSealed(key)),
    write: (key, sealed) => use((session) => session.ledger.writeSealed(key, sealed)),
    remove: (key) => use((session) => session.ledger.writeSealed(key, undefined)),
  };
}

/** A path as messages show it: from the working folder, or whole where it lies outside. */
function shownPath(path: string): string {
  const near = relative(process.cwd(), path);
  return near === "" || near.startsWith("..") ? resolve(path) : near;
}

async function readYaml(path: string, missing: string, asked?: string): Promise<YamlFile> {
  const name = shownPath(path);
  const text = await readIfThere(path);
  if (text === undefined) {
    const message = `${missing} Looked for ${name}.`;
    const hint =
      asked === undefined
        ? `Run from the folder that holds ${PROJECT_FILE}, or name it with --project.`
        : undefined;
    throw new BridgeError("CONFIG_NOT_FOUND", message, {
      where: { file: asked ?? shownPath(dirname(path)) },
      hint,
    });
  }
  return parseYaml(text, name);
}

async function readEnvFile(folder: string): Promise<Record<string, string | undefined>> {
  const path = join(folder, ".env");
  const text = await unlessMissing(shownPath(path), readPrivateFile(path));
  return text === undefined ? {} : parseEnv(text);
}

/** The environment, and what it leaves out from the project's .env. */
export async function readEnvironment(
  folder: string,
  given: Readonly<Record<string, string | undefined>> = process.env,
): Promise<Readonly<Record<string, string | undefined>>> {
  // what is empty in the environment hides nothing in the file, but is told apart from what is not set
  return { ...given, ...(await readEnvFile(folder)), ...withoutEmpty(given) };
}

function withoutEmpty(env: Readonly<Record<string, string | undefined>>): Record<string, string | undefined> {
  return Object.fromEntries(Object.entries(env).filter(([, value]) => value !== undefined && value !== ""));
}
