/** Responses to delta links: entities that are told in part are asked for, whole. */

import pLimit from "p-limit";
import { compilePages } from "../../core/ask/page-rule.js";
import type { Part } from "../../core/ask/parts.js";
import { type PageRead, withRecords } from "../../core/ask/read-page.js";
import { BridgeError, isBridgeError } from "../../core/errors.js";
import { type Change, changeOf } from "../../core/odata/changes.js";
import { keyPredicate, keyValues } from "../../core/odata/entity-key.js";
import type { CompiledRequest, CompiledSet } from "../../core/stream/compile-stream.js";
import type { Asker } from "./asker.js";

/**
 * The page with every changed entity whole, in its place.
 * @throws BridgeError CHANGES_UNCLEAR where a change belongs to entities that are not named
 */
export async function wholeChanges(
  asker: Asker,
  set: CompiledSet,
  page: PageRead,
  part: Part,
): Promise<PageRead> {
  const changes = page.records.map((record) => changeOf(record, set));
  if (changes.every(({ is }) => is === "whole" || is === "gone")) return page;
  const other = changes.find((change) => change.is === "of another set");
  if (other !== undefined && set.expanded.length > 0) throw changesUnclear(other, set, asker, part);
  const atOnce = pLimit(asker.shared.connector.api.rate_limit.concurrency);
  const records = await Promise.all(
    changes.map(async (change, i) => {
      if (change.is === "again") return [await atOnce(() => entityOf(asker, set, change.key, part))];
      return change.is === "whole" || change.is === "gone" ? [page.records[i]] : [];
    }),
  );
  return withRecords(page, records.flat());
}

/** One entity as it is now; what is there no longer is told as gone. */
async function entityOf(
  asker: Asker,
  set: CompiledSet,
  of: Readonly<Record<string, unknown>>,
  part: Part,
): Promise<unknown> {
  const { request } = asker.stream;
  const where = asker.where(part);
  const key = keyValues(of, set.key, where);
  const one: CompiledRequest = {
    ...request,
    template: {
      ...request.template,
      get: `/${set.name}${keyPredicate(set.key, key, set.version)}`,
      query: set.query,
    },
    pages: compilePages(undefined),
    joinParameters: undefined,
  };
  try {
    const { records } = await asker.page(one, { at: "start" }, asker.baseValues(), {}, where, undefined);
    return records[0];
  } catch (error) {
    if (!isBridgeError(error, "NOT_FOUND")) throw error;
    const values = Object.fromEntries(set.key.map(({ name }, i) => [name, key[i]]));
    return { ...values, "@removed": { reason: "deleted" } };
  }
}

function changesUnclear(
  { set: other }: Extract<Change, { is: "of another set" }>,
  { name }: CompiledSet,
  asker: Asker,
  part: Part,
): BridgeError {
  const message = `The service tells that an entity of ${other} has changed, and not which ones of ${name} hold it.`;
  return new BridgeError("CHANGES_UNCLEAR", message, { where: asker.where(part) });
}
