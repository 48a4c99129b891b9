/** A response of 2.0 or 3.0 that is still bytes, with its times and expanded collections as those of 4.0 are. */

import { plainText } from "../express/sketch.js";
import { behindColon, blanks, isDigit, isName, skipValue } from "../express/skip.js";
import { modernTime } from "./payload.js";

/** Where the entities are in a body (OData 2.0 JSON, sections 4 and 10; 3.0): `d.results`, `d`, `value`. */
export const OLD_LISTS: readonly (readonly string[])[] = [["d", "results"], ["d"], ["value"]];

const encoder = new TextEncoder();
/** behind a slash */
const DATE = encoder.encode("Date(");
const [RESULTS, COUNT, NEXT] = ["results", "__count", "__next"].map((name) => encoder.encode(name)) as [
  Uint8Array,
  Uint8Array,
  Uint8Array,
];
const [D, QUOTE, SLASH, BACKSLASH, CLOSING, COLON] = [68, 34, 47, 92, 41, 58];
const [LIST, OBJECT, OBJECT_END, COMMA, NULL] = [91, 123, 125, 44, 110];

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
 * it is in doubt what a time is of, in a list or behind a name with escapes, or a collection has more than is here.
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
    const closing = end < 0 ? -1 : behindMembers(bytes, end);
    if (bytes[closing] !== OBJECT_END) return undefined;
    places.push({ from: at, end: from, text: "" }, { from: end, end: closing + 1, text: "" });
  }
  return places;
}

/** Where the list begins in an object that has it under `results`, perhaps behind its count. */
function listIn(bytes: Uint8Array, object: number): number | undefined {
  let key = blanks(bytes, object + 1);
  for (let end = behindMember(bytes, key); bytes[end] === COMMA; end = behindMember(bytes, key))
    key = blanks(bytes, end + 1);
  if (bytes[key] !== QUOTE || !isName(bytes, key + 1, RESULTS)) return undefined;
  const list = behindColon(bytes, key + RESULTS.length + 2);
  return bytes[list] === LIST ? list : undefined;
}

/** Behind the members that may follow the list of a collection. */
function behindMembers(bytes: Uint8Array, from: number): number {
  let at = blanks(bytes, from);
  while (at >= 0 && bytes[at] === COMMA) at = behindMember(bytes, blanks(bytes, at + 1));
  return at;
}

/** Behind a member that a whole collection may have beside its list: a count, no address of more; -1 for others. */
function behindMember(bytes: Uint8Array, key: number): number {
  const name = [COUNT, NEXT].find((each) => bytes[key] === QUOTE && isName(bytes, key + 1, each));
  const value = name === undefined ? -1 : behindColon(bytes, key + name.length + 2);
  if (value < 0) return -1;
  const isLittle =
    name === NEXT ? bytes[value] === NULL : isDigit(bytes[bytes[value] === QUOTE ? value + 1 : value]!);
  const end = isLittle ? skipValue(bytes, value) : -1;
  return end < 0 || end - value > LONGEST ? -1 : blanks(bytes, end);
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
