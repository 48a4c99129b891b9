/** Parts by ranges of a set's key: their bounds are asked for once, and then kept in the names of the parts. */

import pLimit, { type LimitFunction } from "p-limit";
import { compilePages, wholeNumber } from "../../core/ask/page-rule.js";
import { type Part, partOf, rangeNames, WHOLE_STREAM } from "../../core/ask/parts.js";
import { BridgeError } from "../../core/errors.js";
import type { TemplateValues } from "../../core/language/template.js";
import { type KeyPart, keyValues } from "../../core/odata/entity-key.js";
import type { CompiledRequest } from "../../core/stream/compile-stream.js";
import type { Asker } from "./asker.js";

/**
 * Parts that hold about as many entities each; those that an earlier run has made, where they are as many. Whatever the
 * bounds are, every entity is in a range, if the service filters as it is asked to: that is tried.
 */
export async function keyRanges(
  asker: Asker,
  name: string,
  ranges: number,
  values: TemplateValues,
  known: Iterable<string>,
): Promise<Part[]> {
  const kept = boundsIn(known, name);
  if (kept.length === ranges - 1) return partsBetween(name, kept);
  const { set } = asker.stream;
  const [first] = set?.key ?? [];
  if (first === undefined)
    throw new BridgeError("PART_INVALID", "Ranges are of a set's key, and this one has none.", {
      where: asker.where(),
      hint: `Leave each.${name}.ranges out.`,
    });
  const probe = new RangeProbe(asker, first, values);
  const total = await probe.count();
  if (total === undefined) {
    asker.notice("The service does not count its entities: the set is read in one, not in ranges.");
    return [WHOLE_STREAM];
  }
  const parts = partsBetween(name, await probe.bounds(ranges, total));
  if (parts.length === 1) return [WHOLE_STREAM];
  const counts = await Promise.all(parts.map((part) => probe.count(part)));
  const sum = counts.reduce<number>((all, each) => all + (each ?? 0), 0);
  // entities may have come or gone meanwhile
  if (sum >= Math.min(total, (await probe.count()) ?? total)) return parts;
  asker.notice(
    `The service does not filter by ${first.name} as it was asked to: the ranges hold ${sum} of ${total} entities. The set is read in one.`,
  );
  return [WHOLE_STREAM];
}

/** The upper bounds in the names of parts. */
function boundsIn(known: Iterable<string>, name: string): string[] {
  const { to } = rangeNames(name);
  const bounds = new Set<string>();
  for (const key of known)
    for (const pair of key.split("&"))
      if (pair.startsWith(`${to}=`)) bounds.add(decodeURIComponent(pair.slice(to.length + 1)));
  return [...bounds];
}

function partsBetween(name: string, bounds: readonly string[]): Part[] {
  const { from, to } = rangeNames(name);
  return [...bounds, undefined].map((upper, i) =>
    partOf({
      ...(i === 0 ? {} : { [from]: bounds[i - 1]! }),
      ...(upper === undefined ? {} : { [to]: upper }),
    }),
  );
}

/** Single entities far down in a set's list, and how many there are. */
class RangeProbe {
  private readonly atOnce: LimitFunction;

  constructor(
    private readonly asker: Asker,
    private readonly key: KeyPart,
    private readonly values: TemplateValues,
  ) {
    this.atOnce = pLimit(asker.shared.connector.api.rate_limit.concurrency);
  }

  /** All that the stream asks for, or those of a part. */
  async count(part: Part = WHOLE_STREAM): Promise<number | undefined> {
    return wholeNumber((await this.ask(0, part)).envelope.total);
  }

  /** The keys at which ranges begin. */
  async bounds(ranges: number, total: number): Promise<string[]> {
    const places = Array.from({ length: ranges - 1 }, (_, i) => Math.floor(((i + 1) * total) / ranges));
    const found = await Promise.all(
      places.map(async (place) => {
        const [entity] = (await this.ask(place)).records;
        return entity === undefined ? [] : keyValues(entity, [this.key], this.asker.where());
      }),
    );
    return [...new Set(found.flat())];
  }

  private ask(skip: number, part: Part = WHOLE_STREAM) {
    const { asker, key } = this;
    const { request } = asker.stream;
    const { $expand, ...query } = request.template.query;
    const options = { $select: key.name, $orderby: key.name, $top: 1, $skip: skip };
    const of: CompiledRequest = {
      ...request,
      template: { ...request.template, query: { ...query, ...options } },
      pages: compilePages(undefined),
    };
    const values = { ...this.values, ...part.values };
    return this.atOnce(() => asker.page(of, { at: "start" }, values, {}, asker.where(part), undefined));
  }
}
