/** What is wrong with every record of a stream's first page is a mistake in the connector, not in the data. */

import type { CompiledStream } from "../core/define/compile-stream.js";
import { BridgeError } from "../core/errors.js";
import type { CursorSpan } from "../core/track/cursor.js";
import type { Page } from "./ask/stream-ask.js";

/** @throws BridgeError KEY_NOT_FOUND, CURSOR_NOT_FOUND */
export function checkFirstPage(
  stream: CompiledStream,
  page: Page,
  issues: number,
  span: CursorSpan | undefined,
): void {
  const count = page.records.length;
  const where = { stream: stream.name, page: page.number };
  const first = page.records.find((record) => typeof record === "object" && record !== null);
  const fields = first === undefined ? "none" : Object.keys(first).slice(0, 12).join(", ");
  if (issues === count && stream.key.length > 0) {
    const key = stream.key.map((parts) => parts.join(".")).join(", ");
    const message = `No record of the first page can be stored; is the key ${key} in it? Its fields: ${fields}.`;
    throw new BridgeError("KEY_NOT_FOUND", message, { where });
  }
  if (span !== undefined && span.records === count && span.missing === count) {
    const field = stream.cursor?.field?.join(".");
    const message = `No record of the first page has a text or whole number at cursor.field ${field}. Its fields: ${fields}.`;
    throw new BridgeError("CURSOR_NOT_FOUND", message, { where });
  }
}
