/**
 * Pages by the key: each begins after the key of the last entity before it. No entity moves to another page while they
 * are read, and none has a key without a value.
 */

import { compilePages, type PageRule } from "../ask/page-rule.js";
import type { PageRead } from "../ask/read-page.js";
import type { PagesDefinition } from "../define/ask-schema.js";
import { BridgeError, type Where } from "../errors.js";
import { type KeyPart, keyValues } from "../odata/entity-key.js";
import { afterKey } from "../odata/filter.js";
import type { ODataVersion } from "../odata/model.js";

/** Types whose order is the same everywhere; how texts and ids are sorted is for the service to say. */
const ORDERED = /^Edm\.(Byte|SByte|Int16|Int32|Int64|Date|DateTime|DateTimeOffset)$/;

/** The page rule of a set with `pages: { keyset: true }`. */
export function keysetPages(
  definition: PagesDefinition,
  key: readonly KeyPart[],
  version: ODataVersion,
): PageRule {
  const sizeQuery = definition.size?.query ?? "$top";
  return {
    ...compilePages(definition),
    envelope: {},
    countsRest: true,
    parameters: (position) => ({
      ...(position.size === undefined ? {} : { [sizeQuery]: position.size }),
      ...(position.at === "after"
        ? { $filter: afterKey(key, JSON.parse(position.after) as string[], version) }
        : {}),
    }),
    next(position, page, _progress, where = {}) {
      const size = position.size === undefined ? {} : { size: position.size };
      const isShort = definition.end === "short" && page.received < (position.size ?? 0);
      if (page.received === 0 || isShort) return { at: "end" };
      checkOrder(page, key, where);
      const after = keyValues(page.records.at(-1), key, where);
      return { at: "after", after: JSON.stringify(after), ...size };
    },
    ahead: () => [],
  };
}

/** A service that sorts otherwise than it was asked to would have entities passed over. */
function checkOrder({ records }: PageRead, [first, ...others]: readonly KeyPart[], where: Where): void {
  if (first === undefined || !ORDERED.test(first.type)) return;
  const isNumber = first.type.includes("yte") || first.type.includes("Int");
  const keyNumber = (record: unknown) => {
    const [text = ""] = keyValues(record, [first], where);
    return isNumber ? BigInt(/^-?\d+$/.test(text) ? text : 0) : text;
  };
  for (let i = 1; i < records.length; i++) {
    const [before, after] = [keyNumber(records[i - 1]), keyNumber(records[i])];
    if (before < after || (before === after && others.length > 0)) continue;
    throw new BridgeError(
      "RESPONSE_UNLIKE",
      `The service does not sort by ${first.name} as it was asked to: ${before} comes before ${after}.`,
      { where, hint: "Leave pages.keyset out: the set is then read by the service's own next links." },
    );
  }
}
