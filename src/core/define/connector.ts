/** Connectors and accounts: checked once at the edge, trusted inside. */

import { compileJsonPath } from "../ask/json-path.js";
import type { ReadPlan } from "../ask/read-page.js";
import { checkBaseUrl } from "../ask/request-plan.js";
import { expandTemplate, type TemplateValues, templateNames } from "../ask/template.js";
import { BridgeError, typeName, type Where } from "../errors.js";
import { parseColumnType } from "../shape/column-type.js";
import { formatPath, parsePath } from "../shape/naming.js";
import type { ColumnRule } from "../shape/table-shape.js";
import type { CursorRule } from "../track/cursor.js";
import { checkValue, nearest, type YamlFile } from "./check.js";
import {
  type Connector,
  type ConnectorInput,
  connectorSchema,
  type StreamDefinition,
} from "./connector-schema.js";

/** Where values written in TypeScript are said to stand. */
export function codeSource(name: string): Pick<YamlFile, "name" | "place"> {
  return { name, place: (path) => [name, ...path.map(String)].join(".") };
}

/**
 * Checks a connector written in TypeScript and fills in its defaults.
 * @throws BridgeError CONFIG_UNKNOWN_KEY, CONFIG_INVALID, CONFIG_UNKNOWN_NAME
 */
export function defineConnector(input: ConnectorInput): Connector {
  return checkConnector(input, codeSource("defineConnector"));
}

/** Checks a connector from any source; messages name the place in it. */
export function checkConnector(value: unknown, source: Pick<YamlFile, "name" | "place">): Connector {
  const connector = checkValue(connectorSchema, value, source);
  const { sign_in: signIn, url } = connector.api;
  checkNames(connector, url, ["api", "url"], source);
  if (signIn !== "none") {
    for (const key of ["token_url", "client_id", "client_secret"] as const) {
      checkNames(connector, signIn[key], ["api", "sign_in", key], source);
    }
  }
  return connector;
}

function checkNames(
  connector: Connector,
  template: string,
  path: readonly string[],
  source: Pick<YamlFile, "place">,
): void {
  const known = Object.keys(connector.settings);
  for (const name of templateNames(template)) {
    if (known.includes(name)) continue;
    const near = nearest(name, known);
    throw new BridgeError(
      "CONFIG_UNKNOWN_NAME",
      `${path.join(".")} asks for {${name}}, which is no setting.`,
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
    const near = nearest(key, known);
    throw new BridgeError(
      "CONFIG_UNKNOWN_NAME",
      `${key} is no setting of connector ${connector.connector}.`,
      {
        where: { file: place(key), account: name },
        hint: `${near === undefined ? "" : `Perhaps ${near} is meant. `}Settings: ${known.join(", ") || "none"}.`,
      },
    );
  }
  const values: Record<string, string | number | boolean> = {};
  const secrets: string[] = [];
  for (const [key, setting] of Object.entries(connector.settings)) {
    const value = given[key] ?? setting.default;
    const where: Where = { file: place(key), account: name };
    if (value === undefined) {
      throw new BridgeError("CONFIG_INVALID", `The account gives no ${key}, which the connector asks for.`, {
        where,
        hint: `Add ${key} to the account${setting.secret === true ? ", as $NAME" : ""}.`,
      });
    }
    if (typeof value !== setting.type) {
      const message = `${key} must be ${setting.type === "string" ? "text" : `a ${setting.type}`}, ${typeName(value)} is given.`;
      throw new BridgeError("CONFIG_INVALID", message, { where });
    }
    if (setting.secret === true) secrets.push(String(value));
    values[key] = setting.format === "uri" ? checkBaseUrl(String(value), key, where) : value;
  }
  const where: Where = { account: name };
  const baseUrl = checkBaseUrl(expandTemplate(connector.api.url, values, where), "api.url", where);
  return { name, values, baseUrl, secrets };
}

/** A stream's read plan and key, compiled from its definition. */
export interface CompiledStream {
  readonly name: string;
  readonly definition: StreamDefinition;
  readonly plan: ReadPlan;
  readonly key: readonly (readonly string[])[];
  readonly columns: ReadonlyMap<string, ColumnRule>;
  readonly cursor: CursorRule | undefined;
}

export function compileStream(name: string, definition: StreamDefinition): CompiledStream {
  const { pages, cursor: declared, key = [] } = definition;
  const cursor = declared && { ...declared, field: fieldParts(declared.field) };
  const columns = new Map<string, ColumnRule>();
  for (const [path, rule] of Object.entries(definition.columns)) {
    const type = rule.type === undefined ? undefined : parseColumnType(rule.type);
    columns.set(formatPath(fieldParts(path)), {
      ...rule,
      type: rule.hash === true ? { kind: "text" } : type,
    });
  }
  return {
    name,
    definition,
    plan: {
      stream: name,
      records: compileJsonPath(definition.records),
      token: pages && compileJsonPath(pages.token),
      cursor,
    },
    key: (Array.isArray(key) ? key : [key]).map(fieldParts),
    columns,
    cursor,
  };
}

/** The schema has checked the path's form already. */
function fieldParts(path: string): string[] {
  return parsePath(path) ?? [path];
}
