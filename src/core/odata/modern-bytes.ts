/** A response of 2.0 or 3.0 that is still bytes, with its times and expanded collections as those of 4.0 are. */

import { plainText } from "../express/sketch.js";
import { behindColon, blanks, isName, skipValue } from "../express/skip.js";
import { modernTime } from "./payload.js";

/** Where the entities are in a body (OData 2.0 JSON, sections 4 and 10; 3.0): `d.results`, `d`, `value`. */
export const OLD_LISTS: readonly (readonly string[])[] = [["d", "results"], ["d"], ["value"]];

const encoder = new TextEncoder();
/** behind a slash */
const DATE = encoder.encode("Date(");
const RESULTS = encoder.encode("results");
const [D, QUOTE, SLASH, BACKSLASH, CLOSING, COLON] = [68, 34, 47, 92, 41, 58];
const [LIST, OBJECT, OBJECT_END] = [91, 123, 125];

/** Longer texts are beyond every calendar. */
const LONGEST = 40;

/** What stands in a place, and what takes it. */
interface Place {
  readonly from: number;
  readonly end: number;
  readonly text: string;
}

/**
 * The body with each `"/Date(ms)/"` and each `{"results":[…]}` of an entity as `modernBody` would have it. undefined:
 * it is in doubt what a time is of, in a list or behind a name with escapes, or more comes beside a collection's list.
 */
export function modernBytes(bytes: Uint8Array, instants: ReadonlySet<string>): Uint8Array | undefined {
  const times = timesIn(bytes, instants);
  const collections = times && collectionsIn(bytes);
  if (collections === undefined) return undefined;
  const places = [...times!, ...collections].sort((a, b) => a.from - b.from);
  return places.length === 0 ? bytes : withPlaces(bytes, places);
}

function timesIn(bytes: Uint8Array, instants: ReadonlySet<string>): Place[] | undefined {
  const places: Place[] = [];
  for (let at = bytes.indexOf(D); at >= 0; at = bytes.indexOf(D, at + 1)) {
    const value = timeAt(bytes, at);
    if (value === undefined) continue;
    const name = nameBefore(bytes, value.from);
    if (name === undefined) return undefined;
    const text = modernTime(value.text, instants.has(name.text));
    if (text !== value.text) places.push({ ...value, text: `"${text}"` });
  }
  return places;
}

/** What stands around the lists of expanded collections (OData 2.0 JSON, section 4: inline feeds). */
function collectionsIn(bytes: Uint8Array): Place[] | undefined {
  const places: Place[] = [];
  const body = blanks(bytes, 0);
  for (let at = bytes.indexOf(OBJECT); at >= 0; at = bytes.indexOf(OBJECT, at + 1)) {
    const from = listIn(bytes, at);
    if (from === undefined) continue;
    const name = nameBefore(bytes, at);
    if (name === undefined) return undefined;
    // the page's own
    if (name.text === "d" && beforeBlanks(bytes, name.from - 1) === body) continue;
    const end = skipValue(bytes, from);
    const closing = end < 0 ? -1 : blanks(bytes, end);
    if (bytes[closing] !== OBJECT_END) return undefined;
    places.push({ from: at, end: from, text: "" }, { from: end, end: closing + 1, text: "" });
  }
  return places;
}

/** Where the list begins in an object that begins with `"results":[`. */
function listIn(bytes: Uint8Array, object: number): number | undefined {
  const key = blanks(bytes, object + 1) + 1;
  if (bytes[key - 1] !== QUOTE || !isName(bytes, key, RESULTS)) return undefined;
  const list = behindColon(bytes, key + RESULTS.length + 1);
  return bytes[list] === LIST ? list : undefined;
}

/** The whole text, in its quotes, whose `D` stands at a place; its slashes may be escaped. */
function timeAt(bytes: Uint8Array, at: number): Place | undefined {
  if (bytes[at - 1] !== SLASH || !DATE.every((byte, i) => bytes[at + i] === byte)) return undefined;
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
function nameBefore(bytes: Uint8Array, value: number): { from: number; text: string } | undefined {
  const colon = beforeBlanks(bytes, value - 1);
  const end = beforeBlanks(bytes, colon - 1);
  if (bytes[colon] !== COLON || bytes[end] !== QUOTE) return undefined;
  const from = bytes.lastIndexOf(QUOTE, end - 1);
  const text = from < 0 ? undefined : plainText(bytes, from + 1, end);
  return text === undefined ? undefined : { from, text };
}

function beforeBlanks(bytes: Uint8Array, from: number): number {
  let at = from;
  while (bytes[at]! <= 32) at--;
  return at;
}

function withPlaces(bytes: Uint8Array, places: readonly Place[]): Uint8Array {
  const grown = places.reduce((sum, { from, end, text }) => sum + text.length - (end - from), 0);
  const out = new Uint8Array(bytes.length + grown);
  let [read, write] = [0, 0];
  const take = (end: number) => {
    out.set(bytes.subarray(read, end), write);
    write += end - read;
  };
  for (const { from, end, text } of places) {
    take(from);
    for (let i = 0; i < text.length; i++) out[write++] = text.charCodeAt(i);
    read = end;
  }
  take(bytes.length);
  return out;
}
