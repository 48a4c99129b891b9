/** Which streams can be read without making objects of their records, and what of each record asking needs to know. */

import type { Decoder } from "../decode/choose-decoder.js";
import { CsvLines } from "../decode/csv-lines.js";
import type { OutlinePlan } from "../express/outline.js";
import { compilePlainPath } from "../language/plain-path.js";
import { isOld } from "../odata/literal.js";
import { modernBytes, OLD_LISTS } from "../odata/modern-bytes.js";
import { lateError } from "../odata/payload.js";
import { isPlainObject } from "../shape/exact-json.js";
import { formatPath, parsePath } from "../shape/naming.js";
import { isManyStep, keyOfStep } from "../shape/steps.js";
import type { CompiledStream } from "./compile-stream.js";

/** undefined where a rule, a function or another form of response has to see whole records. */
export function outlinePlan(stream: CompiledStream): OutlinePlan | undefined {
  const { definition, request, key, identity = key, cursor, measures, reads, isRemoval, set } = stream;
  const { decoder, records, envelope } = request.plan;
  const [path] = records;
  const form = formOf(decoder);
  if (
    form === undefined ||
    path === undefined ||
    records.length > 1 ||
    reads === undefined ||
    needsRecords(stream)
  )
    return undefined;
  const lists = set === undefined ? listOf(path.text) : isOld(set.version) ? OLD_LISTS : [["value"]];
  if (lists === undefined || measures.length > 1 || (key.length === 0 && mayComeAgain(stream)))
    return undefined;
  const places = Object.values(envelope)
    .flatMap((place) => ("text" in place ? [place.text] : []))
    // an OData service's own: beside the entities
    .filter((place) => set === undefined || !place.startsWith("@odata."));
  // what is within the records is not in the outline's body
  const isWithin = (place: string) =>
    lists
      .map((list) => ["$", ...list].join("."))
      .some((list) => place === list || place.startsWith(`${list}[`));
  if (places.some((place) => compilePlainPath(place) === undefined || isWithin(place))) return undefined;
  const after = definition.pages?.after;
  const wanted = [
    ...identity,
    ...key,
    ...(cursor?.field === undefined ? [] : [cursor.field]),
    ...(after === undefined ? [] : [parsePath(after) ?? []]),
    ...reads.map((name) => [name]),
  ];
  if (!wanted.every(isPlainPath)) return undefined;
  // the records of lines are all that there is
  if (form !== "json" && lists[0]!.length > 0) return undefined;
  return {
    form,
    lists,
    rewritten: set && isOld(set.version) ? (bytes) => modernBytes(bytes, set.instants) : undefined,
    fields: distinct(wanted),
    identity: distinct(identity),
    // what has changed may be told in part
    required: set !== undefined && cursor?.kind === "delta" ? set.members : [],
    // what an entity says of itself is not passed over
    isRemoval: definition.gone === undefined ? undefined : isRemoval,
    hasRules: hasRules(stream),
    isUnlike: set && ((body) => lateError(body) !== undefined || hasTwoLists(body)),
    isStrict: set !== undefined,
  };
}

/** Whether an OData body has entities as 4.0 gives them beside those of 2.0. */
function hasTwoLists(body: unknown): boolean {
  return isPlainObject(body) && Array.isArray(body.value) && body.d !== undefined;
}

/** Whether each record of a page is compared with those of the pages before. */
function mayComeAgain({ definition: { pages } }: CompiledStream): boolean {
  return pages?.after_last_page === "repeats";
}

/** The keys that lead to the list; undefined where its path is another one. */
function listOf(path: string): string[][] | undefined {
  const list = /^\$((?:\.[A-Za-z_]\w*)*)\[\*\]$/.exec(path)?.[1];
  return list === undefined ? undefined : [list.split(".").slice(1)];
}

/** Whether a path leads through objects alone. */
function isPlainPath(parts: readonly string[]): boolean {
  const isPlain = (step: string) => keyOfStep(step) === step && !isManyStep(step) && step !== "__proto__";
  return parts.length > 0 && parts.every(isPlain);
}

function distinct(paths: readonly (readonly string[])[]): (readonly string[])[] {
  return [...new Map(paths.map((parts) => [formatPath(parts), parts])).values()];
}

function formOf(decoder: Decoder): OutlinePlan["form"] | undefined {
  switch (decoder.kind) {
    case "json":
      return decoder.headerRow !== true && decoder.names === undefined ? "json" : undefined;
    case "json_lines":
      return "json_lines";
    case "csv":
      return CsvLines.of(decoder.csv);
    case "xml":
      return undefined;
  }
}

function hasRules({ where, compute }: CompiledStream): boolean {
  return where !== undefined || compute.length > 0;
}

function needsRecords(stream: CompiledStream): boolean {
  const { expand, report, set } = stream;
  if (expand !== undefined || report !== undefined) return true;
  return set !== undefined && set.streams.length > 0;
}
