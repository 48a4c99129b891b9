/** CSV and JSON Lines for the scanner, and cut into pieces: the same records as their decoders read. */

import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { tries } from "../../../test/support/long.js";
import { BY_ID } from "../../../test/support/outline-plans.js";
import { chooseDecoder } from "../decode/choose-decoder.js";
import { readCsv } from "../decode/csv.js";
import { CsvLines } from "../decode/csv-lines.js";
import { RowCutter } from "../decode/cut-rows.js";
import { jsonLinesDecoder } from "../decode/json-lines.js";
import type { CsvDefinition } from "../define/ask-schema.js";
import { stringifyExact } from "../shape/exact-json.js";
import { wholeRecord } from "./byte-records.js";
import { Outliner } from "./outline.js";

const encoder = new TextEncoder();
const numRuns = tries(1000, 5000);
const CSV: CsvDefinition = {
  delimiter: ",",
  quote: '"',
  header: true,
  encoding: "utf-8",
  skip_lines: 0,
  final_line_break: false,
};

/** Records, or the code of what is wrong. */
function decoded(csv: CsvDefinition, bytes: Uint8Array): unknown {
  try {
    return stringifyExact(readCsv(bytes, csv, {}));
  } catch (error) {
    return (error as { code: string }).code;
  }
}

const lineRecords = (bytes: Uint8Array) => stringifyExact(jsonLinesDecoder().decode(bytes, {})[0]);

const plainCell = fc.constantFrom("", "a", "1", "Hütte", " b ", "null", "\\", "\t", "😀", "c;d", "'");
const quotedCell = fc
  .constantFrom("", "a", 'say ""hi""', "two\nlines", "two\r\nlines", "1,5", "\u0001", "\\n", "ä")
  .map((text) => `"${text}"`);
const cell = fc.oneof(plainCell, quotedCell);

/** A body with such cells, and with what is odd about it. */
const body = fc
  .record({
    names: fc.array(fc.constantFrom("id", "name", "x", "", '"a ""b"""', "ü"), { minLength: 1, maxLength: 4 }),
    rows: fc.array(fc.array(cell, { minLength: 4, maxLength: 4 }), { maxLength: 6 }),
    eol: fc.constantFrom("\n", "\r\n"),
    start: fc.constantFrom("", "\ufeff", "\n", "\ufeff\n\n"),
    isEnded: fc.boolean(),
  })
  .map(({ names, rows, eol, start, isEnded }) => {
    const lines = [names, ...rows.map((row) => row.slice(0, names.length))].map((row) => row.join(","));
    return start.replaceAll("\n", eol) + lines.join(eol) + (isEnded ? eol : "");
  });

/** Somewhere in it, something that may not belong there. */
const oddBody = fc
  .tuple(body, fc.nat(), fc.constantFrom('"', "\n", "\r", ",", "x", "\n\n", '""', "\r\r"))
  .map(([text, at, odd]) => text.slice(0, at % (text.length + 1)) + odd + text.slice(at % (text.length + 1)));

describe("CSV as JSON Lines", () => {
  it("has the records that the decoder reads", () => {
    let taken = 0;
    fc.assert(
      fc.property(
        body,
        fc.constantFrom<Partial<CsvDefinition>>({}, { header: ["p", "q"] }),
        (text, varied) => {
          const csv = { ...CSV, ...varied };
          const bytes = encoder.encode(text);
          const lines = CsvLines.of(csv)!.lines(bytes);
          if (lines === undefined) return;
          taken++;
          expect(lineRecords(lines)).toBe(decoded(csv, bytes));
        },
      ),
      { numRuns },
    );
    expect(taken / numRuns).toBeGreaterThan(0.3);
  });

  it("has the same where something odd is in it, or leaves it to the decoder", () => {
    const variants: Partial<CsvDefinition>[] = [
      {},
      { quote: null },
      { skip_lines: 1 },
      { delimiter: ";" },
      { final_line_break: true },
      { header: ["p", "q"], skip_lines: 2 },
    ];
    fc.assert(
      fc.property(oddBody, fc.constantFrom(...variants), (text, varied) => {
        const csv = { ...CSV, ...varied };
        const bytes = encoder.encode(text);
        const lines = CsvLines.of(csv)!.lines(bytes);
        if (lines !== undefined) expect(lineRecords(lines)).toBe(decoded(csv, bytes));
      }),
      { numRuns },
    );
  });

  it.each([
    ["a row of another length", "id,name\n1\n"],
    ["a quote within a field", 'id,name\n1,5" disk\n'],
    ["a quoted field that goes on", 'id,name\n1,"a"b\n'],
    ["a field that breaks off", 'id,name\n1,"a'],
    ["two kinds of line ends", "id,name\n1,a\r\n2,b\n"],
    ["a web page", "<html>\n<body>\n"],
  ])("leaves %s to the decoder", (_, text) => {
    expect(CsvLines.of(CSV)!.lines(encoder.encode(text))).toBeUndefined();
  });

  it("takes other encodings and separators, and leaves unusual ones", () => {
    const latin = Uint8Array.of(...encoder.encode("name;n\nBj"), 0xf6, ...encoder.encode("rn;\n"));
    const lines = CsvLines.of({ ...CSV, encoding: "windows-1252", delimiter: ";" })!.lines(latin)!;
    expect(lineRecords(lines)).toBe('[{"name":"Björn","n":null}]');
    expect(CsvLines.of({ ...CSV, encoding: "utf-16le" })!.lines(latin.slice(1))).toBeUndefined();
    expect(CsvLines.of({ ...CSV, delimiter: "||" })).toBeUndefined();
    expect(CsvLines.of({ ...CSV, quote: "'" })).toBeUndefined();
  });
});

describe("records of JSON Lines", () => {
  it("are found line by line, or left to the decoder", () => {
    const line = fc.oneof(
      fc.integer().map((id) => `{"id":${id},"a":[1, {"b":"x\\n"}]}`),
      fc.constantFrom(
        "",
        "  ",
        '{"id":1}',
        '{"id":2} ',
        '{"id":\n3}',
        '{"id":4}{"id":5}',
        '{"id":',
        "[6]",
        "7",
      ),
    );
    fc.assert(
      fc.property(fc.array(line, { maxLength: 6 }), fc.constantFrom("\n", "\r\n"), (lines, eol) => {
        const bytes = encoder.encode(lines.join(eol));
        const outline = new Outliner({ ...BY_ID, form: "json_lines" }).outline(bytes);
        if (outline === undefined) return;
        const found = outline.starts.map((_, i) => wholeRecord(outline, i));
        expect(stringifyExact(found)).toBe(lineRecords(bytes));
        expect(outline.body).toEqual([]);
      }),
      { numRuns },
    );
    const bytes = encoder.encode('{"id":1}\n\n {"id":2}\r\n{"id":3}');
    expect(new Outliner({ ...BY_ID, form: "json_lines" }).outline(bytes)!.sketches).toEqual([
      { id: 1 },
      { id: 2 },
      { id: 3 },
    ]);
  });

  it("are those of CSV as well", () => {
    const outliner = new Outliner({ ...BY_ID, form: CsvLines.of(CSV)! });
    const outline = outliner.outline(encoder.encode('id,name\n1,"a\nb"\n2,\n'))!;
    expect(outline.starts.map((_, i) => wholeRecord(outline, i))).toEqual([
      { id: "1", name: "a\nb" },
      { id: "2", name: null },
    ]);
  });
});

describe("pieces of a long body", () => {
  function piecesOf(csv: CsvDefinition | undefined, bytes: Uint8Array, size: number, chunk: number) {
    const cutter = new RowCutter(csv, size);
    const pieces = [];
    for (let at = 0; at < bytes.length; at += chunk)
      pieces.push(cutter.push(bytes.slice(at, at + chunk)) ?? []);
    return [...pieces.flat(), cutter.end()];
  }

  it("have the records of the whole, wherever CSV is cut", () => {
    const variants: Partial<CsvDefinition>[] = [
      {},
      { header: ["p", "q"] },
      { skip_lines: 1 },
      { quote: null },
    ];
    const sizes = fc.tuple(fc.integer({ min: 1, max: 40 }), fc.integer({ min: 1, max: 20 }));
    let several = 0;
    fc.assert(
      fc.property(body, fc.constantFrom(...variants), sizes, (text, varied, [size, chunk]) => {
        const csv = { ...CSV, ...varied };
        const bytes = encoder.encode(text);
        const whole = decoded(csv, bytes);
        const pieces = piecesOf(csv, bytes, size, chunk);
        const parts = pieces.map((piece) => decoded(csv, piece.bytes));
        const wrong = parts.find((part) => !String(part).startsWith("["));
        if (pieces.length > 2) several++;
        expect(
          wrong ??
            `[${parts
              .map((part) => String(part).slice(1, -1))
              .filter(Boolean)
              .join(",")}]`,
        ).toBe(whole);
      }),
      { numRuns },
    );
    expect(several).toBeGreaterThan(numRuns / 10);
  });

  it("know their lines, and end old files of carriage returns, too", () => {
    const cut = (text: string) =>
      piecesOf(CSV, encoder.encode(text), 8, 3).map(({ bytes, linesBefore }) => [
        new TextDecoder().decode(bytes),
        linesBefore,
      ]);
    expect(cut('id,a\n1,"x\ny"\n2,b\n3,c')).toEqual([
      ["id,a\n", 0],
      ['id,a\n1,"x\ny"\n', 1],
      ["id,a\n2,b\n3,c", 3],
    ]);
    expect(cut("id,a\r1,x\r2,b\r3")[1]).toEqual(["id,a\r1,x\r2,b\r", 1]);
  });

  it("of JSON Lines have every line once", () => {
    const decoder = chooseDecoder("json_lines", []);
    const line = fc.constantFrom('{"id":1}', "", '{"a":"\\n\\""}', '{"broken":', "\r");
    fc.assert(
      fc.property(fc.array(line, { maxLength: 12 }), fc.nat({ max: 30 }), (lines, size) => {
        const bytes = encoder.encode(`${lines.join("\n")}\n`);
        const parts = piecesOf(undefined, bytes, size + 1, 7).flatMap((piece) =>
          decoder.decode(piece.bytes, {}),
        );
        expect(parts.flat()).toEqual(decoder.decode(bytes, {}).flat());
      }),
      { numRuns },
    );
  });
});
