/** Record expansion: more of each record, by a request of its own; or of many in one, where the API takes such. */

import pLimit from "p-limit";
import type { PagePosition } from "../../core/ask/page-position.js";
import type { Part } from "../../core/ask/parts.js";
import { type PageRead, withRecords } from "../../core/ask/read-page.js";
import type { ExpandDefinition } from "../../core/define/parts-schema.js";
import { isBridgeError } from "../../core/errors.js";
import type { Scalar, TemplateValues } from "../../core/language/template.js";
import { isPlainObject } from "../../core/shape/exact-json.js";
import { fieldParts } from "../../core/shape/naming.js";
import { getByPath } from "../../core/shape/path-get.js";
import type { CompiledRequest } from "../../core/stream/compile-stream.js";
import type { Asker } from "./asker.js";
import { askInBatches } from "./batches.js";

/** What is asked for one record. */
interface Wanted {
  readonly position: PagePosition;
  readonly values: TemplateValues;
  /** names it in messages */
  readonly words: string;
}

/** What came for a record: its page, or that nothing is there. */
type Found = PageRead | "gone";

/** The page with every record expanded; as many requests at once as the pace permits. */
export async function expandPage(
  asker: Asker,
  expand: ExpandDefinition,
  of: CompiledRequest,
  page: PageRead,
  part: Part,
  values: TemplateValues,
): Promise<PageRead> {
  const wanted = page.records.map((record) => wantedFor(asker, expand, record, values));
  const inBatches =
    expand.batch === undefined ? [] : await askInBatches(asker, of, wanted, expand.batch, asker.where(part));
  const atOnce = pLimit(asker.shared.connector.api.rate_limit.concurrency);
  const records = await Promise.all(
    page.records.map(async (record, i) => {
      const want = wanted[i];
      if (want === undefined) return record;
      const found = inBatches[i] ?? (await atOnce(() => ask(asker, of, want, part)));
      if (found !== "gone") return merged(record as Record<string, unknown>, found.records[0], expand.at);
      asker.notice(`What expand asks for is gone (${want.words}): the record is kept as the list gave it.`);
      return record;
    }),
  );
  return withRecords(page, records);
}

async function ask(
  asker: Asker,
  of: CompiledRequest,
  { position, values }: Wanted,
  part: Part,
): Promise<Found> {
  try {
    return await asker.page(of, position, values, {}, asker.where(part), undefined);
  } catch (error) {
    if (isBridgeError(error, "NOT_FOUND") || isBridgeError(error, "RESPONSE_SKIPPED")) return "gone";
    throw error;
  }
}

/** Undefined for what is no record, is gone, or lacks a value of the request. */
function wantedFor(
  asker: Asker,
  expand: ExpandDefinition,
  record: unknown,
  values: TemplateValues,
): Wanted | undefined {
  if (!isPlainObject(record) || asker.stream.isRemoval?.(record) === true) return undefined;
  const own = fieldValues(expand, record);
  const link = expand.link === undefined ? undefined : getByPath(record, fieldParts(expand.link));
  if (own === undefined || (expand.link !== undefined && typeof link !== "string")) return undefined;
  return {
    position: typeof link === "string" ? { at: "link", link } : { at: "start" },
    values: { ...values, ...own },
    words: [...Object.values(own), link ?? []].flat().join(", "),
  };
}

/** The request's values; undefined for a record that lacks one of them. */
function fieldValues(
  { fields }: ExpandDefinition,
  record: Readonly<Record<string, unknown>>,
): Record<string, Scalar> | undefined {
  const values: Record<string, Scalar> = {};
  for (const [name, path] of Object.entries(fields)) {
    const value = getByPath(record, fieldParts(path));
    if (value === undefined || value === null || typeof value === "object") return undefined;
    values[name] = value as Scalar;
  }
  return values;
}

/** The record with what was fetched in it, as a new one. */
function merged(record: Record<string, unknown>, fetched: unknown, at: string | undefined): unknown {
  if (at === undefined) return isPlainObject(fetched) ? { ...record, ...fetched } : record;
  return withAt(record, fieldParts(at), fetched);
}

function withAt(
  record: Record<string, unknown>,
  [step, ...rest]: readonly string[],
  value: unknown,
): Record<string, unknown> {
  const inner = record[step!];
  return {
    ...record,
    [step!]: rest.length === 0 ? value : withAt(isPlainObject(inner) ? inner : {}, rest, value),
  };
}
