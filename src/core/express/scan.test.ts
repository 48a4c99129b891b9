/** The scan in WebAssembly by itself: floats, UTF-8, growing memory, and what happens where it is not to be had. */

import fc from "fast-check";
import { afterEach, describe, expect, it, vi } from "vitest";
import { tries } from "../../../test/support/long.js";
import { BY_ID } from "../../../test/support/outline-plans.js";
import { batchRows } from "../shape/batch-rows.js";
import { Shape } from "../shape/shape.js";
import { Outliner } from "./outline.js";
import { Scanner } from "./scanner.js";
import { sharedWasm } from "./wasm-scan.js";

const encoder = new TextEncoder();

/** A shape that knows a record. */
function shapeOf(record: unknown): Shape {
  const shape = new Shape({
    stream: "s",
    key: [["id"]],
    columns: new Map(),
    names: { maxBytes: 63 },
    takenTables: new Set(),
  });
  shape.shapeRecords([record]);
  return shape;
}

/** Rows of a page that was scanned on the way; undefined where it, or a record of it, was not. */
function scanned(body: Uint8Array | string, known: unknown): Record<string, unknown>[] | undefined {
  const bytes = typeof body === "string" ? encoder.encode(body) : body;
  const scan = new Outliner(BY_ID).outline(bytes, shapeOf(known))?.scan;
  return scan?.odd.length === 0
    ? scan.batches.flatMap((batch) => batchRows<Record<string, unknown>>(batch))
    : undefined;
}

describe("the scan", () => {
  /** A number of so many digits behind the point, or as JavaScript writes it, perhaps a digit off. */
  const written = fc
    .tuple(
      fc.double({ min: 1e-7, max: 1e9, noNaN: true }),
      fc.constantFrom("shortest", "precise", "fixed", "off"),
      fc.nat({ max: 20 }),
    )
    .map(([value, form, digits]) => {
      if (form === "precise") return value.toPrecision(17);
      if (form === "fixed") return value.toFixed(digits);
      const text = String(value);
      return form === "off" ? text.slice(0, -1) + ((Number(text.at(-1)) + 1) % 10) : text;
    })
    .filter((text) => !text.includes("e"));

  it("takes those fractions that JavaScript would write the same, and gives what it reads", () => {
    let [taken, left] = [0, 0];
    const texts = fc.array(fc.tuple(written, fc.constantFrom("", "-")), { minLength: 20, maxLength: 40 });
    fc.assert(
      fc.property(texts, (all) => {
        const numbers = all.map(([text, sign]) => sign + text);
        const body = `[${numbers.map((number, id) => `{"id":${id},"n":${number}}`).join(",")}]`;
        const { scan } = new Outliner(BY_ID).outline(encoder.encode(body), shapeOf({ id: -1, n: 0.5 }))!;
        const rows = scan!.batches.flatMap((batch) => batchRows<{ id: bigint; n: number }>(batch));
        for (const { id, n } of rows) {
          const number = numbers[Number(id)]!;
          expect(n).toBe(Number(number));
          const hasFewDigits = number.replace(/[-.]/g, "").length <= 15;
          expect(hasFewDigits || String(Number(number)) === number).toBe(true);
        }
        expect(rows.length + scan!.odd.length).toBe(numbers.length);
        taken += rows.length;
        left += scan!.odd.length;
      }),
      { numRuns: tries(200, 5000) },
    );
    expect(taken).toBeGreaterThan(left);
    expect(left).toBeGreaterThan(tries(200, 5000) / 2);
  });

  it.each([
    ["0.30000000000000004", true],
    ["-35.519999999999996", true],
    ["0.000001234567890123456", true],
    // of 15 digits there is one as near
    ["0.000032144202085061497", false],
    // with the zero its float64 would lose a digit
    ["0.3000000000000000", false],
    ["0.30000000000000003", false],
    ["0.0000001234567890123456", false],
    ["123456789.12345678901", false],
  ])("takes %s: %s", (number, isTaken) => {
    const rows = scanned(`[{"id":1,"n":${number}}]`, { id: 0, n: 0.5 });
    expect(rows?.[0]?.n).toBe(isTaken ? Number(number) : undefined);
  });

  it("takes a page as UTF-8 where it is, and no other", () => {
    const strict = new TextDecoder("utf-8", { fatal: true, ignoreBOM: true });
    const byte = fc.constantFrom(
      ...[0x41, 0x7f, 0x80, 0x8f, 0x90, 0x9f, 0xa0, 0xbf, 0xc0, 0xc1, 0xc2, 0xdf, 0xe0, 0xe1, 0xec, 0xed],
      ...[0xee, 0xef, 0xf0, 0xf1, 0xf3, 0xf4, 0xf5, 0xf8, 0xff],
    );
    const rune = fc.constantFrom("é", "€", "😀", "a", "ab").map((text) => [...encoder.encode(text)]);
    const bytes = fc.array(
      fc.oneof(
        { weight: 9, arbitrary: rune },
        byte.map((one) => [one]),
      ),
      {
        maxLength: 40,
      },
    );
    const seen = { taken: 0, left: 0 };
    fc.assert(
      fc.property(bytes, (parts) => {
        const text = Uint8Array.from(parts.flat());
        const body = Uint8Array.from([
          ...encoder.encode('[{"id":1,"t":"'),
          ...text,
          ...encoder.encode('"}]'),
        ]);
        let is: string | undefined;
        try {
          is = strict.decode(text);
        } catch {}
        expect(scanned(body, { id: 0, t: "a" })).toEqual(is === undefined ? undefined : [{ id: 1n, t: is }]);
        seen[is === undefined ? "left" : "taken"]++;
      }),
      { numRuns: tries(2000, 10_000) },
    );
    expect(Math.min(seen.taken, seen.left)).toBeGreaterThan(tries(2000, 10_000) / 100);
  });

  it("lets a memory go that a large page has made large, and goes on", () => {
    const before = sharedWasm();
    const text = "Firn ".repeat(1_600_000);
    expect(scanned(JSON.stringify([{ id: 1, t: text.slice(0, 8_000_000) }]), { id: 0, t: "a" })).toEqual([
      { id: 1n, t: text },
    ]);
    // as many texts as make a column grow again and again
    const records = Array.from({ length: 40 }, (_, id) => ({ id, t: "x".repeat(id * 5000) }));
    const rows = records.map(({ id, t }) => ({ id: BigInt(id), t }));
    expect(scanned(JSON.stringify(records), { id: -1, t: "a" })).toEqual(rows);
    expect(sharedWasm()).toBe(before);
    before!.calls.allocate(70_000_000);
    expect(scanned('[{"id":1}]', { id: 0 })).toEqual([{ id: 1n }]);
    expect(sharedWasm()).not.toBe(before);
    expect(scanned(JSON.stringify(records), { id: -1, t: "a" })).toEqual(rows);
  });

  it("finds fields wherever they stand, and whatever their keys begin with", () => {
    const known = {
      id: 0,
      "at the very beginning of it": 1,
      "at the very beginning of all": 2,
      "at the very": 3,
    };
    const entries = Object.entries({ ...known, id: 5 });
    fc.assert(
      fc.property(fc.shuffledSubarray(entries, { minLength: 1 }), (some) => {
        const [row] = scanned(JSON.stringify([Object.fromEntries(some)]), known) ?? [];
        const hasKey = some.some(([key]) => key === "id");
        expect(row !== undefined).toBe(hasKey);
        if (row === undefined) return;
        const there = Object.values(row).filter((value) => value !== null);
        expect(there.sort()).toEqual(some.map(([, value]) => BigInt(value)).sort());
      }),
    );
  });
});

it("takes no rows once another page was begun in the same memory", () => {
  const [one, other] = [shapeOf({ id: 0 }), shapeOf({ id: 0, t: "a" })].map(
    (shape) => Scanner.of(shape.scannable)!,
  );
  const page = encoder.encode('[{"id":1}]');
  one!.begin(page);
  other!.begin(page);
  expect(() => one!.take(1, { starts: [], ends: [], sketches: [] }, 1)).toThrow("another page");
  expect(() => one!.takeRows()).toThrow("another page");
  expect(other!.take(1, { starts: [], ends: [], sketches: [] }, 1)).toBe(1);
});

describe("without WebAssembly", () => {
  afterEach(() => {
    vi.unstubAllGlobals();
    vi.resetModules();
  });

  it.each([
    ["there is none", undefined],
    [
      "a content policy forbids it",
      {
        Module: class {
          constructor() {
            throw new EvalError("refused by the content policy");
          }
        },
      },
    ],
  ])("records are shaped by the plain reader: %s", async (_, api) => {
    vi.stubGlobal("WebAssembly", api);
    vi.resetModules();
    const { Outliner: Own } = await import("./outline.js");
    const shape = shapeOf({ id: 0, name: "Alm" });
    const outline = new Own(BY_ID).outline(encoder.encode('[{"id":1,"name":"Firn"}]'), shape)!;
    expect(outline.scan).toBeUndefined();
    const rows = [...outline.finder.shape(outline, shape)].flatMap(({ batches }) =>
      batches.flatMap((batch) => batchRows(batch)),
    );
    expect(rows).toEqual([{ id: 1n, name: "Firn" }]);
  });
});
