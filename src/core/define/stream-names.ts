/** Checks the names that a stream's templates ask for, and what its parts refer to. */

import { BridgeError } from "../errors.js";
import { templateNames, textNames } from "../language/template.js";
import { parseColumnType } from "../shape/column-type.js";
import { fieldParts, formatPath } from "../shape/naming.js";
import { formFault } from "../shape/value-form.js";
import type { BodyDefinition, PagesDefinition } from "./ask-schema.js";
import { formatIssuePath, namesHint, nearest, type YamlFile } from "./check.js";
import type { Connector, StreamDefinition } from "./connector-schema.js";
import { measureGroups } from "./measure-groups.js";
import { positionName } from "./position-name.js";

type Source = Pick<YamlFile, "place">;
type Path = readonly PropertyKey[];

/** Values that every request may use: when the run began, as RFC 3339 and as a date. */
export const RUN_NAMES = ["now", "today"] as const;

/** A request as far as names are concerned. */
interface Named {
  readonly get?: string | undefined;
  readonly post?: string | undefined;
  readonly query: Readonly<Record<string, unknown>>;
  readonly headers: Readonly<Record<string, string>>;
  readonly body?: BodyDefinition | undefined;
  readonly pages?: PagesDefinition | undefined;
}

/** @throws BridgeError CONFIG_UNKNOWN_NAME, CONFIG_INVALID */
export function checkStream(connector: Connector, name: string, source: Source): void {
  const stream = connector.streams[name]!;
  const path = ["streams", name];
  const settings = [...Object.keys(connector.settings), ...RUN_NAMES];
  for (const [list, request] of Object.entries(stream.lists))
    checkRequest(request, [...path, "lists", list], settings, source);
  const listed = [...settings, ...Object.keys(stream.lists)];
  const parts = checkEach(connector, name, listed, source);
  const known = [...listed, ...parts, ...ownNames(stream)];
  if (stream.report === undefined) checkRequest(stream, path, known, source);
  else checkReport(stream.report, [...path, "report"], known, source);
  if (stream.expand !== undefined)
    checkRequest(
      stream.expand,
      [...path, "expand"],
      [...known, ...Object.keys(stream.expand.fields)],
      source,
    );
  for (const [field, text] of Object.entries(stream.add))
    if (typeof text === "string")
      checkNames(textNames(text), [...path, "add", field], [...listed, ...parts], source);
  checkPosition(stream, path, source);
  measureGroups(stream.dimensions, stream.measures, { file: source.place([...path, "dimensions"]) });
  checkGroup(connector, stream, path, source);
  const key = [stream.key ?? []].flat().map(fieldParts);
  checkColumns(stream.columns, key, [...path, "columns"], source);
}

/**
 * Checks what a stream's columns say: forms fit their types, and keys stay apart.
 * @throws BridgeError CONFIG_INVALID
 */
export function checkColumns(
  columns: StreamDefinition["columns"],
  key: readonly (readonly string[])[],
  path: Path,
  source: Source,
): void {
  for (const [field, { form, type, mask, drop }] of Object.entries(columns)) {
    const declared = type === undefined ? undefined : parseColumnType(type);
    const isKey = key.some((each) => formatPath(each) === formatPath(fieldParts(field)));
    const fault =
      isKey && (mask !== undefined || drop === true)
        ? "it is the key, and records could no longer be told apart"
        : form && declared && formFault(form, declared);
    if (fault === undefined) continue;
    const at = [...path, field];
    throw new BridgeError("CONFIG_INVALID", `${formatIssuePath(at)}: ${fault}.`, {
      where: { file: source.place(at) },
    });
  }
}

/** What the cursor, the windows and the names to ask for add to a stream's values. */
function ownNames(stream: StreamDefinition): string[] {
  return [
    ...(stream.cursor === undefined ? [] : ["since"]),
    ...(stream.windows === undefined ? [] : ["from", "to"]),
    ...(stream.dimensions === undefined ? [] : ["dimensions"]),
    ...(stream.measures === undefined ? [] : ["measures"]),
  ];
}

/** The names of the parts, those of a parent stream as well. */
function checkEach(connector: Connector, name: string, listed: readonly string[], source: Source): string[] {
  const names: string[] = [];
  for (const [part, from] of Object.entries(connector.streams[name]!.each ?? {})) {
    const path = ["streams", name, "each", part];
    if (!Array.isArray(from) && "stream" in from)
      names.push(...checkParent(connector, name, from.stream, path, source));
    else if (!Array.isArray(from) && "values" in from)
      checkRequest(from, path, [...listed, ...names], source);
    names.push(part);
  }
  return names;
}

function checkParent(
  connector: Connector,
  name: string,
  parent: string,
  path: Path,
  source: Source,
): string[] {
  const trail = [name];
  for (let at: string | undefined = parent; at !== undefined; ) {
    const stream: StreamDefinition | undefined = connector.streams[at];
    if (stream === undefined)
      throw unknownName(
        `${formatIssuePath(path)} names the stream ${at}, which is none of the connector's.`,
        [...path, "stream"],
        source,
        namesHint(at, Object.keys(connector.streams), "Streams"),
      );
    if (trail.includes(at)) {
      const message = `${formatIssuePath(path)}: the streams ${[...trail, at].join(" → ")} wait for each other.`;
      throw new BridgeError("CONFIG_INVALID", message, { where: { file: source.place(path) } });
    }
    trail.push(at);
    at = Object.values(stream.each ?? {}).flatMap((from) =>
      !Array.isArray(from) && "stream" in from ? [from.stream] : [],
    )[0];
  }
  return trail.slice(1).flatMap((each) => Object.keys(connector.streams[each]!.each ?? {}));
}

function checkReport(
  report: NonNullable<StreamDefinition["report"]>,
  path: Path,
  known: readonly string[],
  source: Source,
): void {
  checkRequest(report.submit, [...path, "submit"], known, source);
  const submitted = [...known, "report_id"];
  checkRequest(report.poll, [...path, "poll"], submitted, source);
  if (report.download.get !== undefined)
    checkNames(templateNames(report.download.get), [...path, "download", "get"], submitted, source);
  else if (report.poll.link === undefined)
    throw new BridgeError(
      "CONFIG_INVALID",
      `${formatIssuePath([...path, "download"])} follows a link, and poll names none.`,
      {
        where: { file: source.place([...path, "download"]) },
        hint: "Add link under poll: where the address of the finished report is.",
      },
    );
}

function checkRequest(request: Named, path: Path, names: readonly string[], source: Source): void {
  const { pages } = request;
  const position =
    pages === undefined ? [] : [positionName(pages), pages.size === undefined ? undefined : "size"];
  const known = [...names, ...position.filter((each) => each !== undefined)];
  const method = request.get === undefined ? "post" : "get";
  checkNames(templateNames(request[method] ?? ""), [...path, method], known, source);
  for (const [key, value] of Object.entries(request.query))
    checkNames(
      [value].flat().flatMap((each) => (typeof each === "string" ? textNames(each) : [])),
      [...path, "query", key],
      known,
      source,
    );
  for (const [key, value] of Object.entries(request.headers))
    checkNames(textNames(value), [...path, "headers", key], known, source);
  if (request.body !== undefined) checkNames(namesWithin(request.body), [...path, "body"], known, source);
}

/** The names in all texts of a body. */
function namesWithin(value: unknown): string[] {
  if (typeof value === "string") return textNames(value);
  if (typeof value !== "object" || value === null) return [];
  return Object.values(value).flatMap(namesWithin);
}

/** A position that is sent nowhere would give the first page for ever. */
function checkPosition(stream: StreamDefinition, path: Path, source: Source): void {
  const { pages } = stream;
  const name = pages === undefined ? undefined : positionName(pages);
  if (pages === undefined || name === undefined || pages.query !== undefined) return;
  const { get = "", post = "", query, headers, body } = stream;
  if (templateNames(get + post).includes(name) || namesWithin({ query, headers, body }).includes(name))
    return;
  throw new BridgeError(
    "CONFIG_INVALID",
    `${formatIssuePath([...path, "pages"])} does not say how {${name}} is sent.`,
    {
      where: { file: source.place([...path, "pages"]) },
      hint: `Add query, the parameter that takes it, or write {${name}} into path, headers or body.`,
    },
  );
}

function checkGroup(connector: Connector, stream: StreamDefinition, path: Path, source: Source): void {
  const group = stream.rate_limit?.group;
  const groups = Object.keys(connector.api.rate_limit.groups);
  if (group === undefined || groups.includes(group)) return;
  const message = `${formatIssuePath([...path, "rate_limit", "group"])} names ${group}, which is no group of api.rate_limit.`;
  throw unknownName(message, [...path, "rate_limit", "group"], source, namesHint(group, groups, "Groups"));
}

function checkNames(names: readonly string[], path: Path, known: readonly string[], source: Source): void {
  for (const name of names) {
    if (known.includes(name)) continue;
    const near = nearest(name, known);
    throw unknownName(
      `${formatIssuePath(path)} asks for {${name}}, which is neither a setting nor a value of this stream.`,
      path,
      source,
      near === undefined
        ? `Declare ${name} under settings, lists or each. Known here: ${known.join(", ")}.`
        : `Perhaps {${near}} is meant.`,
    );
  }
}

function unknownName(message: string, path: Path, source: Source, hint: string): BridgeError {
  return new BridgeError("CONFIG_UNKNOWN_NAME", message, { where: { file: source.place(path) }, hint });
}
