/** Which streams can be read without making objects of their records, and what of each record asking needs to know. */

import type { OutlinePlan } from "../express/outline.js";
import { compilePlainPath } from "../language/plain-path.js";
import { parsePath } from "../shape/naming.js";
import type { CompiledStream } from "./compile-stream.js";

/** undefined where a rule, a function or another form of response has to see whole records. */
export function outlinePlan(stream: CompiledStream): OutlinePlan | undefined {
  const { definition, request, key, identity = key, cursor, measures, reads, isRemoval } = stream;
  const { decoder, records, envelope } = request.plan;
  const [path] = records;
  const isPlainJson = decoder.kind === "json" && decoder.headerRow !== true && decoder.names === undefined;
  if (!isPlainJson || path === undefined || records.length > 1 || reads === undefined || needsRecords(stream))
    return undefined;
  const list = /^\$((?:\.[A-Za-z_]\w*)*)\[\*\]$/.exec(path.text)?.[1];
  if (list === undefined || key.length === 0 || measures.length > 1) return undefined;
  const places = Object.values(envelope).flatMap((place) => ("text" in place ? [place.text] : []));
  // what is within the records is not in the outline's body
  if (places.some((place) => compilePlainPath(place) === undefined || place.startsWith(`$${list}[`)))
    return undefined;
  if (places.includes(`$${list}`)) return undefined;
  const after = definition.pages?.after;
  const wanted = [
    ...identity,
    ...key,
    ...(cursor?.field === undefined ? [] : [cursor.field]),
    ...(after === undefined ? [] : [parsePath(after) ?? []]),
    ...reads.map((name) => [name]),
  ];
  if (wanted.some((parts) => parts.length !== 1 || parts[0] === "__proto__")) return undefined;
  const names = (paths: readonly (readonly string[])[]) => [...new Set(paths.map(([name]) => name!))];
  return {
    list: list.split(".").slice(1),
    fields: names(wanted),
    identity: names(identity),
    isRemoval,
    hasRules: stream.where !== undefined || stream.compute.length > 0,
  };
}

function needsRecords({ expand, faultOf, isControl, report, set }: CompiledStream): boolean {
  return [expand, faultOf, isControl, report, set].some((rule) => rule !== undefined);
}
