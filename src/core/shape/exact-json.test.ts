import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { ExactNumber, mayHoldInexactNumber, parseExactJson, stringifyExact } from "./exact-json.js";

const bytes = (text: string) => new TextEncoder().encode(text);

/** JSON numbers of every form: signs, fractions, exponents, many digits. */
const numberToken = fc
  .tuple(
    fc.boolean(),
    fc.oneof(fc.bigInt({ min: 0n, max: 10n ** 30n }), fc.bigInt({ min: 0n, max: 999n })),
    fc.option(fc.stringMatching(/^\d{1,25}$/)),
    fc.option(fc.integer({ min: -330, max: 330 })),
  )
  .map(
    ([negative, whole, fraction, exponent]) =>
      `${negative ? "-" : ""}${whole}${fraction === null ? "" : `.${fraction}`}${exponent === null ? "" : `e${exponent}`}`,
  );

/** The value of a JSON number as a fraction of two integers, so that equality is exact. */
function exactValue(token: string): [numerator: bigint, denominator: bigint] {
  const match = /^(-?)(\d+)(?:\.(\d+))?(?:[eE]([+-]?\d+))?$/.exec(token)!;
  const fraction = match[3] ?? "";
  const power = Number(match[4] ?? 0) - fraction.length;
  const digits = BigInt(match[1]! + match[2]! + fraction);
  return power >= 0 ? [digits * 10n ** BigInt(power), 1n] : [digits, 10n ** BigInt(-power)];
}

function textOf(value: unknown): string {
  return value instanceof ExactNumber ? value.text : String(value);
}

describe("parseExactJson", () => {
  it("keeps the exact value of every number", () => {
    fc.assert(
      fc.property(numberToken, (token) => {
        const [a, b] = exactValue(token);
        const [c, d] = exactValue(textOf((parseExactJson(`{"n": [${token}]}`) as { n: unknown[] }).n[0]));
        expect(a * d).toBe(c * b);
      }),
      { numRuns: 500 },
    );
  });

  it("reads everything else as JSON.parse does", () => {
    fc.assert(
      fc.property(fc.jsonValue({ maxDepth: 4 }), fc.integer({ min: 0, max: 3 }), (value, indent) => {
        const text = JSON.stringify({ value, big: 1 }, null, indent).replace(
          '"big": 1',
          '"big": 12345678901234567890',
        );
        const parsed = parseExactJson(text) as { value: unknown };
        expect(stringifyExact(parsed.value)).toBe(JSON.stringify(JSON.parse(text).value));
      }),
    );
  });

  it("leaves text alone that looks like a number, or like the mark it uses itself", () => {
    const text = '{"a":"12345678901234567890","b":"\\u0000eb#1","c":"say \\"1e400\\"","d":9007199254740993}';
    const mark = String.fromCharCode(0);
    expect(parseExactJson(text)).toEqual({
      a: "12345678901234567890",
      b: `${mark}eb#1`,
      c: 'say "1e400"',
      d: 9007199254740993n,
    });
  });

  it("gives whole numbers beyond 2^53 as bigint, and others that float64 cannot hold with their digits", () => {
    const parsed = parseExactJson(
      "[9007199254740991, 9007199254740993, 0.12345678901234567890, 1e400]",
    ) as unknown[];
    expect(parsed.slice(0, 2)).toEqual([9007199254740991, 9007199254740993n]);
    expect(String(parsed[2])).toBe("0.12345678901234567890");
    expect(stringifyExact(parsed)).toBe("[9007199254740991,9007199254740993,0.12345678901234567890,1e400]");
  });

  it.each(["", "{", '{"a":01234567890123456789}', "[1,]", "[1.]", "[-]"])(
    "refuses %j as JSON.parse does",
    (text) => {
      expect(() => parseExactJson(text)).toThrow(SyntaxError);
    },
  );
});

describe("mayHoldInexactNumber", () => {
  it("never overlooks a number that parseExactJson would keep", () => {
    fc.assert(
      fc.property(
        fc.array(
          fc.oneof(
            numberToken,
            fc.jsonValue().map((value) => JSON.stringify(value)),
          ),
        ),
        (parts) => {
          const text = `[${parts.join(" , ")}]`;
          const kept = JSON.stringify(JSON.parse(text)) !== stringifyExact(parseExactJson(text));
          if (kept) expect(mayHoldInexactNumber(bytes(text), text)).toBe(true);
        },
      ),
    );
  });

  it("is not alarmed by dates, ids and phone numbers", () => {
    const text =
      '{"at":"2026-01-05T06:00:00.123456Z","id":"0f8fad5b-d9cb-469f-a165-70867728950e","phone":"+00 555 0100","n":1.5e10}';
    expect(mayHoldInexactNumber(bytes(text), text)).toBe(false);
  });

  it("is not alarmed by uuids, and by digits in quotes", () => {
    const text = `["5e123456-5e12-4e123-9e12-13e123456789", "12345678901234567890", "-1.2345678901234567", "x7e999"]`;
    expect(mayHoldInexactNumber(bytes(text), text)).toBe(false);
    fc.assert(
      fc.property(fc.array(fc.uuid()), (ids) => {
        const list = JSON.stringify(ids);
        expect(mayHoldInexactNumber(bytes(list), list)).toBe(false);
      }),
    );
  });
});

describe("JSON that is none, and texts that look like marks", () => {
  it.each([
    "{9999E9999:1}",
    "{12345678901234567890 :1}",
    '{"a":12345678901234567890"b"}',
    "[12345678901234567890 1]",
    '["open 12345678901234567890]',
    "[-]",
    "[1e999,]",
  ])("%s is refused", (text) => {
    expect(() => parseExactJson(text)).toThrow(SyntaxError);
  });

  it("keeps texts with U+0000 in front, whatever stands behind it", () => {
    const texts = ["\u0000", "\u000012345678901234567890", "\u0000\u00001", "\\u0000", "\u0000eb#1"];
    const json = `{"n":12345678901234567890,"texts":${JSON.stringify(texts)}}`;
    expect(parseExactJson(json)).toEqual({ n: 12345678901234567890n, texts });
  });

  it("reads a long text beside a long number", () => {
    const long = "x\\\\".repeat(4_000_000);
    const parsed = parseExactJson(`["${long}",12345678901234567890]`) as unknown[];
    expect(parsed[1]).toBe(12345678901234567890n);
    expect((parsed[0] as string).length).toBe(8_000_000);
  });
});
