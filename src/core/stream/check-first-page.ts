/** What is wrong with every record of a stream's first page is a mistake in the connector, not in the data. */

import type { ShapedSlice } from "../ask/read-page.js";
import { aTypeName, BridgeError } from "../errors.js";
import { isPlainObject } from "../shape/exact-json.js";
import type { Issue } from "../shape/shaped.js";
import type { CursorSpan } from "../track/cursor.js";
import type { CursorField } from "../track/cursor-field.js";
import { compareCursors, KIND_WORDS, valueOfKind } from "../track/cursor-value.js";
import type { CompiledStream } from "./compile-stream.js";

/** What a page says of its records. */
interface FirstRecords {
  readonly number: number;
  /** records of the response, before any was left out */
  readonly received: number;
  readonly span: CursorSpan | undefined;
}

/**
 * Looks at the first records of the page. `proven`: the stream has been loaded before, so that a single record
 * says more of the data than of the connector.
 * @throws BridgeError WHERE_FAILED, RECORDS_NOT_FOUND, KEY_NOT_FOUND, RECORDS_NOT_FIT, CURSOR_NOT_FOUND
 */
export function checkFirstPage(
  stream: CompiledStream,
  page: FirstRecords,
  { records, issues }: Pick<ShapedSlice, "records" | "issues">,
  field: CursorField | undefined,
  proven: boolean,
): void {
  if (proven && page.received === 1) return;
  const count = records.length;
  const { span } = page;
  const where = { stream: stream.name, page: page.number };
  const issuesOf = (...reasons: readonly Issue["reason"][]) =>
    issues.filter(({ reason }) => reasons.includes(reason));
  const unjudged = issuesOf("not_judged");
  if (unjudged.length > 0 && unjudged.length === page.received) {
    const message = `No record of the first page can be judged by ${unjudged[0]!.message}.`;
    throw new BridgeError("WHERE_FAILED", message, { where });
  }
  const uncomputed = issuesOf("not_computed");
  if (uncomputed.length > 1 && uncomputed.length === page.received) {
    const message = `No record of the first page can be stored: ${uncomputed[0]!.message}.`;
    throw new BridgeError("RECORDS_NOT_FIT", message, { where, hint: "Correct compute of the stream." });
  }
  if (count === 0) return;
  if (issuesOf("not_an_object").length === count) {
    const message = `No record of the first page is an object: the first is ${aTypeName(records[0])}.`;
    throw new BridgeError("RECORDS_NOT_FOUND", message, { where });
  }
  const fields = fieldsOf(records);
  if (issuesOf("key_missing", "not_an_object").length === count) {
    const key = stream.key.map((parts) => parts.join(".")).join(", ");
    const message = `No record of the first page has the key ${key}. Its fields: ${fields}.`;
    throw new BridgeError("KEY_NOT_FOUND", message, { where, hint: innerList(stream, records) });
  }
  // what rules sent to quarantine is none of these records
  const unshaped = issuesOf("not_an_object", "key_missing", "type_mismatch", "too_deep", "not_held");
  if (unshaped.length === count && count > 1) {
    const message = `No record of the first page can be stored: ${unshaped[0]!.message}.`;
    throw new BridgeError("RECORDS_NOT_FIT", message, { where });
  }
  if (span !== undefined && span.missing === span.records) {
    const name = stream.cursor?.field?.join(".");
    if (span.strange > 0 && field?.kind !== undefined) {
      const message = `The cursor's values were ${KIND_WORDS[field.kind]}; now cursor.field ${name} holds ${span.stranger}.`;
      throw new BridgeError("CURSOR_UNFIT", message, { where });
    }
    const message = `No record of the first page has a text or a number at cursor.field ${name}. Its fields: ${fields}.`;
    throw new BridgeError("CURSOR_NOT_FOUND", message, { where });
  }
}

function fieldsOf(records: readonly unknown[]): string {
  const first = records.find(isPlainObject);
  return first === undefined ? "none" : Object.keys(first).slice(0, 12).join(", ");
}

/** One record that holds the records: the path stops a step short. */
function innerList(
  { definition }: CompiledStream,
  [only, ...others]: readonly unknown[],
): string | undefined {
  const path = definition.records;
  if (others.length > 0 || !isPlainObject(only) || typeof path !== "string") return undefined;
  const list = Object.entries(only).find(([, value]) => Array.isArray(value) && isPlainObject(value[0]));
  return list && `Perhaps records: ${path}.${list[0]}[*] is meant.`;
}

/** Some APIs cut what they are asked for to the day. */
const COARSEST_MICROS = 86_400 * 1e6;

/** What to tell where the API seems not to heed the filter for changes: it would give everything, every time. */
export function unheededFilter(
  { cursor, oldLeftOut }: CompiledStream,
  { max }: CursorSpan,
  since: string | undefined,
): string | undefined {
  if (cursor?.kind !== "field" || oldLeftOut || since === undefined || max === undefined) return undefined;
  const asked = valueOfKind(since, max.kind);
  // a time that was asked for says nothing of texts
  if (asked === undefined) return undefined;
  const least = asked.kind === "instant" ? { ...asked, micros: asked.micros - COARSEST_MICROS } : asked;
  if (compareCursors(max, least) >= 0) return undefined;
  const parameter = cursor.query === undefined ? "{since}" : `its parameter ${cursor.query}`;
  return `All records of the first page are older than ${since}, after which was asked: the API seems not to heed ${parameter}.`;
}
