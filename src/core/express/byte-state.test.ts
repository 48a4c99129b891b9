/** The digest out of bytes against the one of the record as an object. */

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { documentsOf } from "../../../test/support/documents.js";
import { tries } from "../../../test/support/long.js";
import { parseExactJson } from "../shape/exact-json.js";
import { RecordState, type StepsIn } from "../shape/record-state.js";
import { MAP_STEP, stepOfKey } from "../shape/steps.js";
import { ByteState } from "./byte-state.js";

const encoder = new TextEncoder();

const all: StepsIn = (parts, key) => [...parts, stepOfKey(key)];

/** Both digests of a record by itself, and again between others. */
function expectSame(texts: readonly string[], stepsIn: StepsIn = all): void {
  const [plain, express] = [new RecordState(stepsIn), new ByteState(stepsIn)];
  for (const text of texts) {
    const bytes = encoder.encode(`[${text} ,1]`);
    const end = bytes.length - 4;
    const expected = plain.of(parseExactJson(text), []);
    expect(express.of(bytes, 1, end), text).toBe(expected);
    expect(new ByteState(stepsIn).of(bytes, 1, end), text).toBe(expected);
  }
}

describe("the state of a record in bytes", () => {
  it("is that of the record as an object", () => {
    const key = fc.constantFrom("a", "b", "list", "É", "x y", "", "10", "9", "😀", "\ufffd");
    fc.assert(
      fc.property(documentsOf(key), fc.nat({ max: 2 }), (records, indent) => {
        expectSame(records.map((record) => JSON.stringify(record, undefined, indent)));
      }),
      { numRuns: tries(300, 3000) },
    );
  });

  it("counts a number for what it is, however it is written", () => {
    const digits = fc.stringMatching(/^-?(0|[1-9]\d{0,18})(\.\d{1,18})?([eE][+-]?\d{1,2})?$/);
    const number = fc.oneof(digits, fc.double({ noNaN: true, noDefaultInfinity: true }).map(String));
    fc.assert(
      fc.property(number, (text) => {
        expectSame([`{"n":${text}}`, `{"n":[${text},{"m": ${text} }]}`]);
      }),
      { numRuns: tries(1000, 5000) },
    );
    expectSame(
      ["-0", "0.0", "0.000001", "0.0000001", "1.10", "123456789012345", "1e5", "-0.5"].map(
        (n) => `{"n":${n}}`,
      ),
    );
  });

  it("counts a text for what it is, however it is escaped", () => {
    const escaped = [
      String.raw`"\u00e9"`,
      '"é"',
      String.raw`"\/\n\u0001"`,
      String.raw`"\ud800"`,
      String.raw`"\""`,
    ];
    expectSame(escaped.map((text) => `{"t":${text},"u":[${text}]}`));
    const state = new ByteState(all);
    const of = (text: string) => state.of(encoder.encode(text), 0, text.length);
    expect(of(String.raw`{"t":"\u0041"}`)).toBe(of('{"t":"A"}'));
  });

  it("has room for values that are longer than they came", () => {
    const numbers = Array.from({ length: 3000 }, () => "1e20").join(",");
    const nested = `${'{"b":1,"a":['.repeat(30)}${"]}".repeat(30)}`;
    expectSame([`{"z":[${numbers}],"a":{"c":[${numbers}],"b":[{},[],null]}}`, nested]);
  });

  it("leaves out what is not stored, and takes keys that are data for one place", () => {
    const stepsIn: StepsIn = (parts, key) =>
      key === "skip" ? undefined : [...parts, parts.at(-1) === "days" ? MAP_STEP : stepOfKey(key)];
    const days = Object.fromEntries(
      Array.from({ length: 90 }, (_, i) => [`2026-${99 - i}`, { n: i, skip: 1 }]),
    );
    expectSame(
      [{ days, skip: [1] }, { skip: 1 }, { days: {} }, {}].map((record) => JSON.stringify(record)),
      stepsIn,
    );
  });

  it("takes in what a record is given beside its own", () => {
    const state = new ByteState(all);
    const news = encoder.encode('{"hut":"Alm","a":1}');
    const text = '{"z":1,"b":2}';
    const expected = new RecordState(all).of({ z: 1, b: 2, hut: "Alm", a: 1 }, []);
    expect(state.of(encoder.encode(text), 0, text.length, news)).toBe(expected);
  });

  it.each(['{"a":1,"a":2}', '{"b":{"a":1,"c":2,"a":2}}', String.raw`{"\u0061":1}`])(
    "leaves %s to the plain reader",
    (text) => {
      expect(new ByteState(all).of(encoder.encode(text), 0, text.length)).toBeUndefined();
    },
  );
});
