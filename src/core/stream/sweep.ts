/** The whole listing of a stream's keys, as a stream of its own. */

import type { StreamDefinition } from "../define/connector-schema.js";
import type { SweepDefinition } from "../define/parts-schema.js";

/** The stream's definition as a sweep asks: for all that there is, and for nothing but the records. */
export function sweepDefinition(definition: StreamDefinition, sweep: SweepDefinition): StreamDefinition {
  const { get, post, query, body, reach, records = definition.records, pages = definition.pages } = sweep;
  const isOwn = get === undefined && post === undefined;
  const request = isOwn ? { query: { ...definition.query, ...query } } : { get, post, query, body };
  return {
    ...definition,
    ...request,
    records,
    pages,
    cursor:
      reach === undefined || definition.cursor === undefined
        ? undefined
        : cursorFrom(definition.cursor, reach),
    sweep: undefined,
    expand: undefined,
    where: undefined,
    gone: undefined,
    compute: {},
  };
}

/** The listing begins there: what is known of the stream does not count. */
function cursorFrom(cursor: NonNullable<StreamDefinition["cursor"]>, reach: string) {
  return { ...cursor, start: `-${reach}`, order: "any" } as const;
}
