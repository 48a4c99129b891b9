/** What is wrong with every record of a stream's first page is a mistake in the connector, not in the data. */

import type { CompiledStream } from "../core/define/compile-stream.js";
import { BridgeError } from "../core/errors.js";
import type { Issue } from "../core/shape/shape.js";
import { type CursorSpan, compareCursors, parseCursor } from "../core/track/cursor.js";
import type { Page } from "./ask/stream-ask.js";

/** @throws BridgeError WHERE_NOT_JUDGED, KEY_NOT_FOUND, CURSOR_NOT_FOUND */
export function checkFirstPage(
  stream: CompiledStream,
  page: Page,
  issues: readonly Issue[],
  span: CursorSpan | undefined,
): void {
  const count = page.records.length;
  const where = { stream: stream.name, page: page.number };
  const unjudged = issues.filter(({ reason }) => reason === "not_judged");
  if (unjudged.length > 0 && unjudged.length === page.received) {
    throw new BridgeError(
      "WHERE_NOT_JUDGED",
      `No record of the first page can be judged by ${unjudged[0]!.message}.`,
      {
        where,
      },
    );
  }
  if (count === 0) return;
  const first = page.records.find((record) => typeof record === "object" && record !== null);
  const fields = first === undefined ? "none" : Object.keys(first).slice(0, 12).join(", ");
  if (issues.length === count && stream.key.length > 0) {
    const key = stream.key.map((parts) => parts.join(".")).join(", ");
    const message = `No record of the first page can be stored; is the key ${key} in it? Its fields: ${fields}.`;
    throw new BridgeError("KEY_NOT_FOUND", message, { where });
  }
  if (span !== undefined && span.missing === span.records) {
    const field = stream.cursor?.field?.join(".");
    const message = `No record of the first page has a text or whole number at cursor.field ${field}. Its fields: ${fields}.`;
    throw new BridgeError("CURSOR_NOT_FOUND", message, { where });
  }
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
  const asked = parseCursor(since);
  const least = asked.kind === "instant" ? { ...asked, micros: asked.micros - COARSEST_MICROS } : asked;
  if (compareCursors(max, least) >= 0) return undefined;
  const parameter = cursor.query === undefined ? "{since}" : `its parameter ${cursor.query}`;
  return `All records of the first page are older than ${since}, after which was asked: the API seems not to heed ${parameter}.`;
}
