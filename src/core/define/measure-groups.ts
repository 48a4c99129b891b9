/** Figures by dimensions: more measures than a request takes are asked for in turn. Pure. */

import { BridgeError, type Where } from "../errors.js";

export interface Names {
  readonly names: readonly string[];
  readonly max_per_request?: number | undefined;
}

/**
 * The measures of each request. More dimensions than the API takes cannot be split: that is said before anything
 * is sent.
 * @throws BridgeError CONFIG_INVALID
 */
export function measureGroups(
  dimensions: Names | undefined,
  measures: Names | undefined,
  where: Where,
): readonly (readonly string[])[] {
  const most = dimensions?.max_per_request ?? Number.POSITIVE_INFINITY;
  if (dimensions !== undefined && dimensions.names.length > most) {
    const message = `${dimensions.names.length} dimensions are asked for, and the API takes ${most}.`;
    throw new BridgeError("CONFIG_INVALID", message, {
      where,
      hint: "Ask for fewer dimensions, or make several streams: figures by other dimensions are other figures.",
    });
  }
  if (measures === undefined) return [[]];
  const size = measures.max_per_request ?? measures.names.length;
  const groups: (readonly string[])[] = [];
  for (let at = 0; at < measures.names.length; at += size) groups.push(measures.names.slice(at, at + size));
  if (groups.length > 1 && dimensions === undefined) {
    const message = `${measures.names.length} measures take ${groups.length} requests, and no dimensions join them.`;
    throw new BridgeError("CONFIG_INVALID", message, { where, hint: "Name the stream's dimensions." });
  }
  return groups;
}
