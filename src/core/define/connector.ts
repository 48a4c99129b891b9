/** Connectors and accounts: checked once at the edge, trusted inside. */

import { aTypeName, BridgeError, type Where } from "../errors.js";
import { expandTemplate, type TemplateValues, templateNames } from "../language/template.js";
import { checkBaseUrl } from "./base-url.js";
import { checkValue, formatIssuePath, namesHint, nearest, type YamlFile } from "./check.js";
import type { ConnectorInput } from "./connector-input.js";
import { type Connector, type ConnectorCode, connectorSchema, type Setting } from "./connector-schema.js";
import { checkStream } from "./stream-names.js";

/** Where values written in TypeScript are said to stand. */
export function codeSource(name: string): Pick<YamlFile, "name" | "place"> {
  return { name, place: (path) => [name, ...path.map(String)].join(".") };
}

type StreamInput = NonNullable<ConnectorInput["streams"]>[string];
type SettingInputs = Readonly<Record<string, NonNullable<ConnectorInput["settings"]>[string]>>;

/** Known to the compiler only: the names in a connector that TypeScript has seen. */
declare const NAMES: unique symbol;

/** A connector that was written in TypeScript: the compiler knows its streams and settings by name. */
export type DefinedConnector<Stream extends string, Settings extends SettingInputs> = Connector & {
  readonly [NAMES]?: { readonly stream: Stream; readonly settings: Settings };
};

type NamesOf<C> = typeof NAMES extends keyof C ? NonNullable<C[typeof NAMES]> : undefined;

/** The names of a connector's streams; any text where it comes from a file. */
export type StreamsOf<C> = NamesOf<C> extends { readonly stream: infer S extends string } ? S : string;

type SettingValue<T> = T extends { type: "number" }
  ? T extends { choices: object }
    ? string | number
    : number
  : T extends { type: "boolean" }
    ? boolean
    : string;
type MayBeLeftOut<T> = T extends { optional: true } | { default: string | number | boolean } ? true : false;

/** What an account gives for a connector; a value from the environment may be undefined, and is told of then. */
export type SettingsOf<C> =
  NamesOf<C> extends { readonly settings: infer T extends SettingInputs }
    ? {
        readonly [K in keyof T as MayBeLeftOut<T[K]> extends true ? never : K]:
          | SettingValue<T[K]>
          | undefined;
      } & {
        readonly [K in keyof T as MayBeLeftOut<T[K]> extends true ? K : never]?:
          | SettingValue<T[K]>
          | undefined;
      }
    : AccountSettings;

/**
 * Checks a connector written in TypeScript and fills in its defaults.
 * @throws BridgeError CONFIG_UNKNOWN_KEY, CONFIG_INVALID, CONFIG_UNKNOWN_NAME
 */
export function defineConnector<
  Stream extends string = string,
  const Settings extends SettingInputs = Record<never, never>,
>(
  input: Omit<ConnectorInput, "streams" | "settings"> & {
    readonly settings?: Settings | undefined;
    readonly streams?: Readonly<Record<Stream, StreamInput>> | undefined;
  },
  code?: ConnectorCode,
): DefinedConnector<Stream, Settings> {
  const connector = checkConnector(input, codeSource("defineConnector"));
  for (const [name, { gone }] of Object.entries(code?.streams ?? {})) {
    const stream = connector.streams[name];
    if (stream !== undefined && gone !== undefined && stream.key === undefined)
      throw new BridgeError("CONFIG_INVALID", `Stream ${name} tells what is gone, but has no key.`, {
        where: { stream: name },
        hint: "Give the stream a key: what is gone is found by it.",
      });
    if (stream !== undefined) continue;
    throw new BridgeError(
      "CONFIG_UNKNOWN_NAME",
      `There are functions for a stream ${name}, which is not declared.`,
      {
        hint: namesHint(name, Object.keys(connector.streams), "Streams"),
      },
    );
  }
  return code === undefined ? connector : { ...connector, code };
}

/** Checks a connector from any source; messages name the place in it. */
export function checkConnector(value: unknown, source: Pick<YamlFile, "name" | "place">): Connector {
  const connector = checkValue(connectorSchema, value, source);
  checkNames(connector, connector.api.url, ["api", "url"], source);
  for (const [i, origin] of connector.api.origins.entries()) {
    checkNames(connector, origin, ["api", "origins", i], source);
  }
  checkTexts(connector, connector.api.sign_in, ["api", "sign_in"], source);
  for (const name of Object.keys(connector.streams)) checkStream(connector, name, source);
  return connector;
}

/** Keys of a sign-in whose texts are paths into a response or plain words: braces there name no setting. */
const PLAIN_KEYS = new Set(["fields", "token", "name", "prefix", "cookie", "scope", "redirect_path"]);

/** Checks every text of a sign-in for the settings it asks for. */
function checkTexts(
  connector: Connector,
  value: unknown,
  path: readonly PropertyKey[],
  source: Pick<YamlFile, "place">,
): void {
  if (typeof value === "string") checkNames(connector, value, path, source);
  else if (typeof value === "object" && value !== null) {
    for (const [key, inner] of Object.entries(value)) {
      if (!PLAIN_KEYS.has(key))
        checkTexts(connector, inner, [...path, Array.isArray(value) ? Number(key) : key], source);
    }
  }
}

function checkNames(
  connector: Connector,
  template: string,
  path: readonly PropertyKey[],
  source: Pick<YamlFile, "place">,
): void {
  const known = Object.keys(connector.settings);
  for (const name of templateNames(template)) {
    if (known.includes(name)) continue;
    const near = nearest(name, known);
    throw new BridgeError(
      "CONFIG_UNKNOWN_NAME",
      `${formatIssuePath(path)} asks for {${name}}, which is no setting.`,
      {
        where: { file: source.place(path) },
        hint: near === undefined ? `Declare ${name} under settings.` : `Perhaps {${near}} is meant.`,
      },
    );
  }
}

/** An account's values for a connector: every setting has one, and the base address is whole. */
export interface Account {
  readonly name: string;
  readonly values: TemplateValues;
  readonly baseUrl: string;
  /** where credentials may go: the base address's origin, and the ones that the connector declares */
  readonly origins: readonly string[];
  /** texts that must never be shown */
  readonly secrets: readonly string[];
}

/** What an account gives: values by setting name. */
export type AccountSettings = Readonly<Record<string, string | number | boolean | undefined>>;

/**
 * Checks an account's settings against the connector.
 * @throws BridgeError CONFIG_INVALID, CONFIG_UNKNOWN_NAME, URL_INVALID, URL_INSECURE, SECRET_IN_PLAIN
 */
export function resolveAccount(
  connector: Connector,
  given: AccountSettings,
  name = "account",
  place: (setting: string) => string | undefined = () => undefined,
): Account {
  const known = Object.keys(connector.settings);
  for (const key of Object.keys(given)) {
    if (known.includes(key)) continue;
    throw new BridgeError(
      "CONFIG_UNKNOWN_NAME",
      `${key} is no setting of connector ${connector.connector}.`,
      {
        where: { file: place(key), account: name },
        hint: namesHint(key, known, "Settings"),
      },
    );
  }
  const values: Record<string, string | number | boolean> = {};
  const secrets: string[] = [];
  for (const [key, setting] of Object.entries(connector.settings)) {
    const where: Where = { file: place(key), account: name };
    const value = settingValue(key, setting, given[key] ?? setting.default, where);
    if (value === undefined) continue;
    if (setting.secret === true) secrets.push(String(value));
    values[key] = value;
  }
  const where: Where = { account: name };
  const address = (template: string, what: string) =>
    checkBaseUrl(expandTemplate(template, values, where), what, where);
  const baseUrl = address(connector.api.url, "api.url");
  const others = connector.api.origins.map((template) => address(template, "api.origins"));
  const origins = [baseUrl, ...others].map((url) => new URL(url).origin);
  return { name, values, baseUrl, origins, secrets };
}

/** One setting's value, checked; undefined only where the connector says that it may be left out. */
function settingValue(
  key: string,
  setting: Setting,
  given: string | number | boolean | undefined,
  where: Where,
): string | number | boolean | undefined {
  if (given === undefined) {
    if (setting.optional === true) return undefined;
    throw new BridgeError("CONFIG_INVALID", `The account gives no ${key}, which the connector asks for.`, {
      where,
      hint: `Add ${key} to the account${setting.secret === true ? ", as $NAME" : ""}.`,
    });
  }
  if (setting.choices !== undefined) return chosenValue(key, setting.choices, given, where);
  const value =
    setting.type !== "string" && typeof given === "string" ? fromText(setting.type, given) : given;
  if (typeof value !== setting.type) {
    const wanted = setting.type === "string" ? "text" : `a ${setting.type}`;
    throw new BridgeError("CONFIG_INVALID", `${key} must be ${wanted}, ${aTypeName(given)} is given.`, {
      where,
    });
  }
  if (setting.format === "uri") return checkBaseUrl(String(value), key, where);
  if (setting.format === "host") return checkHost(String(value), key, where);
  return value;
}

function chosenValue(key: string, choices: NonNullable<Setting["choices"]>, given: unknown, where: Where) {
  const value = choices[String(given)];
  if (value !== undefined) return value;
  const names = Object.keys(choices);
  throw new BridgeError("CONFIG_INVALID", `${key} is "${String(given)}", which is none of its choices.`, {
    where,
    hint: namesHint(String(given), names, "Choices"),
  });
}

/** The environment holds texts only: numbers and booleans are read from them. */
function fromText(type: "number" | "boolean", text: string): string | number | boolean {
  if (type === "boolean") return text === "true" ? true : text === "false" ? false : text;
  return text.trim() !== "" && Number.isFinite(Number(text)) ? Number(text) : text;
}

/** A host name, or a part of one such as a tenant; whole addresses are often pasted here. */
function checkHost(text: string, key: string, where: Where): string {
  if (/^[a-z0-9]([a-z0-9.-]*[a-z0-9])?(:\d+)?$/i.test(text)) return text;
  const host = /^[a-z]+:\/\/([^/]+)/i.exec(text)?.[1];
  throw new BridgeError("URL_INVALID", `${key} is "${text}", and should be a host name only.`, {
    where,
    hint:
      host === undefined ? "Write the host name without scheme, path or blanks." : `Write ${host} instead.`,
  });
}
