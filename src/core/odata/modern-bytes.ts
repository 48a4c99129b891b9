/** A response of 2.0 or 3.0 that is still bytes, with its times as those of 4.0 are. */

import { plainText } from "../express/sketch.js";
import { modernTime } from "./payload.js";

/** Where the entities are in a body (OData 2.0 JSON, sections 4 and 10; 3.0): `d.results`, `d`, `value`. */
export const OLD_LISTS: readonly (readonly string[])[] = [["d", "results"], ["d"], ["value"]];

/** `Date(`, behind a slash. */
const WORD = [68, 97, 116, 101, 40];
const [D] = WORD as [number];
const [QUOTE, SLASH, BACKSLASH, CLOSING, COLON] = [34, 47, 92, 41, 58];

/** Longer texts are beyond every calendar. */
const LONGEST = 40;

/** A text that a time takes the place of. */
interface Place {
  readonly from: number;
  readonly end: number;
  readonly text: string;
}

/**
 * The body with each `"/Date(ms)/"` as `modernBody` would have it. undefined: a time stands where it is in doubt what
 * it is of, in a list or behind a name with escapes.
 */
export function modernBytes(bytes: Uint8Array, instants: ReadonlySet<string>): Uint8Array | undefined {
  const places: Place[] = [];
  for (let at = bytes.indexOf(D); at >= 0; at = bytes.indexOf(D, at + 1)) {
    const value = timeAt(bytes, at);
    if (value === undefined) continue;
    const name = nameBefore(bytes, value.from);
    if (name === undefined) return undefined;
    const text = modernTime(value.text, instants.has(name));
    if (text !== value.text) places.push({ ...value, text });
  }
  return places.length === 0 ? bytes : withPlaces(bytes, places);
}

/** The whole text, in its quotes, whose `D` stands at a place; its slashes may be escaped. */
function timeAt(bytes: Uint8Array, at: number): Place | undefined {
  if (bytes[at - 1] !== SLASH || WORD.some((byte, i) => bytes[at + i] !== byte)) return undefined;
  const from = bytes[at - 2] === BACKSLASH ? at - 3 : at - 2;
  // an escaped quote is one within another text
  if (bytes[from] !== QUOTE || bytes[from - 1] === BACKSLASH) return undefined;
  const closing = bytes.subarray(0, at + LONGEST).indexOf(CLOSING, at);
  if (closing < 0) return undefined;
  const slash = bytes[closing + 1] === BACKSLASH ? closing + 2 : closing + 1;
  if (bytes[slash] !== SLASH || bytes[slash + 1] !== QUOTE) return undefined;
  const inner = plainText(bytes, at, closing + 1);
  return inner === undefined ? undefined : { from, end: slash + 2, text: `/${inner}/` };
}

/** The name whose value begins at a place; undefined where it is no value of an object, or the name has escapes. */
function nameBefore(bytes: Uint8Array, value: number): string | undefined {
  const colon = beforeBlanks(bytes, value - 1);
  const end = beforeBlanks(bytes, colon - 1);
  if (bytes[colon] !== COLON || bytes[end] !== QUOTE) return undefined;
  const begin = bytes.lastIndexOf(QUOTE, end - 1);
  return begin < 0 ? undefined : plainText(bytes, begin + 1, end);
}

function beforeBlanks(bytes: Uint8Array, from: number): number {
  let at = from;
  while (bytes[at]! <= 32) at--;
  return at;
}

function withPlaces(bytes: Uint8Array, places: readonly Place[]): Uint8Array {
  const grown = places.reduce((sum, { from, end, text }) => sum + text.length + 2 - (end - from), 0);
  const out = new Uint8Array(bytes.length + grown);
  let [read, write] = [0, 0];
  const take = (end: number) => {
    out.set(bytes.subarray(read, end), write);
    write += end - read;
  };
  for (const { from, end, text } of places) {
    take(from + 1);
    for (let i = 0; i < text.length; i++) out[write++] = text.charCodeAt(i);
    out[write++] = QUOTE;
    read = end;
  }
  take(bytes.length);
  return out;
}
