import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { ByteWriter } from "./byte-writer.js";

const written = (work: (out: ByteWriter) => unknown) => {
  const out = new ByteWriter();
  work(out);
  return new TextDecoder().decode(out.take());
};

describe("bytes", () => {
  it("hold whole numbers and decimals as they are written", () => {
    fc.assert(
      fc.property(fc.maxSafeInteger(), (value) => {
        expect(written((out) => out.decimal(value))).toBe(String(value));
      }),
    );
    fc.assert(
      fc.property(fc.integer(), fc.integer({ min: 1, max: 9 }), (value, scale) => {
        expect(written((out) => out.decimal(value, scale))).toBe((value / 10 ** scale).toFixed(scale));
      }),
    );
    expect(written((out) => out.decimal(-5, 2))).toBe("-0.05");
  });

  it("hold days and times of four-digit years as dates write them, and no others", () => {
    const day = fc.integer({ min: Date.UTC(-1, 0) / 86_400_000, max: Date.UTC(10_001, 0) / 86_400_000 });
    fc.assert(
      fc.property(day, (days) => {
        const text = new Date(days * 86_400_000).toISOString();
        const isPlain = /^\d{4}-/.test(text);
        expect(written((out) => expect(out.date(days)).toBe(isPlain))).toBe(isPlain ? text.slice(0, 10) : "");
      }),
      { numRuns: 500 },
    );
    const moment = fc.date({ min: new Date("0001-01-01"), max: new Date("2200-01-01"), noInvalidDate: true });
    fc.assert(
      fc.property(moment, (at) => {
        const expected = at
          .toISOString()
          .replace("T", " ")
          .replace(/(?:\.000|(?<=\.\d+)0*)Z$/, "");
        expect(written((out) => out.time(at.getTime() * 1000))).toBe(expected);
      }),
    );
    expect(written((out) => out.time(-1))).toBe("1969-12-31 23:59:59.999999");
    expect(written((out) => out.time(1_000_100))).toBe("1970-01-01 00:00:01.0001");
  });

  it("hold texts with what has to be escaped", () => {
    const escapes = new Uint8Array(256);
    escapes[10] = 110;
    escapes[92] = 92;
    expect(written((out) => out.escapedText("a\nb\\ü😀", escapes, 92))).toBe("a\\nb\\\\ü😀");
    fc.assert(
      fc.property(fc.array(fc.string({ unit: "grapheme" })), (texts) => {
        const all = written((out) => {
          for (const text of texts) out.escapedText(text, new Uint8Array(256), 92);
        });
        expect(all).toBe(texts.join(""));
      }),
    );
  });
});
