import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { documentsOf } from "../../../test/support/documents.js";
import { tries } from "../../../test/support/long.js";
import { settled } from "../../../test/support/settled.js";
import { shape } from "../sample/shape-records.js";
import { unshape } from "./unshape.js";

/** Keys as APIs have them, and as nobody should. */
const key = fc.oneof(
  {
    weight: 6,
    arbitrary: fc.constantFrom("id", "a", "b", "list", "a_b", "aB", "value", "2026-01-01", "17", "Eb"),
  },
  {
    weight: 1,
    arbitrary: fc.constantFrom("__proto__", "", "[*]", "{*}", "\\[*]", "a.b", 'q"', "constructor", "A"),
  },
  { weight: 1, arbitrary: fc.string({ maxLength: 6 }) },
);

describe("records", () => {
  it("are built again from their tables, whatever they are", () => {
    fc.assert(
      fc.property(documentsOf(key), (records) => {
        const { tables, issues } = shape(records);
        expect(issues).toEqual([]);
        for (const { columns } of tables)
          expect(new Set(columns.map(({ name }) => name)).size).toBe(columns.length);
        expect(unshape(tables).map(settled)).toEqual(records.map(settled));
      }),
      { numRuns: tries(300, 1500) },
    );
  });
});
