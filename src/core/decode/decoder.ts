/**
 * Decoders: a body's bytes into trees of JSON values, whatever it is written in; one file for each form.
 *
 *   bytes ─▶ unpack (gzip, zip) ─▶ JSON · JSON Lines · CSV · XML ─▶ trees; records and tokens are found by JSONPath
 */

import type { Where } from "../errors.js";

/** How a body is read; made once for each stream. */
export interface BodyDecoder<Kind extends string> {
  readonly kind: Kind;
  /** a long body in a file can be read some records at a time */
  readonly inPieces: boolean;
  /**
   * The trees of a body: one, or one for each entry of a zip file.
   * @throws BridgeError BODY_HTML, BODY_TRUNCATED, BODY_NOT_JSON, BODY_UNREADABLE, BODY_TOO_LARGE
   */
  decode(bytes: Uint8Array, where: Where): unknown[];
}
