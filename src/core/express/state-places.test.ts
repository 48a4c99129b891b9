/** Digests of records that are scanned against those of the records as objects. */

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { documentsOf } from "../../../test/support/documents.js";
import { tries } from "../../../test/support/long.js";
import { BY_ID } from "../../../test/support/outline-plans.js";
import { batchRows } from "../shape/batch-rows.js";
import { parseExactJson } from "../shape/exact-json.js";
import { RecordState } from "../shape/record-state.js";
import { Shape } from "../shape/shape.js";
import { stepOfKey } from "../shape/steps.js";
import { ANY_NAMES } from "../stream/shape-of.js";
import { Outliner } from "./outline.js";
import { shapeBytes } from "./shape-bytes.js";

const encoder = new TextEncoder();

/** Records that hold any document, whole, in a column of JSON. */
const recordsOf = (documents: readonly string[]) =>
  documents.map((document, id) => `{"id":${id},"doc": ${document} }`);

/** What the plain reader makes of them. */
const plainState = () => new RecordState((parts, key) => [...parts, stepOfKey(key)]);

const newShape = () => {
  const columns = new Map([["doc", { type: { kind: "json" } as const }]]);
  const life = { states: true };
  const shape = new Shape({
    ...{ stream: "s", takenTables: new Set<string>(), names: ANY_NAMES },
    ...{ key: [["id"]], columns, life },
  });
  shape.shapeRecords([{ id: 0, doc: { first: 1 } }]);
  return shape;
};

/** The digests of a page's records, and which of them are not scanned. */
function scan(records: readonly string[], shape = newShape()) {
  const outline = new Outliner(BY_ID).outline(encoder.encode(`[${records.join(" ,")}]`), shape)!;
  const { odd } = outline.scan!;
  const rows = [...shapeBytes(outline, shape)].flatMap(({ batches: [own] }) => batchRows(own!));
  return { odd, states: new Map(rows.map(({ id, eb_state }) => [Number(id), eb_state])) };
}

/** The digest of each record by itself, and again between others. */
function expectSame(documents: readonly string[]): void {
  const records = recordsOf(documents);
  const plain = plainState();
  const shape = newShape();
  const expected = new Map(records.map((text, id) => [id, plain.of(parseExactJson(text), [])]));
  // what was learnt from the first page holds for the second
  for (let page = 0; page < 2; page++) {
    const { odd, states } = scan(records, shape);
    expect(states).toEqual(expected);
    expect(odd).toEqual([]);
  }
  for (const [id, text] of records.entries()) expect(scan([text]).states.get(id)).toBe(expected.get(id));
}

describe("the state of a record that is scanned", () => {
  it("is that of the record as an object", () => {
    const key = fc.constantFrom(
      "a",
      "b",
      "list",
      "É",
      "x y",
      "",
      "10",
      "9",
      "😀",
      "\ufffd",
      "longer than 16",
    );
    fc.assert(
      fc.property(documentsOf(key), fc.nat({ max: 2 }), (documents, indent) => {
        expectSame(documents.map((document) => JSON.stringify(document, undefined, indent)));
      }),
      { numRuns: tries(200, 3000) },
    );
  });

  it("counts a number for what it is, however it is written", () => {
    const digits = fc.stringMatching(/^-?(0|[1-9]\d{0,22})(\.\d{1,18})?([eE][+-]?\d{1,2})?$/);
    const number = fc.oneof(digits, fc.double({ noNaN: true, noDefaultInfinity: true }).map(String));
    fc.assert(
      fc.property(number, (text) => expectSame([`{"n":${text}}`, `{"n":[${text},{"m": ${text} }]}`])),
      { numRuns: tries(500, 5000) },
    );
    const known = ["-0", "0", "0.0", "-0.0", "0.000001", "0.0000001", "1.10", "1e5", "1E5", "-0.5", "0e1"];
    const long = ["123456789012345", "12345678901234567890123", "47.12345678901234", "0.30000000000000004"];
    expectSame([...known, ...long, "0.1000000000000000055511151231257827"].map((n) => `{"n":${n}}`));
  });

  it("counts a text for what it is, however it is escaped", () => {
    const unit = fc.nat({ max: 0xffff }).map((code) => code.toString(16).padStart(4, "0"));
    const piece = fc.oneof(
      fc.constantFrom("é", "plain text of more than 16 bytes", "😀", "\u007f", "\u2028"),
      fc.constantFrom(...["\\/", "\\\\", '\\"', "\\b", "\\f", "\\n", "\\r", "\\t"]),
      fc.constantFrom("\\ud83d\\ude00", "\\ud83d", "\\ude00", "\\u0022", "\\u005C", "\\u000a", "\\u001F"),
      unit.map((code) => `\\u${code}`),
    );
    fc.assert(
      fc.property(fc.array(piece, { maxLength: 12 }), (pieces) => {
        expectSame([`{"t":"${pieces.join("")}","u":["${pieces.join("")}"]}`]);
      }),
      { numRuns: tries(500, 5000) },
    );
    const { states } = scan(['{"id":1,"doc":{"t":"\\u0041"}}', '{"id":2,"doc":{"t":"A"}}']);
    const [one, two] = [...states].map(([id, state]) => ({ id, state }));
    // the number is another, so the digest is
    expect(one!.state).not.toBe(two!.state);
    expect(scan(['{"id":1,"doc":{"t":"A"}}']).states.get(1)).toBe(one!.state);
  });

  it("has room for values that are longer than they came", () => {
    const numbers = Array.from({ length: 3000 }, () => "1e20").join(",");
    const nested = `${'{"b":1,"a":['.repeat(15)}${"]}".repeat(15)}`;
    expectSame([`{"z":[${numbers}],"a":{"c":[${numbers}],"b":[{},[],null]}}`, nested]);
  });

  it("knows a place of which the keys come in another order, and are many", () => {
    const object = (keys: readonly number[]) => `{${keys.map((key) => `"k${key}":${key}`).join()}}`;
    const keys = Array.from({ length: 900 }, (_, i) => i);
    expectSame([object(keys), object(keys.toReversed()), object(keys.filter((i) => i % 3 > 0))]);
  });

  it("leaves keys without end to the plain reader, and what is known is soon laid out", () => {
    const inner = (i: number) => Array.from({ length: 100 }, (_, j) => `"k${i}-${j}":${j}`).join();
    const documents = Array.from({ length: 60 }, (_, i) => `{"of ${i}":{${inner(i)}}}`);
    const shape = newShape();
    const { odd, states } = scan(recordsOf(documents), shape);
    expect(odd.length).toBeGreaterThan(0);
    expect(odd.length).toBeLessThan(30);
    const plain = plainState();
    const expected = recordsOf(documents).map(
      (text, id) => [id, plain.of(parseExactJson(text), [])] as const,
    );
    expect(states).toEqual(new Map(expected));
    // those that are known are scanned again
    expect(scan(recordsOf(documents.slice(0, 40)), shape).odd).toEqual([]);
  });

  it.each(['{"a":1,"a":2}', '{"b":{"a":1,"c":2,"a":2}}', String.raw`{"\u0061":1}`])(
    "leaves %s to the plain reader",
    (document) => {
      const records = recordsOf([document, '{"a":1}']);
      const plain = plainState();
      const { odd, states } = scan(records);
      expect(odd).toEqual([0]);
      expect([...states.values()].toSorted()).toEqual(
        records.map((text) => plain.of(parseExactJson(text), [])).toSorted(),
      );
    },
  );
});
