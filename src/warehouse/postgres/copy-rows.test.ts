import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { LENGTH_BYTES, type TableBatch } from "../../core/shape/batch.js";
import { type ColumnType, NOTHING_SEEN } from "../../core/shape/column-type.js";
import { CopyRows, rowsForStage } from "./copy-rows.js";

const COLUMN = { name: "extras", path: "extras", role: "data", declared: true, seen: NOTHING_SEEN } as const;

/** A batch of one column, its texts as such or as the scan leaves them. */
function batchOf(texts: readonly string[], kind: "json" | "text", asBytes: boolean): TableBatch {
  const type: ColumnType = { kind };
  const parts = texts.map((text) => Buffer.concat([Buffer.alloc(LENGTH_BYTES), Buffer.from(text)]));
  let end = 0;
  const ends = Uint32Array.from(parts, (part) => (end += part.length));
  const utf8 = { bytes: new Uint8Array(Buffer.concat(parts)), ends };
  const values = asBytes ? { texts: undefined, utf8 } : { texts, utf8: undefined };
  const column = { name: COLUMN.name, type, data: undefined, validity: undefined, ...values };
  return { table: "huts", rows: texts.length, recordOf: Int32Array.from(texts.keys()), columns: [column] };
}

const rowsOf = (copy: CopyRows, batch: TableBatch) => {
  copy.add(batch, 7, [{ ...COLUMN, type: batch.columns[0]!.type }]);
  return copy.take();
};

const json = fc.oneof(
  fc.json(),
  fc.constantFrom('{"a":1e400000}', '"\\u0000"', '"\\ud800"', "2e5", "-1E+2", '"e5"', '"\0"', '{"en":"é"}'),
);

describe("rows of a COPY", () => {
  it("have JSON alike, whether it comes as texts or as bytes", () => {
    fc.assert(
      fc.property(fc.array(json, { minLength: 1, maxLength: 4 }), (texts) => {
        const [bytes, plain] = [true, false].map((asBytes) =>
          rowsOf(CopyRows.forStage(), batchOf(texts, "json", asBytes)),
        );
        expect(bytes).toEqual(plain);
      }),
      { numRuns: 500 },
    );
  });

  it("for a table are those for a stage, with a run and a time of their own", () => {
    const texts = fc.array(fc.string(), { minLength: 1, maxLength: 5 });
    fc.assert(
      fc.property(texts, fc.nat(), (all, run) => {
        const batch = batchOf(all, "text", true);
        const stage = rowsOf(CopyRows.forStage(), batch);
        const table = CopyRows.forTable(Date.UTC(2000, 0, 1) + 5);
        table.add(batch, 7, [{ ...COLUMN, type: batch.columns[0]!.type }]);
        const { kept, forTable } = table.takeFor(run);
        expect(rowsForStage(kept)).toEqual(stage);
        const view = new DataView(forTable.buffer);
        expect([view.getInt16(0), view.getBigInt64(6)]).toEqual([3, BigInt(run)]);
        expect(view.getBigInt64(forTable.length - 8)).toBe(5000n);
      }),
    );
  });
});
