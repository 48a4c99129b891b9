/** Record expansion: more of each record, by a request of its own. */

import pLimit from "p-limit";
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

/** The page with every record expanded; as many requests at once as the pace permits. */
export async function expandPage(
  asker: Asker,
  expand: ExpandDefinition,
  of: CompiledRequest,
  page: PageRead,
  part: Part,
  values: TemplateValues,
): Promise<PageRead> {
  const { connector } = asker.shared;
  const expanded = async (record: unknown): Promise<unknown> => {
    if (isPlainObject(record) && asker.stream.isRemoval?.(record) === true) return record;
    const own = fieldValues(expand, record);
    const link = expand.link === undefined ? undefined : getByPath(record, fieldParts(expand.link));
    if (own === undefined || (expand.link !== undefined && typeof link !== "string")) return record;
    try {
      const answer = await asker.page(
        of,
        typeof link === "string" ? { at: "link", link } : { at: "start" },
        { ...values, ...own },
        {},
        asker.where(part),
        undefined,
      );
      return merged(record as Record<string, unknown>, answer.records[0], expand.at);
    } catch (error) {
      if (!isBridgeError(error, "NOT_FOUND") && !isBridgeError(error, "RESPONSE_SKIPPED")) throw error;
      asker.notice(
        `What expand asks for is gone (${[...Object.values(own), link ?? []].flat().join(", ")}): the record is kept as the list gave it.`,
      );
      return record;
    }
  };
  const atOnce = pLimit(connector.api.rate_limit.concurrency);
  const records = await Promise.all(page.records.map((record) => atOnce(() => expanded(record))));
  return withRecords(page, records);
}

/** The request's values; undefined for what is no record, or lacks one of them. */
function fieldValues({ fields }: ExpandDefinition, record: unknown): Record<string, Scalar> | undefined {
  if (!isPlainObject(record)) return undefined;
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
