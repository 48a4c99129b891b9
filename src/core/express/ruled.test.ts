/** A condition asked on the way into rows, against one that is asked of records as objects. */

import fc from "fast-check";
import { expect, it } from "vitest";
import { tries } from "../../../test/support/long.js";
import { readPage } from "../ask/read-page.js";
import { applyRules, keepsBy } from "../ask/record-rules.js";
import { defineConnector } from "../define/connector.js";
import { batchRows } from "../shape/batch-rows.js";
import { stringifyExact } from "../shape/exact-json.js";
import { compileStream } from "../stream/compile-stream.js";
import { outlinePlan } from "../stream/outline-plan.js";
import { ANY_NAMES, shapeOf } from "../stream/shape-of.js";
import { Outliner } from "./outline.js";

const connector = defineConnector({
  connector: "c",
  api: { url: "https://a.huts.example" },
  streams: {
    s: { get: "/s", records: "$[*]", key: "id", where: "record.beds > 2", gone: "record.state == 'gone'" },
  },
});
const stream = compileStream(connector, "s", connector.streams.s!);
const FIRST = { id: -1, beds: 3, state: "open", name: "Alm", rooms: [{ no: 1 }] };

type Row = Record<string, unknown>;

/** Rows of two pages, by table; ids of what is gone, quarantined and left out. */
function read(records: readonly unknown[], isExpress: boolean) {
  const shape = shapeOf(stream, { names: ANY_NAMES });
  shape.shapeRecords([FIRST]);
  const add = {};
  const { plan } = stream.request;
  const express = isExpress
    ? { outliner: new Outliner(outlinePlan(stream)!), shape, news: add, keeps: keepsBy(stream.where!, add) }
    : undefined;
  const body = new TextEncoder().encode(stringifyExact(records));
  const found = readPage({ body, headers: {} }, plan, {}, express);
  const page = applyRules(found, { where: stream.where, isRemoval: stream.isRemoval, add });
  const shaped = [...page.shape(shape)];
  const rows: Record<string, string[]> = {};
  for (const { table, ...batch } of shaped.flatMap(({ batches }) => batches)) {
    const texts = batchRows<Row>({ table, ...batch }).map((row) =>
      stringifyExact(Object.fromEntries(Object.entries(row).filter(([, value]) => value !== null))),
    );
    rows[table] = [...(rows[table] ?? []), ...texts].sort();
  }
  const issues = shaped.flatMap((each) =>
    each.issues.map(({ path, record }) => stringifyExact([path, record])),
  );
  const gone = shaped.flatMap(({ removed }) =>
    removed === undefined ? [] : batchRows<Row>(removed).map(({ id }) => id),
  );
  return { rows, issues: issues.sort(), gone: gone.sort(), leftOut: page.leftOut, scan: found.source?.scan };
}

it("rules see records that are not as the tables have them, and no others are left out", () => {
  const record = fc.record(
    {
      beds: fc.oneof({ weight: 9, arbitrary: fc.integer({ min: 0, max: 5 }) }, fc.constant(null)),
      state: fc.constantFrom("open", "shut", "open", "gone"),
      // a text is new to its column now and then, and so is a field
      name: fc.oneof({ weight: 9, arbitrary: fc.constantFrom("Alm", "Firn") }, fc.constant({ de: "Alm" })),
      rooms: fc.array(fc.record({ no: fc.nat({ max: 9 }) }), { maxLength: 2 }),
      note: fc.constant("new"),
    },
    { requiredKeys: ["beds", "state"] },
  );
  const seen = { scanned: 0, odd: 0, leftOut: 0 };
  fc.assert(
    fc.property(fc.array(record, { minLength: 1, maxLength: 12 }), (some) => {
      const records = some.map((each, id) => ({ id, ...each }));
      const { scan, ...express } = read(records, true);
      const { scan: _, ...plain } = read(records, false);
      expect(express).toEqual(plain);
      if (scan?.leftOut === undefined) return;
      seen.scanned++;
      seen.odd += scan.odd.length;
      seen.leftOut += scan.leftOut.size;
    }),
    { numRuns: tries(500, 10_000) },
  );
  expect(Math.min(...Object.values(seen))).toBeGreaterThan(tries(500, 10_000) / 20);
});
