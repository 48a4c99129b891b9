/** An OData service as its metadata describes it: asked once, and turned into streams by name. */

import { compileFailRules } from "../core/ask/fail-rules.js";
import { wholeNumber } from "../core/ask/page-rule.js";
import { planRequest } from "../core/ask/request-plan.js";
import { namesHint } from "../core/define/check.js";
import type { Account } from "../core/define/connector.js";
import type { Connector, StreamDefinition } from "../core/define/connector-schema.js";
import { streamSchema } from "../core/define/stream-schema.js";
import { BridgeError, isBridgeError } from "../core/errors.js";
import { readCsdlJson } from "../core/odata/csdl-json.js";
import { readCsdlXml } from "../core/odata/csdl-xml.js";
import { type EntitySet, MODEL_FORMAT, type Model } from "../core/odata/model.js";
import { snakeCase } from "../core/shape/naming.js";
import { compileODataStream, type ODataRoot } from "../core/stream/compile-odata.js";
import { type CompiledStream, compileStream } from "../core/stream/compile-stream.js";
import { type Exchange, newTally } from "../http/exchange.js";
import type { HttpResponse } from "../http/send.js";
import type { Keep } from "./ports.js";

/** What is known of a service, and the streams that carry it. */
export interface Known {
  readonly root: ODataRoot;
  /** in the order in which they are named: those of the connector first */
  readonly streams: ReadonlyMap<
    string,
    { readonly definition: StreamDefinition; readonly set: EntitySet | undefined }
  >;
}

/** Metadata as it is kept, with what the service calls its state (RFC 9110, section 8.8.3). */
interface KeptModel {
  readonly model: Model;
  readonly etag: string;
}

/** A service at work for one account. */
export class ODataService {
  private known: Promise<Known> | undefined;

  constructor(
    private readonly connector: Connector,
    private readonly account: Account,
    private readonly exchange: Exchange,
    private readonly headers: Readonly<Record<string, string>>,
    private readonly keep: Keep | undefined,
  ) {}

  async names(): Promise<readonly string[]> {
    return [...(await this.learn()).streams.keys()];
  }

  /** @throws BridgeError CONFIG_UNKNOWN_NAME, CONFIG_INVALID, and what asking for the metadata throws */
  async stream(name: string): Promise<CompiledStream> {
    const { root, streams } = await this.learn();
    const found = streams.get(name);
    if (found === undefined)
      throw new BridgeError(
        "CONFIG_UNKNOWN_NAME",
        `Connector ${this.connector.connector} has no stream ${name}.`,
        {
          hint: namesHint(name, [...streams.keys()], "Streams"),
        },
      );
    const { definition, set } = found;
    return set === undefined
      ? compileStream(this.connector, name, definition)
      : compileODataStream(this.connector, name, definition, set, root);
  }

  /** What is known is kept as long as this process has the API open; a failure is forgotten. */
  learn(): Promise<Known> {
    this.known ??= this.ask().catch((error: unknown) => {
      this.known = undefined;
      throw error;
    });
    return this.known;
  }

  /** @throws BridgeError CONFIG_UNKNOWN_NAME where the service has no such set */
  setNamed(model: Model, name: string): EntitySet {
    return setNamed(model, name, undefined);
  }

  /** How many entities a set has, as the service counts them (OData URL Conventions 4.01, section 4.8). */
  async countRows(set: string, { url }: ODataRoot, signal?: AbortSignal): Promise<number | undefined> {
    const template = { get: `/${set}/$count`, query: {}, headers: {}, safe_to_retry: false };
    const request = planRequest(url, template, { accept: "text/plain, */*;q=0.5", ...this.headers }, {});
    const where = { account: this.account.name };
    const text = await this.exchange.ask(request, ({ body }) => new TextDecoder().decode(body), {
      where,
      tally: newTally(),
      signal,
    });
    return wholeNumber(text.replace(/^\uFEFF/, ""));
  }

  private async ask(): Promise<Known> {
    const { url, model } = await this.findRoot();
    const root = { url, model, version: this.connector.odata?.version ?? model.version };
    return { root, streams: this.streamsOf(model) };
  }

  /** The address may be that of $metadata, or of a set: the root is then one step above. */
  private async findRoot(): Promise<{ readonly url: string; readonly model: Model }> {
    const given = rootOf(this.account.baseUrl);
    const above = given.slice(0, given.lastIndexOf("/"));
    try {
      return { url: given, model: await this.metadataAt(given) };
    } catch (error) {
      const mayBeAbove =
        isBridgeError(error) &&
        ["NOT_FOUND", "METADATA_UNREADABLE", "REQUEST_REFUSED", "BODY_HTML"].includes(error.code) &&
        new URL(given).pathname.split("/").length > 2;
      if (!mayBeAbove) throw error;
      const model = await this.metadataAt(above).catch(() => undefined);
      const name = given.slice(above.length + 1);
      if (model?.sets.some((set) => set.name === name) === true) return { url: above, model };
      if (model !== undefined)
        throw new BridgeError(error.code, error.message, {
          where: error.where,
          hint: `A service is at ${above}: perhaps that is meant.`,
          cause: error,
        });
      throw error;
    }
  }

  /** Large metadata takes seconds to read: what was read last is taken where the service says that it is the same. */
  private async metadataAt(root: string): Promise<Model> {
    const name = `metadata ${MODEL_FORMAT} ${this.connector.connector} ${this.account.name} ${root}`;
    const kept = (await this.keep?.read(name)) as KeptModel | undefined;
    const condition = kept && { "if-none-match": kept.etag };
    const template = { get: "/$metadata", query: {}, headers: {}, safe_to_retry: false };
    const accept = { ...this.headers, accept: "application/xml, application/json;q=0.5", ...condition };
    const request = planRequest(root, template, accept, {});
    const where = { account: this.account.name };
    const fails = compileFailRules(this.connector.api.rules);
    const context = { where, tally: newTally(), fails, mayBeUnchanged: kept !== undefined };
    const { model, etag } = await this.exchange.ask(
      request,
      (response) =>
        kept !== undefined && response.status === 304
          ? kept
          : { model: modelOf(response), etag: response.headers.etag },
      context,
    );
    if (etag !== undefined && etag !== kept?.etag) await this.keep?.write(name, { model, etag });
    return model;
  }

  private streamsOf(model: Model): Known["streams"] {
    const streams = new Map<string, { definition: StreamDefinition; set: EntitySet | undefined }>();
    const { connector } = this;
    for (const [name, definition] of Object.entries(connector.streams)) {
      const set = definition.set === undefined ? undefined : setNamed(model, definition.set, name);
      streams.set(name, { definition, set });
    }
    const taken = new Set([...streams.values()].map(({ set }) => set?.name));
    const patterns = connector.odata?.sets ?? (streams.size === 0 ? ["*"] : []);
    for (const pattern of patterns) {
      const found = model.sets.filter(({ name, kind }) => matches(pattern, name) && kind !== "function");
      if (found.length === 0) setNamed(model, pattern, undefined);
      for (const set of found) {
        const isWanted = !taken.has(set.name) && (set.capabilities.isReadable || pattern === set.name);
        if (!isWanted) continue;
        taken.add(set.name);
        streams.set(freeName(streams, set.name), { definition: streamSchema.parse({ set: set.name }), set });
      }
    }
    return streams;
  }
}

/** The address without a slash, a query or `$metadata` at its end. */
function rootOf(address: string): string {
  return address
    .replace(/[?#].*$/, "")
    .replace(/\/+$/, "")
    .replace(/\/\$metadata$/i, "");
}

function modelOf({ body }: HttpResponse): Model {
  const text = new TextDecoder().decode(body).replace(/^\uFEFF/, "");
  if (/^\s*(<!doctype html|<html)/i.test(text))
    throw new BridgeError("METADATA_UNREADABLE", "$metadata was expected, a web page came.");
  if (/^\s*\{/.test(text)) return readCsdlJson(text);
  if (/^\s*</.test(text)) return readCsdlXml(text);
  throw new BridgeError("METADATA_UNREADABLE", "$metadata is neither XML nor JSON.");
}

function matches(pattern: string, name: string): boolean {
  const literal = pattern.split("*").map((part) => part.replaceAll(/[.+?^${}()|[\]\\]/g, "\\$&"));
  return new RegExp(`^${literal.join(".*")}$`).test(name);
}

/** @throws BridgeError CONFIG_UNKNOWN_NAME */
function setNamed(model: Model, name: string, stream: string | undefined): EntitySet {
  const found = model.sets.find((set) => set.name === name);
  if (found !== undefined) return found;
  const known = model.sets.map((set) => set.name);
  throw new BridgeError("CONFIG_UNKNOWN_NAME", `The service has no set ${name}.`, {
    where: { stream },
    hint: namesHint(name, known, "Sets"),
  });
}

function freeName(taken: ReadonlyMap<string, unknown>, set: string): string {
  const plain = snakeCase(set);
  for (let n = 1; ; n++) {
    const name = n === 1 ? plain : `${plain}_${n}`;
    if (!taken.has(name)) return name;
  }
}
