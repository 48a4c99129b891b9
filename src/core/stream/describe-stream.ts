/** What a stream will ask, in words: for a look before anything is sent. Pure. */

import type { PagesDefinition, Place } from "../define/ask-schema.js";
import type { StreamDefinition } from "../define/connector-schema.js";
import type { EachDefinition, SweepDefinition } from "../define/parts-schema.js";
import type { CompiledStream } from "./compile-stream.js";
import { sweepDefinition } from "./sweep.js";

export interface Described {
  /** one line for each thing that is decided, in the order of the work */
  readonly lines: readonly { readonly label: string; readonly text: string }[];
  /** what can go wrong with asking in this way, and what to write instead */
  readonly warnings: readonly string[];
}

/** What is known of where a stream stands. */
export interface KnownState {
  /** the cursor; of windows, the end of what is done */
  readonly since?: string | undefined;
  /** windows that are open */
  readonly windows?: number | undefined;
  /** of a stream with parts: those that `since` is the least of */
  readonly parts?: number | undefined;
}

export function describeStream(stream: CompiledStream, known: KnownState = {}): Described {
  const { definition } = stream;
  const lines = [
    [
      "lists",
      Object.entries(definition.lists).map(
        ([name, list]) => `{${name}} from ${requestText(list)} at ${list.values}`,
      ),
    ],
    [
      "parts",
      definition.each === undefined
        ? []
        : Object.entries(definition.each).map(([name, from]) => `each {${name}} ${eachText(from)}`),
    ],
    ["windows", definition.windows === undefined ? [] : [windowsText(definition.windows, known)]],
    ["asks", askedTexts(definition)],
    ["pages", definition.report !== undefined ? [] : [pagesText(definition)]],
    ["expand", definition.expand === undefined ? [] : [expandText(definition.expand)]],
    ["from", cursorTexts(stream, known)],
    ["sweeps", definition.sweep === undefined ? [] : [sweepText(definition, definition.sweep)]],
    ["computes", stream.compute.map(({ name }) => computedText(name, definition))],
    ["hides", hiddenTexts(stream)],
    ["keeps", definition.where === undefined ? [] : [`records for which ${definition.where}`]],
  ] as const;
  return {
    lines: lines.flatMap(([label, texts]) => texts.map((text) => ({ label, text }))),
    warnings: warningsOf(stream),
  };
}

function computedText(name: string, { compute }: StreamDefinition): string {
  return `${name} = ${compute[name] ?? "a function of the connector"}`;
}

function hiddenTexts({ columns }: CompiledStream): string[] {
  const hidden = [...columns].flatMap(([path, { conceal, skip, hash }]) => {
    if (conceal === undefined) return [];
    return [skip === true ? `${path} whole` : hash === undefined ? `${path} but its end` : `${path} by hash`];
  });
  return hidden.length === 0 ? [] : [hidden.join(", ")];
}

function sweepText(definition: StreamDefinition, sweep: SweepDefinition): string {
  const { every, reach, share, part } = sweep;
  const far = reach === undefined ? "all keys" : `the keys of the last ${reach}`;
  const asked = requestText(sweepDefinition(definition, sweep));
  const each = part === undefined ? "" : `, part by part as ${part} says`;
  return `${asked} for ${far} when ${every} have passed: what is not among them is gone${each}, ${share * 100} % at most`;
}

function expandText(expand: NonNullable<StreamDefinition["expand"]>): string {
  const asked = expand.link === undefined ? requestText(expand) : `GET the address in ${expand.link}`;
  return `${asked} for each record`;
}

type Asked = {
  get?: string | undefined;
  post?: string | undefined;
  query: Readonly<Record<string, unknown>>;
};

function requestText({ get, post, query }: Asked): string {
  const parameters = Object.entries(query).map(([name, value]) => `${name}=${[value].flat().join(",")}`);
  const path = get ?? post ?? "";
  return `${get === undefined ? "POST" : "GET"} ${path}${parameters.length === 0 ? "" : `${path.includes("?") ? "&" : "?"}${parameters.join("&")}`}`;
}

function askedTexts(definition: StreamDefinition): string[] {
  const { report, measures, dimensions } = definition;
  const groups =
    measures === undefined
      ? 1
      : Math.ceil(measures.names.length / (measures.max_per_request ?? measures.names.length));
  const split =
    groups === 1
      ? []
      : [
          `${measures?.names.length} measures in ${groups} requests, joined on ${dimensions?.names.join(", ")}`,
        ];
  if (report === undefined) return [requestText(definition), ...split];
  const download =
    report.download.get === undefined ? `the file at ${report.poll.link}` : `GET ${report.download.get}`;
  return [
    `${requestText(report.submit)}, then ${requestText(report.poll)} until ${report.poll.done.join(" or ")}, then ${download}`,
    ...split,
  ];
}

export function placeText(place: Place): string {
  return typeof place === "string" ? place : `header ${place.header}`;
}

function pagesText({ pages, set }: StreamDefinition): string {
  if (pages === undefined)
    return set === undefined ? "one" : "by the service's next links, and as many as it counts";
  const back = pages.query === undefined ? "goes back where the request says" : `goes back as ${pages.query}`;
  const size = pages.size === undefined ? "" : `, ${pages.size.records} records each`;
  if (pages.token !== undefined) return `by token: ${placeText(pages.token)} ${back}${size}`;
  if (pages.link !== undefined)
    return `by address: ${pages.link === "header" ? "the Link header" : placeText(pages.link)}`;
  const kind =
    pages.number !== undefined
      ? `by number from ${pages.number}`
      : pages.offset !== undefined
        ? `by offset from ${pages.offset}`
        : `after the last ${pages.after ?? "entity's key"}`;
  return `${kind}, as ${pages.query ?? (pages.keyset ? "$filter" : "the request says")}${size}, ${endText(pages)}`;
}

function endText(pages: PagesDefinition): string {
  const ends = [
    pages.more === undefined ? [] : `while ${placeText(pages.more)}`,
    pages.last === undefined ? [] : `until ${placeText(pages.last)}`,
    pages.total === undefined ? [] : `until ${placeText(pages.total)} records are in`,
    pages.total_pages === undefined ? [] : `for ${placeText(pages.total_pages)} pages`,
    pages.more === undefined ? `until a page is ${pages.end === "short" ? "not full" : "empty"}` : [],
  ].flat();
  return ends.join(", or ");
}

function eachText(from: EachDefinition[string]): string {
  if (Array.isArray(from)) return `of ${from.length} values`;
  if ("file" in from) return `in the file ${from.file}`;
  if ("ranges" in from) return `of ${from.ranges} ranges of the key`;
  if ("stream" in from) return `from ${from.field} of the stream ${from.stream}`;
  return `from ${requestText(from)} at ${from.values}`;
}

function windowsText(
  windows: NonNullable<StreamDefinition["windows"]>,
  { since, windows: open, parts }: KnownState,
): string {
  const many = open === undefined ? "" : `, ${open} open`;
  const order = windows.order === "newest_first" ? "newest first" : "oldest first";
  const inParts = parts === undefined ? "" : ` in ${partsText(parts)}`;
  const done = since === undefined ? "" : `, done up to ${since}${inParts}`;
  return `of ${windows.span} from ${windows.start} to ${windows.end ?? "now"}, ${order}${many}${done}`;
}

function partsText(count: number): string {
  return count === 1 ? "one part" : `${count} parts`;
}

function cursorTexts(stream: CompiledStream, { since, parts }: KnownState): string[] {
  const { cursor, definition } = stream;
  if (definition.windows !== undefined) return [];
  if (cursor === undefined) return ["the beginning: it has no cursor, so everything is read each time"];
  const inParts = parts === undefined ? "" : ` or later in ${partsText(parts)}, the beginning in others`;
  const from = since === undefined ? "the beginning" : `${since}${inParts}`;
  const by =
    cursor.kind === "field"
      ? `by ${definition.cursor?.field}`
      : cursor.kind === "delta"
        ? definition.cursor?.delta === true
          ? "by the service's delta link"
          : `by the API's token ${definition.cursor?.delta}`
        : "by the time of the last whole run";
  const order = cursor.kind === "field" && cursor.order !== "any" ? `, ${cursor.order}` : "";
  return [`${from}, ${by}${order}${cursor.query === undefined ? "" : `, as ${cursor.query}`}`];
}

/** What a practitioner would want to be told before the first night. */
function warningsOf({ definition, key, columns, cursor, oldLeftOut, set }: CompiledStream): string[] {
  const { pages } = definition;
  const warnings: string[] = [];
  const numbered = pages?.number !== undefined || pages?.offset !== undefined;
  if (numbered && pages?.overlap === undefined) {
    const remedy =
      pages?.offset === undefined
        ? "If the API can, ask by token, after a key, or in windows of time"
        : "Write overlap under pages, or ask by token or after a key";
    const noticed =
      pages?.total === undefined
        ? ""
        : " A total that changes is noticed, and the cursor then stays where it was.";
    warnings.push(
      `Pages by ${pages?.number === undefined ? "offset" : "number"} are unsafe where records are deleted or inserted while they are read: those that move to a page already read are passed over. ${remedy}.${noticed}`,
    );
  }
  if (pages?.offset !== undefined && set?.isPageable === false)
    warnings.push(
      `The service says that ${set.name} takes no $skip and $top: leave pages out, and its next links are followed.`,
    );
  if (pages?.end === "short")
    warnings.push(
      "A page that is not full ends the stream: an API that fills pages before it filters would end it early.",
    );
  const guessable = [...columns].filter(([, { hash }]) => hash === "plain").map(([path]) => path);
  if (guessable.length > 0)
    warnings.push(
      `Hashes of ${guessable.join(", ")} can be guessed at, value by value: give the account a hash_secret.`,
    );
  if (key.length === 0) warnings.push("Records have no key: the table is written whole each time.");
  if (definition.post !== undefined && !definition.safe_to_retry)
    warnings.push(
      "This POST is not sent again after it may have arrived. If it changes nothing, write safe_to_retry: true.",
    );
  if (oldLeftOut && cursor?.order !== "descending")
    warnings.push(
      "The API is given no filter: all pages are read each time, and old records left out on our side.",
    );
  return warnings;
}
