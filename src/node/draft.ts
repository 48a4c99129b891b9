/** `draft`: a connector found out from addresses, by the account's own sign-in. */

import { readFile } from "node:fs/promises";
import { parseYaml } from "../core/define/check.js";
import { defineConnector } from "../core/define/connector.js";
import type { ConnectorInput } from "../core/define/connector-input.js";
import type { Draft, DraftStream, PostBody } from "../core/draft/draft.js";
import { commonFolder, draftHar, isHar } from "../core/draft/draft-har.js";
import { draftText } from "../core/draft/draft-text.js";
import type { Guess } from "../core/draft/seen.js";
import { BridgeError, isBridgeError } from "../core/errors.js";
import { isOpenApi, openApiDocument } from "../core/openapi/document.js";
import { draftOpenApi } from "../core/openapi/draft-openapi.js";
import { readOpenApi } from "../core/openapi/read-openapi.js";
import { snakeCase } from "../core/shape/naming.js";
import { newTally } from "../http/exchange.js";
import { type Api, insideOf } from "../run/api.js";
import { draftStream } from "../run/draft.js";
import { survey } from "../run/survey.js";
import type { SurveyResource } from "../run/survey-resource.js";
import { type ConnectOptions, connect } from "./connect.js";
import { type SignInChoice, writtenSignIn } from "./new-project.js";

/** What is to be found out, and how one signs in. */
export interface DraftOptions {
  /** whole addresses of one API, each of a list of things */
  readonly addresses: readonly string[];
  readonly name: string;
  /** how messages name the account; default "main" */
  readonly account?: string | undefined;
  readonly signIn: SignInChoice;
  /** of a document: only these streams, by name */
  readonly only?: readonly string[] | undefined;
  /** JSON or XML that is posted to the addresses, instead of a GET; `{token}` in it stands for the next page's */
  readonly post?: string | undefined;
  /** the account's settings beside `base` */
  readonly values: Readonly<Record<string, string>>;
  readonly connect?: ConnectOptions | undefined;
  readonly signal?: AbortSignal | undefined;
}

/** A draft, and the connector file that it makes. */
export interface Drafted {
  readonly draft: Draft;
  /** YAML */
  readonly text: string;
  readonly requests: number;
}

/** As long as the API's limits are not known. */
const CAREFUL = { per_second: 5, concurrency: 2 } as const;
const NO_LIMITS: Guess<Readonly<Record<string, number>>> = {
  value: CAREFUL,
  why: "a guess: no header tells the limits, its documentation may",
};

/**
 * Asks a few requests, GET only unless `post` is given, and five a second at most, and writes down what was found.
 * @throws BridgeError what the first request to an address throws; RECORDS_NOT_FOUND
 */
export async function draft(options: DraftOptions): Promise<Drafted> {
  const urls = options.addresses.map(addressOf);
  const [first] = urls;
  if (first === undefined) throw new BridgeError("CONFIG_INVALID", "A draft needs an address.");
  if (urls.some(({ origin }) => origin !== first.origin))
    throw new BridgeError("CONFIG_INVALID", "All addresses of a draft must be of one API.", {
      hint: "Draft the others on their own.",
    });
  const post = options.post === undefined ? undefined : postBody(options.post);
  const described =
    post === undefined
      ? ((await odataDraft(first, options)) ?? (await documentDraft(first, options)))
      : undefined;
  if (described !== undefined) return described;
  const folder = commonFolder(urls.map(({ pathname }) => pathname));
  const tally = newTally();
  const api = trialApi(`${first.origin}${folder}`, options, { streams: { trial: { get: "/" } } });
  try {
    const streams: DraftStream[] = [];
    let rateLimit = NO_LIMITS;
    for (const url of urls) {
      const path = `${url.pathname.slice(folder.length)}${url.search}`;
      const found = await draftStream(api, path, { tally, signal: options.signal, post });
      rateLimit = found.rateLimit ?? rateLimit;
      streams.push(found.stream);
    }
    return drafted({ ...common(options, first, folder), rateLimit, streams }, tally.requests);
  } finally {
    await api.close();
  }
}

function postBody(text: string): PostBody {
  if (/^\s*</.test(text)) return { xml: text };
  const { value } = parseYaml(text, "--post");
  if (typeof value === "object" && value !== null) return { json: value as never };
  throw new BridgeError("CONFIG_INVALID", "What is posted has to be JSON or XML.", {
    hint: `Such as --post '{ "filter": {}, "after": "{token}" }', or the name of a file that holds it.`,
  });
}

/** Names of documents that describe an API. */
const DOCUMENT_LIKE = /\.(json|ya?ml)$|openapi|swagger|api-docs/i;

/** Where the address is that of a document, what it says. */
async function documentDraft(url: URL, options: DraftOptions): Promise<Drafted | undefined> {
  if (!DOCUMENT_LIKE.test(url.pathname)) return undefined;
  const tree = await documentAt(url, options);
  return isOpenApi(tree) ? draftDocument(tree, { ...options, at: url.href }) : undefined;
}

/** The document at an address, in JSON or YAML; undefined where it is neither. */
async function documentAt(url: URL, options: DraftOptions): Promise<unknown> {
  const api = trialApi(url.origin, options, { streams: { trial: { get: "/" } } });
  try {
    const { body } = await insideOf(api).ask(`${url.pathname}${url.search}`, options.signal);
    return parseYaml(new TextDecoder().decode(body), url.pathname).value;
  } catch (error) {
    if (isBridgeError(error, "CONFIG_SYNTAX")) return undefined;
    throw error;
  } finally {
    await api.close();
  }
}

/** What a document is drafted with. */
export interface DocumentOptions {
  readonly name: string;
  /** whole address of the API, or of the document; default: the server that it names */
  readonly at?: string | undefined;
  /** only these streams, by name */
  readonly only?: readonly string[] | undefined;
}

/**
 * Drafts what an OpenAPI document (3.0, 3.1) or a HAR (1.2) tells; nothing is asked.
 * @throws BridgeError CONFIG_INVALID for what is neither, RECORDS_NOT_FOUND for a HAR in which nothing is listed
 */
export function draftDocument(document: unknown, { name, at, only }: DocumentOptions): Drafted {
  if (isHar(document)) {
    const made = draftHar(document, name, NO_LIMITS);
    if (made !== undefined) return drafted(made, 0);
    throw new BridgeError(
      "RECORDS_NOT_FOUND",
      "No exchange of the recording is a GET whose JSON lists things.",
      {
        hint: "Record a page of the API that shows a list.",
      },
    );
  }
  const service = readOpenApi(openApiDocument(document, "The document"));
  const { settings } = writtenSignIn(service.signIn.value);
  return drafted(draftOpenApi(service, { name, at, settings, only, rateLimit: NO_LIMITS }), 0);
}

/**
 * Reads an OpenAPI document from a file or a whole address, which is asked for with no sign-in.
 * @throws BridgeError FILE_UNREADABLE, CONFIG_SYNTAX, and what asking throws
 */
export async function readDocument(source: string): Promise<unknown> {
  if (/^https?:/i.test(source)) {
    const signIn = writtenSignIn("none");
    return documentAt(addressOf(source), { addresses: [], name: "document", signIn, values: {} });
  }
  const text = await readFile(source, "utf8").catch((cause: Error) => {
    const hint = "Give a whole address, such as https://api.huts.example/v1/stays, or an OpenAPI file.";
    throw new BridgeError("FILE_UNREADABLE", `${source} cannot be read: ${cause.message}.`, { hint, cause });
  });
  return parseYaml(text, source).value;
}

/** Addresses that look like a service's, and what errors say that one is none. */
const ODATA_LIKE = /odata|\.svc\b|\$metadata/i;
const NO_SERVICE: ReadonlySet<string> = new Set([
  "METADATA_UNREADABLE",
  "NOT_FOUND",
  "BODY_HTML",
  "FORBIDDEN",
]);

/** Of an OData service, its metadata tells all. Undefined where it is none. */
async function odataDraft(url: URL, options: DraftOptions): Promise<Drafted | undefined> {
  if (!ODATA_LIKE.test(url.href)) return undefined;
  const api = trialApi(`${url.origin}${url.pathname}`, options, { odata: {} });
  try {
    const sets = await survey({ api, count: false, signal: options.signal });
    const { root } = await insideOf(api).odata!.learn();
    const streams = sets.flatMap((set): DraftStream[] => {
      const cursor = cursorOf(set);
      if (cursor === undefined) return [];
      return [{ name: set.stream ?? snakeCase(set.name), set: set.name, cursor, columns: [], open: [] }];
    });
    const others = sets.map(({ name }) => name).filter((name) => !streams.some(({ set }) => set === name));
    const odata = {
      value: others.length === 0 && sets.length > 0 ? { sets: [] } : { sets: others },
      why: `OData ${root.version}; ${others.length} of ${sets.length} sets are read whole each time`,
    };
    const path = new URL(root.url).pathname.replace(/\/$/, "");
    return drafted({ ...common(options, url, path), rateLimit: NO_LIMITS, odata, streams }, 1);
  } catch (error) {
    if (isBridgeError(error) && NO_SERVICE.has(error.code)) return undefined;
    throw error;
  } finally {
    await api.close();
  }
}

function cursorOf({ tracksChanges, cursors }: SurveyResource): DraftStream["cursor"] {
  if (tracksChanges) return { value: { delta: true }, why: "the service says that it tracks changes" };
  const [field] = cursors;
  if (field === undefined || !/chang|modif|updat/i.test(field)) return undefined;
  return { value: { field }, why: "by its name it tells of the last change" };
}

function drafted(made: Draft, requests: number): Drafted {
  return { draft: made, text: draftText(made), requests };
}

function common({ name, signIn }: DraftOptions, { origin }: URL, path: string) {
  return {
    name,
    base: origin,
    path,
    settings: signIn.settings,
    signIn: { value: signIn.signIn, why: `as it was given: ${signIn.title}` },
    said: ["A draft: what stands beside a line is why it is there. Look it through, then remove this line."],
  };
}

function addressOf(text: string): URL {
  if (!URL.canParse(text) || !/^https?:$/.test(new URL(text).protocol))
    throw new BridgeError("URL_INVALID", `${text} is no address.`, {
      hint: "Write it whole, such as https://api.huts.example/v1/stays.",
    });
  return new URL(text);
}

function trialApi(
  base: string,
  { name, account = "main", signIn, values, connect: how }: DraftOptions,
  rest: object,
): Api {
  const settings = Object.fromEntries(
    signIn.settings.map((line) => {
      const [setting = ""] = line.split(":");
      return [setting, { type: "string", ...(signIn.secrets.includes(setting) ? { secret: true } : {}) }];
    }),
  );
  const { value: signInValue } = parseYaml(signIn.signIn, "--sign-in");
  const connector = defineConnector({
    connector: name,
    settings: { base: { type: "string", format: "uri" }, ...settings },
    api: {
      url: `{+base}${new URL(base).pathname === "/" ? "" : new URL(base).pathname}`,
      sign_in: signInValue,
      rate_limit: CAREFUL,
    },
    ...rest,
  } as ConnectorInput);
  const open = connect as (connector: unknown, settings: object, options: ConnectOptions) => Api;
  return open(connector, { base: new URL(base).origin, ...values }, { name: account, ...how });
}
