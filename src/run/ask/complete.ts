/** Expanded collections that a response cuts: the rest of each is asked for, page by page. */

import pLimit from "p-limit";
import type { Part } from "../../core/ask/parts.js";
import { type PageRead, withRecords } from "../../core/ask/read-page.js";
import { BridgeError } from "../../core/errors.js";
import { cutCollection } from "../../core/odata/payload.js";
import { isPlainObject } from "../../core/shape/exact-json.js";
import type { Asker } from "./asker.js";

/** One collection is not asked for further than this. */
const MOST_PAGES = 10_000;

/** The page with every expanded collection whole. */
export async function completePage(asker: Asker, page: PageRead, part: Part): Promise<PageRead> {
  // an entity that says that it is cut stands in no page of bytes
  if (page.source !== undefined || !page.records.some(isCut)) return page;
  const atOnce = pLimit(asker.shared.connector.api.rate_limit.concurrency);
  const records = await Promise.all(
    page.records.map((record) => (isCut(record) ? atOnce(() => complete(asker, record, part)) : record)),
  );
  return withRecords(page, records);
}

function isCut(value: unknown): boolean {
  if (Array.isArray(value)) return value.some(isCut);
  if (!isPlainObject(value)) return false;
  return Object.entries(value).some(
    ([name, inner]) =>
      cutCollection(name, inner) !== undefined || (typeof inner === "object" && isCut(inner)),
  );
}

async function complete(asker: Asker, value: unknown, part: Part): Promise<unknown> {
  if (Array.isArray(value)) {
    const whole: unknown[] = [];
    for (const each of value) whole.push(await complete(asker, each, part));
    return whole;
  }
  if (!isPlainObject(value)) return value;
  const whole: Record<string, unknown> = {};
  for (const [name, inner] of Object.entries(value)) whole[name] = await complete(asker, inner, part);
  for (const [name, inner] of Object.entries(value)) {
    const cut = cutCollection(name, inner);
    if (cut === undefined) continue;
    const begun = whole[cut.collection];
    const rest = await restOf(asker, cut.link, part);
    whole[cut.collection] = [...(Array.isArray(begun) ? (begun as unknown[]) : []), ...rest];
    delete whole[name];
  }
  return whole;
}

async function restOf(asker: Asker, first: string, part: Part): Promise<unknown[]> {
  const { request } = asker.stream;
  const where = asker.where(part);
  const entities: unknown[] = [];
  const seen = new Set<string>();
  for (let link: unknown = first; typeof link === "string"; ) {
    if (seen.has(link) || seen.size >= MOST_PAGES)
      throw new BridgeError("PAGE_REPEATED", "The rest of an expanded collection leads in a circle.", {
        where,
      });
    seen.add(link);
    const page = await asker.page(request, { at: "link", link }, {}, {}, where, undefined);
    for (const entity of page.records) entities.push(await complete(asker, entity, part));
    link = page.envelope.link;
  }
  return entities;
}
