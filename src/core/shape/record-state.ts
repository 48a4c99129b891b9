/** What is stored of a record, as a digest: two states are the same where it is equal. */

import { utf8ToBytes } from "@noble/hashes/utils.js";
import { type Concealed, concealedIn } from "./concealed-values.js";
import { isPlainObject, stringifyExact } from "./exact-json.js";
import { JAVASCRIPT_HASHES } from "./hashes.js";
import { LIST_STEP, MAP_STEP } from "./steps.js";

/** The path of a key within an object; undefined where it is not stored. The same each time that it is asked for. */
export type StepsIn = (parts: readonly string[], key: string) => readonly string[] | undefined;

/** What is known of a place in records, so that it is found out once. */
interface Place {
  readonly parts: readonly string[];
  readonly fields: Map<string, Field>;
  /** keys of the last object there as they came, and its fields in the order of their names */
  keys: readonly string[];
  order: readonly Field[];
  items: Place | undefined;
  /** where keys are data, all of them lead to one place */
  entries: Place | undefined;
}

interface Field {
  readonly key: string;
  /** its key as JSON has it, with the colon */
  readonly text: string;
  /** undefined: it is not stored */
  readonly place: Place | undefined;
}

/** Keys of an object that are data may be any number. */
const MOST_FIELDS = 1000;

/** So many hexadecimal digits of the SHA-256 over a text in UTF-8. */
export type Digest = (text: Uint8Array) => string;
export const DIGEST_DIGITS = 32;

/** For where the machine has none that is faster. */
export const digestOf: Digest = (text) => JAVASCRIPT_HASHES.sha256(text).slice(0, DIGEST_DIGITS);

export class RecordState {
  private readonly root = placeAt([]);

  constructor(
    private readonly stepsIn: StepsIn,
    private readonly digest: Digest = digestOf,
  ) {}

  /**
   * The digest of the record as JSON with its keys in order; what becomes no column, and fields, objects and lists that
   * hold no value, count for nothing.
   */
  of(record: unknown, concealed: readonly Concealed[]): string {
    return this.digest(utf8ToBytes(this.text(concealedIn(record, concealed), this.root) ?? "null"));
  }

  /** Undefined for what holds no value. */
  private text(value: unknown, place: Place): string | undefined {
    if (value === null || value === undefined) return undefined;
    if (typeof value === "string") return JSON.stringify(value);
    if (Array.isArray(value)) {
      // its places count: a null within a list is a value
      if (value.length === 0) return undefined;
      place.items ??= placeAt([...place.parts, LIST_STEP]);
      const { items } = place;
      return `[${value.map((item) => this.text(item, items) ?? "null").join(",")}]`;
    }
    if (!isPlainObject(value)) return stringifyExact(value);
    let text = "";
    for (const field of this.inOrder(Object.keys(value), place)) {
      const inner = field.place && this.text(value[field.key], field.place);
      if (inner !== undefined) text += (text === "" ? "" : ",") + field.text + inner;
    }
    return text === "" ? undefined : `{${text}}`;
  }

  private inOrder(keys: readonly string[], place: Place): readonly Field[] {
    if (keys.length === place.keys.length && keys.every((key, i) => key === place.keys[i]))
      return place.order;
    const order = [...keys].sort().map((key) => this.fieldAt(place, key));
    place.keys = keys;
    place.order = order;
    return order;
  }

  private fieldAt(place: Place, key: string): Field {
    const known = place.fields.get(key);
    if (known !== undefined) return known;
    const steps = this.stepsIn(place.parts, key);
    // a mark before each key: an integer would stand before the others in any object
    const text = `${JSON.stringify(`.${key}`)}:`;
    const field = { key, text, place: steps && nextPlace(place, steps, placeAt) };
    if (place.fields.size < MOST_FIELDS) place.fields.set(key, field);
    return field;
  }
}

const placeAt = (parts: readonly string[]): Place => ({
  parts,
  fields: new Map(),
  keys: [],
  order: [],
  items: undefined,
  entries: undefined,
});

/** The place that a key leads to. Where keys are data, all of them lead to one. */
export function nextPlace<P extends { entries: P | undefined }>(
  place: P,
  steps: readonly string[],
  placeAt: (parts: readonly string[]) => P,
): P {
  if (steps.at(-1) !== MAP_STEP) return placeAt(steps);
  place.entries ??= placeAt(steps);
  return place.entries;
}
