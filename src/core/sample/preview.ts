/** One response read by connector lines, with no network: what it would become, and what would be asked for next. */

import type { PagePosition } from "../ask/page-position.js";
import { nextAfterFirst } from "../ask/page-rule.js";
import { readPage } from "../ask/read-page.js";
import { planRequest } from "../ask/request-plan.js";
import type { Decoder } from "../decode/choose-decoder.js";
import { parseYaml } from "../define/check.js";
import { checkConnector } from "../define/connector.js";
import type { Connector } from "../define/connector-schema.js";
import { BridgeError, isBridgeError } from "../errors.js";
import { namesInTemplate } from "../language/template.js";
import { type CompiledStream, compileStream } from "../stream/compile-stream.js";
import { type LookedAt, lookAt } from "./look.js";

/** A response that is there already, and the lines that it is read by. */
export interface PreviewOptions {
  /** a connector file, in YAML */
  readonly connector: string;
  /** default: the first one */
  readonly stream?: string | undefined;
  readonly body: Uint8Array;
  /** by lower-case name */
  readonly headers?: Readonly<Record<string, string | undefined>> | undefined;
  /** records that are looked at, at most; default: all */
  readonly most?: number | undefined;
}

/** What the response becomes. */
export interface Preview extends LookedAt {
  readonly stream: string;
  /** all that the connector has */
  readonly streams: readonly string[];
  /** in the response, looked at or not */
  readonly received: number;
  /** path and query of the next request, settings as {name}; or why there is none */
  readonly next: { readonly request: string } | { readonly end: string };
}

/**
 * Reads the response as a run would.
 * @throws BridgeError CONFIG_SYNTAX, CONFIG_INVALID, CONFIG_UNKNOWN_KEY by line and column, and what reading throws
 */
export function preview({
  connector: text,
  stream: wanted,
  body,
  headers = {},
  most,
}: PreviewOptions): Preview {
  const file = parseYaml(text, "connector");
  const connector = checkConnector(file.value, file);
  const streams = Object.keys(connector.streams);
  const name = wanted !== undefined && streams.includes(wanted) ? wanted : streams[0];
  if (name === undefined)
    throw new BridgeError("CONFIG_INVALID", "The connector has no stream to read the response by.");
  const stream = compileStream(connector, name, connector.streams[name]!);
  const plan = { ...stream.request.plan, decoder: remembering(stream.request.plan.decoder) };
  const page = readPage({ body, headers }, plan, { stream: name });
  const records = page.records.slice(0, most);
  const looked = lookAt(stream, records);
  return { ...looked, stream: name, streams, received: page.received, next: nextOf(connector, stream, page) };
}

/** Bodies that have been parsed, as long as somebody holds them: lines change more often than the response. */
const parsed = new WeakMap<Uint8Array, readonly unknown[]>();

function remembering(decoder: Decoder): Decoder {
  if (decoder.kind !== "json") return decoder;
  return {
    ...decoder,
    decode(bytes, where) {
      const known = parsed.get(bytes) ?? decoder.decode(bytes, where);
      parsed.set(bytes, known);
      return [...known];
    },
  };
}

function nextOf(
  { api }: Connector,
  { request, definition }: CompiledStream,
  page: ReturnType<typeof readPage>,
): Preview["next"] {
  const { pages, template } = request;
  if (pages.definition === undefined) return { end: "the stream has no pages: this response is all" };
  try {
    const next = nextAfterFirst(pages, page);
    if (next.at === "end") return { end: "this page is the last one, by what it says" };
    return { request: requestOf(next) };
  } catch (error) {
    if (!isBridgeError(error)) throw error;
    return { end: error.message };
  }

  function requestOf(position: PagePosition): string {
    if (position.at === "link") return `${template.post === undefined ? "GET" : "POST"} ${position.link}`;
    const unknown = Object.fromEntries([...namesInTemplate(definition)].map((each) => [each, `{${each}}`]));
    const values = { ...unknown, ...pages.values(position) };
    const planned = planRequest("", template, api.headers, values, pages.parameters(position));
    return `${planned.method} ${decoded(planned.url)}`;
  }
}

/** As people read it. */
function decoded(url: string): string {
  try {
    return decodeURIComponent(url);
  } catch {
    return url;
  }
}
