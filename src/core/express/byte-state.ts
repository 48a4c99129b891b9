/**
 * The digest of what is stored of a record, out of its bytes: the one that `RecordState` gives of the record as an
 * object. It goes by the same text, JSON with its keys in order, which is mostly a matter of copying.
 */

import { parseExactJson, stringifyExact } from "../shape/exact-json.js";
import { type Digest, digestOf, nextPlace, type StepsIn } from "../shape/record-state.js";
import { LIST_STEP } from "../shape/steps.js";
import { behindColon, blanks, isDigit, isName, MOST_DIGITS, skipPlainText, skipValue } from "./skip.js";

/** What is known of a place in records. */
interface Place {
  readonly parts: readonly string[];
  /** in the order in which they came first */
  readonly fields: Field[];
  /** those of the last object there as they came, and in the order of their keys */
  came: readonly Field[];
  order: readonly Field[];
  items: Place | undefined;
  /** where keys are data, all of them lead to one place */
  entries: Place | undefined;
}

interface Field {
  readonly key: string;
  readonly index: number;
  readonly name: Uint8Array;
  /** a comma, its key as the text has it, and a colon */
  readonly before: Uint8Array;
  /** undefined: it is not stored */
  readonly place: Place | undefined;
  /** its place among the others by key */
  rank: number;
  /** the object that had it last */
  lastObject: number;
  /** where its part of the text is, in the object at hand */
  from: number;
  to: number;
}

/** Objects with more keys than this are for the plain reader. */
const MOST_FIELDS = 1000;

/** So many zeros behind the point, and JavaScript writes an exponent. */
const MOST_ZEROS = 5;

const encoder = new TextEncoder();
const decoder = new TextDecoder("utf-8", { ignoreBOM: true });

const [NULL, COMMA, OBJECT, OBJECT_END, LIST, LIST_END] = [encoder.encode("null"), 44, 123, 125, 91, 93];

/** What stands there is for the plain reader. */
const UNUSUAL = -1;

export class ByteState {
  private readonly root: Place = placeAt([]);
  private bytes: Uint8Array = new Uint8Array();
  /** the text, and how far it is written */
  private out = new Uint8Array(4096);
  private end = 0;
  /** what the rest of the record may take, at most */
  private rest = 0;
  private objects = 0;

  constructor(
    private readonly stepsIn: StepsIn,
    private readonly digest: Digest = digestOf,
  ) {}

  /**
   * The digest of the record that begins at a place of bytes which are known to be JSON; undefined where it is for the
   * plain reader. `news`: an object with fields that the record has beside its own.
   */
  of(bytes: Uint8Array, from: number, to: number, news?: Uint8Array): string | undefined {
    this.end = 0;
    // a mark before each key, `null` for an empty item of a list: no more than twice as much
    this.rest = 2 * (to - from + (news?.length ?? 0)) + 64;
    this.reserve(0);
    const object = ++this.objects;
    const came: Field[] = [];
    this.bytes = bytes;
    if (this.members(this.root, from, object, came) < 0) return undefined;
    if (news !== undefined) {
      this.bytes = news;
      if (this.members(this.root, 0, object, came) < 0) return undefined;
    }
    if (!this.endObject(this.root, 0, came)) this.write(NULL);
    return this.digest(this.out.subarray(0, this.end));
  }

  /** Writes the value that begins at a place; the place behind it. What holds no value leaves nothing. */
  private value(place: Place, at: number): number {
    const { bytes } = this;
    switch (bytes[at]) {
      case 34:
        return this.text(at);
      case OBJECT:
        return this.object(place, at);
      case LIST:
        return this.list(place, at);
      case 110:
        return at + 4;
      case 116:
        return this.copy(at, at + 4);
      case 102:
        return this.copy(at, at + 5);
      default:
        return this.number(at);
    }
  }

  private object(place: Place, from: number): number {
    const begin = this.end;
    const came: Field[] = [];
    const end = this.members(place, from, ++this.objects, came);
    if (end >= 0) this.endObject(place, begin, came);
    return end;
  }

  /** Writes the fields of an object as they come, a comma before each; the place behind it. */
  private members(place: Place, from: number, object: number, came: Field[]): number {
    const { bytes } = this;
    let next = 0;
    let at = blanks(bytes, from + 1);
    if (bytes[at] === OBJECT_END) return at + 1;
    for (;;) {
      const field = this.field(place, at + 1, next);
      if (field === undefined || field.lastObject === object) return UNUSUAL;
      field.lastObject = object;
      next = field.index + 1;
      at = this.member(field, behindColon(bytes, at + field.name.length + 2));
      if (at < 0) return UNUSUAL;
      came.push(field);
      at = blanks(bytes, at);
      if (bytes[at] === OBJECT_END) return at + 1;
      at = blanks(bytes, at + 1);
    }
  }

  private member(field: Field, at: number): number {
    const from = this.end;
    field.from = from;
    field.to = from;
    if (field.place === undefined) return skipValue(this.bytes, at);
    this.write(field.before);
    const begin = this.end;
    const end = this.value(field.place, at);
    if (this.end === begin) this.end = from;
    field.to = this.end;
    return end;
  }

  /** Puts the fields in the order of their keys; false where none holds a value. */
  private endObject(place: Place, begin: number, came: readonly Field[]): boolean {
    if (this.end === begin) return false;
    if (!areAlike(came, place.came)) {
      place.came = came;
      place.order = [...came].sort((a, b) => a.rank - b.rank);
    }
    if (!areAlike(came, place.order)) this.putInOrder(begin, place.order);
    this.out[begin] = OBJECT;
    this.out[this.end++] = OBJECT_END;
    return true;
  }

  private putInOrder(begin: number, order: readonly Field[]): void {
    const { end } = this;
    const length = end - begin;
    this.reserve(length);
    const { out } = this;
    out.copyWithin(end, begin, end);
    let to = begin;
    for (const { from, to: until } of order) {
      out.copyWithin(to, from + length, until + length);
      to += until - from;
    }
  }

  private list(place: Place, from: number): number {
    const { bytes } = this;
    let at = blanks(bytes, from + 1);
    if (bytes[at] === LIST_END) return at + 1;
    place.items ??= placeAt([...place.parts, LIST_STEP]);
    const { items } = place;
    this.out[this.end++] = LIST;
    for (;;) {
      const begin = this.end;
      at = this.value(items, at);
      if (at < 0) return UNUSUAL;
      // its places count: a null within a list is a value
      if (this.end === begin) this.write(NULL);
      at = blanks(bytes, at);
      if (bytes[at] === LIST_END) break;
      this.out[this.end++] = COMMA;
      at = blanks(bytes, at + 1);
    }
    this.out[this.end++] = LIST_END;
    return at + 1;
  }

  /** A text without escapes stands in the digest's text as it came. */
  private text(from: number): number {
    const { bytes, out } = this;
    let to = this.end;
    let at = from;
    out[to++] = bytes[at++]!;
    for (let byte = bytes[at]!; byte !== 34; byte = bytes[++at]!) {
      if (byte === 92) return this.rewrite(from);
      out[to++] = byte;
    }
    out[to++] = 34;
    this.end = to;
    return at + 1;
  }

  /** So does a number that JavaScript writes as it came. */
  private number(from: number): number {
    const { bytes } = this;
    let at = bytes[from] === 45 ? from + 1 : from;
    const first = at;
    while (isDigit(bytes[at]!)) at++;
    let digits = at - first;
    const isZero = digits === 1 && bytes[first] === 48;
    if (bytes[at] === 46) {
      const point = at++;
      while (bytes[at] === 48) at++;
      const zeros = at - point - 1;
      while (isDigit(bytes[at]!)) at++;
      digits += at - point - 1;
      if (bytes[at - 1] === 48 || (isZero && zeros > MOST_ZEROS)) return this.rewrite(from);
    } else if (isZero && first > from) return this.rewrite(from);
    if (digits > MOST_DIGITS || bytes[at] === 101 || bytes[at] === 69) return this.rewrite(from);
    return this.copy(from, at);
  }

  /** A value of which the text is another than came. */
  private rewrite(from: number): number {
    const { bytes } = this;
    const end = skipValue(bytes, from);
    if (end < 0) return UNUSUAL;
    const value = parseExactJson(decoder.decode(bytes.subarray(from, end)));
    const text = encoder.encode(typeof value === "string" ? JSON.stringify(value) : stringifyExact(value));
    this.reserve(text.length);
    this.write(text);
    return end;
  }

  private copy(from: number, end: number): number {
    const { bytes, out } = this;
    let to = this.end;
    for (let at = from; at < end; at++) out[to++] = bytes[at]!;
    this.end = to;
    return end;
  }

  private write(text: Uint8Array): void {
    const { out } = this;
    let to = this.end;
    for (let i = 0; i < text.length; i++) out[to++] = text[i]!;
    this.end = to;
  }

  /** Makes room for more than the rest of the record takes. */
  private reserve(more: number): void {
    const length = this.end + more + this.rest;
    if (length <= this.out.length) return;
    const larger = new Uint8Array(2 * length);
    larger.set(this.out.subarray(0, this.end));
    this.out = larger;
  }

  /** The field of a key: mostly the one that came behind the last one before. */
  private field(place: Place, from: number, likely: number): Field | undefined {
    const { fields } = place;
    const { bytes } = this;
    const first = fields[likely];
    if (first !== undefined && isName(bytes, from, first.name)) return first;
    const end = skipPlainText(bytes, from);
    if (end < 0) return undefined;
    for (const field of fields) if (isName(bytes, from, field.name)) return field;
    if (fields.length >= MOST_FIELDS) return undefined;
    return this.newField(place, decoder.decode(bytes.subarray(from, end - 1)));
  }

  private newField(place: Place, key: string): Field {
    const steps = this.stepsIn(place.parts, key);
    // a mark before each key: as in the plain reader's text
    const before = encoder.encode(`,${JSON.stringify(`.${key}`)}:`);
    const field: Field = {
      key,
      index: place.fields.length,
      name: encoder.encode(key),
      before,
      place: steps && nextPlace(place, steps, placeAt),
      rank: 0,
      lastObject: 0,
      from: 0,
      to: 0,
    };
    place.fields.push(field);
    const inOrder = [...place.fields].sort((a, b) => (a.key < b.key ? -1 : 1));
    for (const [rank, each] of inOrder.entries()) each.rank = rank;
    return field;
  }
}

function areAlike(left: readonly Field[], right: readonly Field[]): boolean {
  if (left.length !== right.length) return false;
  for (let i = 0; i < left.length; i++) if (left[i] !== right[i]) return false;
  return true;
}

const placeAt = (parts: readonly string[]): Place => ({
  parts,
  fields: [],
  came: [],
  order: [],
  items: undefined,
  entries: undefined,
});
