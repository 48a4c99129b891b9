/** Streams of an OData service: what its metadata says, as the requests, columns and cursor that every stream has. */

import { compilePages, type PageRule } from "../ask/page-rule.js";
import { rangeNames } from "../ask/parts.js";
import type { Decoder } from "../decode/choose-decoder.js";
import { type PagesDefinition, pagesSchema } from "../define/ask-schema.js";
import type { Connector, StreamDefinition } from "../define/connector-schema.js";
import { BridgeError } from "../errors.js";
import { fillText, type TemplateValues } from "../language/template.js";
import { isRemoved, withKeys } from "../odata/changes.js";
import type { Leaf } from "../odata/edm-type.js";
import { type KeyPart, keyPredicate, keyValues } from "../odata/entity-key.js";
import { allOf, inRange } from "../odata/filter.js";
import { isOld, literalOf } from "../odata/literal.js";
import {
  type EntitySet,
  keyAliasOf,
  keyOf,
  lineage,
  type Model,
  type ODataVersion,
  propertiesOf,
} from "../odata/model.js";
import {
  COUNT,
  checkLateError,
  DELTA_LINK,
  ENTITIES,
  faultOf,
  isControl,
  isTelling,
  modernBody,
  NEXT_LINK,
  withStreams,
} from "../odata/payload.js";
import { formatPath, parsePath } from "../shape/naming.js";
import type { CursorRule } from "../track/cursor.js";
import {
  type CompiledRequest,
  type CompiledSet,
  type CompiledStream,
  compileStream,
} from "./compile-stream.js";
import { mergedRules } from "./merged-rules.js";
import { type ODataColumns, odataColumns, selectOf } from "./odata-columns.js";
import { keysetPages } from "./odata-keyset.js";
import { sweepDefinition } from "./sweep.js";

/** A service, as far as its streams need it. */
export interface ODataRoot {
  readonly model: Model;
  readonly version: ODataVersion;
  /** its address, without a slash at the end */
  readonly url: string;
}

/** The positions are the API's own: an address in each page, and how many there are in all. */
const PAGES = pagesSchema.parse({ link: "$.nextLink", total: "$.count" });

/**
 * Compiles a stream over a set. What the definition says goes before what the metadata does.
 * @throws BridgeError CONFIG_INVALID where the cursor's field is no property, or may not be filtered by
 */
export function compileODataStream(
  connector: Connector,
  name: string,
  definition: StreamDefinition,
  set: EntitySet,
  root: ODataRoot,
): CompiledStream {
  const { model, version } = root;
  const columns = odataColumns(root, set.type, definition, name);
  const { leaves } = columns;
  const path = `/${set.name}${set.kind === "function" && !isOld(version) ? "()" : ""}`;
  const base = compileStream(connector, name, { ...definition, get: path });
  const declaredKey =
    definition.key === undefined ? keyOf(model, set.type).map((each) => each.split("/")) : base.key;
  const isKeyset = definition.pages?.keyset === true;
  const cursor = base.cursor && cursorOf(base.cursor, leaves, set, root, name, isKeyset);
  const keyParts = declaredKey.map((steps) => ({
    name: steps.join("/"),
    type: leaves.find((leaf) => leaf.path.join("/") === steps.join("/"))?.property.type.name ?? "Edm.String",
    alias: keyAliasOf(model, set.type, steps.join("/")),
  }));
  const query = {
    ...selectOf(root, columns),
    ...(set.kind === "singleton" ? {} : orderAndCount(set, declaredKey, cursor, version)),
    ...definition.query,
    ...(isKeyset ? { $orderby: keyParts.map((part) => part.name).join(",") } : {}),
  };
  const pages = pagesOf(definition.pages, keyParts, version, name);
  const own =
    definition.pages === undefined ? { link: NEXT_LINK, total: COUNT } : { total: COUNT, ...pages.envelope };
  return {
    ...base,
    key: declaredKey,
    columns: mergedRules(columns.rules, base.columns),
    cursor,
    sweep: base.sweep && {
      ...base.sweep,
      stream: compileODataStream(connector, name, sweepDefinition(definition, definition.sweep!), set, root),
    },
    oldLeftOut: false,
    isControl,
    isTelling,
    faultOf,
    description: set.description ?? lineage(model, set.type).at(-1)?.description,
    isRemoval: (record) => isRemoved(record) || base.isRemoval?.(record) === true,
    set: setOf(root, set, keyParts, columns, query),
    expand: base.expand && { ...base.expand, base: root.url, addressValues: doubled },
    request: {
      ...base.request,
      base: root.url,
      addressValues: doubled,
      takesQueryInBody: version === "4.01",
      joinParameters: joinerOf(definition, keyParts, version),
      template: {
        ...base.request.template,
        query,
        headers: { ...headersOf(version), ...tracking(cursor), ...definition.headers },
      },
      pages: { ...pages, envelope: own },
      plan: {
        ...base.request.plan,
        records: [ENTITIES],
        decoder: decoderOf(base.request.plan.decoder, root, set.name, keyParts, columns),
        envelope: { ...own, delta: DELTA_LINK },
      },
    },
  };
}

/** The set by itself, for what is asked of it beside its pages. */
function setOf(
  { model, version }: ODataRoot,
  { name, type, capabilities }: EntitySet,
  key: readonly KeyPart[],
  { leaves, expansions, rules }: ODataColumns,
  { $select, $expand }: StreamDefinition["query"],
): CompiledSet {
  const expanded = expansions.flatMap(({ path, isEmpty }) => (isEmpty || path[0] === "*" ? [] : [path[0]!]));
  const selected = textOf($select)?.split(",");
  const members = propertiesOf(model, type)
    .filter(({ type: { name } }) => name !== "Edm.Stream")
    .map((property) => property.name)
    .filter((each) => rules.get(formatPath([each]))?.skip !== true && selected?.includes(each) !== false);
  return {
    name,
    version,
    key,
    streams: streamNames(leaves),
    instants: instantNames(rules),
    members: [...members, ...expanded],
    expanded,
    isPageable: capabilities.isPageable,
    query: { ...($select === undefined ? {} : { $select }), ...($expand === undefined ? {} : { $expand }) },
  };
}

/** @throws BridgeError CONFIG_INVALID for pages by a key that the set has not */
function pagesOf(
  pages: PagesDefinition | undefined,
  key: readonly KeyPart[],
  version: ODataVersion,
  stream: string,
): PageRule {
  if (pages?.keyset !== true) return compilePages(pages ?? PAGES);
  if (key.length > 0) return keysetPages(pages, key, version);
  throw new BridgeError("CONFIG_INVALID", "pages.keyset is for sets with a key, and this one has none.", {
    where: { stream },
  });
}

/** The filters of the stream, the cursor, the range and the place make one. */
function joinerOf(
  { query, each = {} }: StreamDefinition,
  [first]: readonly KeyPart[],
  version: ODataVersion,
): NonNullable<CompiledRequest["joinParameters"]> {
  const own = textOf(query.$filter);
  const ranges = Object.entries(each).flatMap(([name, source]) =>
    !Array.isArray(source) && "ranges" in source ? [rangeNames(name)] : [],
  );
  return (said, values) => {
    const text = (name: string) => (values[name] === undefined ? undefined : String(values[name]));
    const filters = [
      own && fillText(own, doubled(values)),
      ...ranges.map(({ from, to }) => first && inRange(first, text(from), text(to), version)),
      ...said.map(({ $filter }) => ($filter === undefined ? undefined : String($filter))),
    ];
    return { ...Object.assign({}, ...said), $filter: allOf(filters) };
  };
}

/** Texts stand in quotes wherever an address has them: a quote within is doubled (OData ABNF, string). */
function doubled(values: TemplateValues): TemplateValues {
  const one = (value: unknown) => (typeof value === "string" ? value.replaceAll("'", "''") : value);
  return Object.fromEntries(
    Object.entries(values).map(([name, value]) => [name, Array.isArray(value) ? value.map(one) : one(value)]),
  ) as TemplateValues;
}

function textOf(value: unknown): string | undefined {
  return typeof value === "string" && value !== "" ? value : undefined;
}

function orderAndCount(
  set: EntitySet,
  key: readonly (readonly string[])[],
  cursor: CursorRule | undefined,
  version: ODataVersion,
): Record<string, string> {
  const query: Record<string, string> = {};
  if (cursor?.kind === "field" && cursor.field !== undefined && isSortable(set, cursor.field))
    query.$orderby = [cursor.field, ...key].map((path) => path.join("/")).join(",");
  if (set.capabilities.isCountable && set.kind === "set") {
    if (isOld(version)) query.$inlinecount = "allpages";
    else query.$count = "true";
  }
  return query;
}

function isSortable({ capabilities }: EntitySet, field: readonly string[]): boolean {
  return capabilities.isSortable && !capabilities.unsortable.has(field.join("/"));
}

/** A cursor by a property: the filter that asks for what is not older. */
function cursorOf(
  cursor: CursorRule,
  leaves: readonly Leaf[],
  set: EntitySet,
  { version }: ODataRoot,
  stream: string,
  isKeyset: boolean,
): CursorRule {
  const { field } = cursor;
  if (cursor.kind === "delta") return { ...cursor, deltaIsLink: true };
  if (cursor.kind !== "field" || field === undefined || cursor.query !== undefined) return cursor;
  const name = field.join("/");
  const leaf = leaves.find(({ path }) => path.join("/") === name);
  const where = { stream };
  if (leaf === undefined) {
    const times = leaves
      .filter(({ property }) => /Date/.test(property.type.name))
      .map(({ path }) => path.join("/"));
    throw new BridgeError("CONFIG_INVALID", `cursor.field ${name} is no property of the set ${set.name}.`, {
      where,
      hint:
        times.length === 0
          ? "The set has no property of a time."
          : `Its times: ${times.slice(0, 8).join(", ")}.`,
    });
  }
  if (!set.capabilities.isFilterable || set.capabilities.unfilterable.has(name))
    throw new BridgeError(
      "CONFIG_INVALID",
      `The service says that ${set.name} cannot be filtered by ${name}.`,
      {
        where,
        hint: "Choose another field, or leave the cursor out: the set is then read whole each time.",
      },
    );
  const type = leaf.property.type.name;
  const send = (value: string) => `${name} ge ${literalOf(type, value, version)}`;
  if (isKeyset) return { ...cursor, query: "$filter", send, bounds: "inclusive" };
  const order = cursor.order === "any" && isSortable(set, field) ? "ascending" : cursor.order;
  return { ...cursor, query: "$filter", send, order, bounds: "inclusive" };
}

/** OData Protocol 4.01, section 8.1.5 and 8.2.6; OData JSON Format 4.01, section 3. */
function headersOf(version: ODataVersion): Record<string, string> {
  if (version === "2.0") return { accept: "application/json", maxdataserviceversion: "2.0" };
  if (version === "3.0")
    return {
      accept: "application/json;odata=minimalmetadata, application/json;q=0.5",
      maxdataserviceversion: "3.0",
    };
  return {
    accept: "application/json;odata.metadata=minimal;IEEE754Compatible=true, application/json;q=0.5",
    "odata-maxversion": version,
  };
}

/** OData Protocol 4.01, section 8.2.8.6: the last page then has a link that gives what changes later. */
function tracking(cursor: CursorRule | undefined): Record<string, string> {
  return cursor?.kind === "delta" ? { prefer: "odata.track-changes" } : {};
}

/** Properties whose values have addresses of their own. */
function streamNames(leaves: readonly Leaf[]): readonly string[] {
  return leaves.flatMap(({ path, property: { type } }) =>
    type.name === "Edm.Stream" && path.length === 1 ? [path[0]!] : [],
  );
}

/** Properties whose times are instants. */
function instantNames(rules: ODataColumns["rules"]): ReadonlySet<string> {
  return new Set(
    [...rules].flatMap(([at, { type }]) =>
      type?.kind === "timestamp" ? (parsePath(at)?.slice(-1) ?? []) : [],
    ),
  );
}

function decoderOf(
  decoder: Decoder,
  { version, url: root }: ODataRoot,
  set: string,
  key: readonly KeyPart[],
  { leaves, rules }: ODataColumns,
): Decoder {
  const instants = instantNames(rules);
  const names = streamNames(leaves);
  const pathOf = (entity: Readonly<Record<string, unknown>>) => {
    const isKeyed = key.length > 0 && key.every(({ name }) => Object.hasOwn(entity, name));
    return isKeyed ? `${set}${keyPredicate(key, keyValues(entity, key, {}), version)}` : undefined;
  };
  return {
    ...decoder,
    decode: (bytes, where) =>
      decoder.decode(bytes, where).map((tree) => {
        checkLateError(tree, where);
        const named = withStreams(tree, { names, root, pathOf });
        return isOld(version) ? modernBody(named, instants) : withKeys(named, key, version);
      }),
  };
}
