import { createHash } from "node:crypto";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { parseExactJson } from "./exact-json.js";
import { RecordState } from "./record-state.js";
import { LIST_STEP, MAP_STEP } from "./steps.js";

const plain = () => new RecordState((parts, key) => [...parts, key]);
const digest = (text: string) => createHash("sha256").update(text).digest("hex").slice(0, 32);

describe("the state of a record", () => {
  it("is the digest of what holds a value, keys in order", () => {
    const record = parseExactJson(
      '{"b":[{"d":null,"c":"x"},null,[]],"a":1.50,"10":{"z":9007199254740993},"9":null,"e":{},"é\\"":false}',
    );
    const text = '{".10":{".z":9007199254740993},".a":1.5,".b":[{".c":"x"},null,null],".é\\"":false}';
    expect(plain().of(record, [])).toBe(digest(text));
    expect(plain().of({ a: null, b: [], c: {} }, [])).toBe(digest("null"));
  });

  it("leaves out what is not stored, at any place", () => {
    const state = new RecordState((parts, key) => (key === "skip" ? undefined : [...parts, key]));
    const record = { a: { skip: 1, b: 2 }, list: [{ skip: 3 }, { c: 4 }], skip: { d: 5 } };
    expect(state.of(record, [])).toBe(digest('{".a":{".b":2},".list":[null,{".c":4}]}'));
  });

  it("asks for each place once, and for one place where keys are data", () => {
    const asked: string[] = [];
    const state = new RecordState((parts, key) => {
      asked.push([...parts, key].join("."));
      return parts.at(-1) === "days" ? [...parts, MAP_STEP] : [...parts, key];
    });
    for (let day = 1; day <= 3; day++) state.of({ days: { [`2026-07-0${day}`]: [{ n: day }] } }, []);
    const entry = ["days", MAP_STEP, LIST_STEP, "n"].join(".");
    expect(asked).toEqual(["days", "days.2026-07-01", entry, "days.2026-07-02", "days.2026-07-03"]);
  });

  it("is the same whatever came before, and in any order of keys", () => {
    const shared = plain();
    const shuffled = (value: unknown): unknown =>
      Array.isArray(value)
        ? value.map(shuffled)
        : typeof value === "object" && value !== null
          ? Object.fromEntries(
              Object.entries(value)
                .reverse()
                .map(([key, inner]) => [key, shuffled(inner)]),
            )
          : value;
    fc.assert(
      fc.property(fc.dictionary(fc.string(), fc.jsonValue()), (record) => {
        expect(shared.of(record, [])).toBe(plain().of(shuffled(record), []));
      }),
    );
  });
});
