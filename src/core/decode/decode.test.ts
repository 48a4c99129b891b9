import { gzipSync, strToU8, zipSync } from "fflate";
import { describe, expect, it } from "vitest";
import { readPage } from "../ask/read-page.js";
import { unpack } from "../decode/unpack.js";
import type { ResponseDefinition } from "../define/ask-schema.js";
import { compileJsonPath } from "../language/json-path.js";
import { chooseDecoder } from "./choose-decoder.js";
import { namedRows } from "./rows.js";

const bytesOf = (text: string) => new TextEncoder().encode(text);

const CSV = {
  delimiter: ",",
  quote: '"',
  header: true as const,
  encoding: "utf-8",
  skip_lines: 0,
  final_line_break: false,
};

function records(response: ResponseDefinition, body: string | Uint8Array, path = "$[*]"): unknown {
  const bytes = typeof body === "string" ? new TextEncoder().encode(body) : body;
  const plan = {
    stream: "s",
    decoder: chooseDecoder(response, [path]),
    records: [compileJsonPath(path)],
    envelope: {},
  };
  return readPage({ body: bytes, headers: {} }, plan).records;
}

describe("CSV", () => {
  it.each([
    [
      "quotes, line breaks and empty fields",
      CSV,
      'a,b\r\n"x, ""y""\nz",\r\n"",1\r\n',
      [
        { a: 'x, "y"\nz', b: null },
        { a: "", b: "1" },
      ],
    ],
    ["a byte order mark and no line break at the end", CSV, "\ufeffa,b\n1,2", [{ a: "1", b: "2" }]],
    [
      "another delimiter, and lines before the header",
      { ...CSV, delimiter: ";", skip_lines: 2 },
      "Report\n\na;b\n1;2\n",
      [{ a: "1", b: "2" }],
    ],
    ["names of our own", { ...CSV, header: ["x", "y"] }, "1,2\n", [{ x: "1", y: "2" }]],
    ["quotes that mean nothing", { ...CSV, quote: null }, 'a,b\n5" pipe,2\n', [{ a: '5" pipe', b: "2" }]],
    ["a header alone", CSV, "a,b\n", []],
    ["nothing at all", CSV, "", []],
    // no table takes a list: it is kept in quarantine, whole
    ["a row with too many fields", CSV, "a,b\n1,2,3\n4,5\n6\n", [["1", "2", "3"], { a: "4", b: "5" }, ["6"]]],
  ])("reads %s", (_what, csv, text, expected) => {
    expect(records({ csv }, text)).toEqual(expected);
  });

  it("reads other encodings, and tells when it is another one than declared", () => {
    const latin = new Uint8Array([...strToU8("name\nBj"), 0xf6, ...strToU8("rn\n")]);
    expect(records({ csv: { ...CSV, encoding: "windows-1252" } }, latin)).toEqual([{ name: "Björn" }]);
    expect(() => records("csv", latin)).toThrow(expect.objectContaining({ code: "BODY_UNREADABLE" }));
  });

  it.each([
    ["csv", 'a,b\n"1,2', "BODY_TRUNCATED"],
    ["csv", "a,b\n1,2\n3", "BODY_TRUNCATED"],
    [{ csv: { ...CSV, final_line_break: true } }, "a,b\n1,2\n3,4", "BODY_TRUNCATED"],
    ["csv", "<!DOCTYPE html><title>Sign in</title>", "BODY_HTML"],
    ["json_lines", '{"id":1}\n{"id":', "BODY_TRUNCATED"],
    ["xml", "<a><b>1</b>", "BODY_TRUNCATED"],
    ["xml", "<a><b>1</", "BODY_TRUNCATED"],
    ["xml", "<a><b>1</c></a>", "BODY_UNREADABLE"],
    ["xml", "<html><title>Gateway</title></html>", "BODY_HTML"],
    ["json", new Uint8Array([0x1f, 0x8b, 8, 0, 1, 2, 3]), "BODY_TRUNCATED"],
  ] as [ResponseDefinition, string | Uint8Array, string][])(
    "tells what is wrong with %s %j",
    (answer, body, code) => {
      expect(() => records(answer, body)).toThrow(expect.objectContaining({ code }));
    },
  );
});

describe("JSON Lines", () => {
  it("keeps every digit, and a broken line for quarantine", () => {
    expect(records("json_lines", '{"id":9007199254740993}\n\n{"id":2,}\n{"id":3}\n')).toEqual([
      { id: 9007199254740993n },
      '{"id":2,}',
      { id: 3 },
    ]);
  });
});

describe("XML", () => {
  const path = "$.Envelope.Body.Items.Item[*]";
  const envelope = (inner: string) =>
    `<?xml version="1.0"?><e:Envelope xmlns:e="urn:e"><e:Body>${inner}</e:Body></e:Envelope>`;

  it("has elements and attributes in one tree, lists of one included", () => {
    expect(
      records(
        "xml",
        envelope(
          '<Items><x:Item id="7"><Name>A &amp; B</Name><Amount unit="kg">007.50</Amount></x:Item></Items>',
        ),
        path,
      ),
    ).toEqual([{ id: "7", Name: "A & B", Amount: { unit: "kg", text: "007.50" } }]);
    expect(records("xml", envelope("<Items><Item id='1'/><Item id='2'/></Items>"), path)).toEqual([
      { id: "1" },
      { id: "2" },
    ]);
  });

  it.each(["<Items></Items>", "<Items/>", ""])("knows an empty list in %j", (inner) => {
    expect(records("xml", envelope(inner), path)).toEqual([]);
  });

  it("has lists inside of records where they are declared", () => {
    const answer = { xml: { lists: ["Guest"] } };
    expect(records(answer, envelope("<Items><Item><Guest>Ana</Guest></Item></Items>"), path)).toEqual([
      { Guest: ["Ana"] },
    ]);
  });
});

describe("packed bodies", () => {
  const decoder = chooseDecoder("json_lines", []);

  it("are unpacked: gzip, and zip with all its entries", () => {
    expect(decoder.decode(gzipSync(strToU8('{"id":1}\n')), {})).toEqual([[{ id: 1 }]]);
    const zip = zipSync({
      "a.jsonl": strToU8('{"id":1}\n'),
      "more/": new Uint8Array(),
      "more/b.jsonl": strToU8('{"id":2}\n'),
    });
    expect(decoder.decode(zip, {})).toEqual([[{ id: 1 }], [{ id: 2 }]]);
    expect(records("json_lines", zip)).toEqual([{ id: 1 }, { id: 2 }]);
  });
});

describe("lists of values", () => {
  it("are named by their first row, or by names elsewhere in the response", () => {
    expect(namedRows([["id", "day"], [1, "x"], [2]], true)).toEqual([
      { id: 1, day: "x" },
      { id: 2, day: null },
    ]);
    expect(namedRows([], true)).toEqual([]);
    const names = { json: { names: "$.columns[*].name" } };
    expect(records(names, '{"columns":[{"name":"id"}],"rows":[[1],[2]]}', "$.rows[*]")).toEqual([
      { id: 1 },
      { id: 2 },
    ]);
  });
});

describe("values that share a name", () => {
  it.each([
    [
      "amount,amount,amount_2,,\n1,2,3,4,5\n",
      { amount: "1", amount_3: "2", amount_2: "3", column_4: "4", column_5: "5" },
    ],
    ["a,a\n1,2\n", { a: "1", a_2: "2" }],
  ])("keep apart in CSV: %j", (text, record) => {
    expect(chooseDecoder("csv", []).decode(bytesOf(text), {})).toEqual([[record]]);
  });

  it("keep apart in header rows", () => {
    expect(
      namedRows(
        [
          ["a", "b", "a"],
          [1, 2, 3],
        ],
        true,
      ),
    ).toEqual([{ a: 1, b: 2, a_2: 3 }]);
  });

  it("keep apart in XML: a child, an attribute and a text, with the blanks of each", () => {
    const xml = `<stays>
      <stay id="1" name="short"><name> long </name><text>own</text> mixed </stay>
      <stay id="2">  5</stay>
      <stay id="3">
      </stay>
    </stays>`;
    expect(chooseDecoder("xml", ["$.stays.stay[*]"]).decode(bytesOf(xml), {})).toEqual([
      {
        stays: {
          stay: [
            { id: "1", "@name": "short", name: " long ", text: "own", "#text": " mixed " },
            { id: "2", text: "  5" },
            { id: "3" },
          ],
        },
      },
    ]);
  });
});

describe("packed answers", () => {
  const packed = (text: string) => gzipSync(strToU8(text));
  const joined = (...parts: Uint8Array[]) => Uint8Array.from(parts.flatMap((part) => [...part]));
  const changed = (bytes: Uint8Array, at: number) =>
    bytes.map((byte, i) => (i === bytes.length + at ? byte ^ 1 : byte));
  const read = (bytes: Uint8Array) => chooseDecoder("json_lines", []).decode(bytes, {});

  it("of several members are read whole, with zeros behind them as well", () => {
    const two = joined(packed('{"id":1}\n'), packed('{"id":2}\n'));
    expect(read(two)).toEqual([[{ id: 1 }, { id: 2 }]]);
    expect(read(joined(two, new Uint8Array(512)))).toEqual([[{ id: 1 }, { id: 2 }]]);
  });

  it.each<[string, (bytes: Uint8Array) => Uint8Array]>([
    ["a wrong checksum", (bytes) => changed(bytes, -6)],
    ["a wrong length", (bytes) => changed(bytes, -2)],
    ["an end that is missing", (bytes) => bytes.subarray(0, -3)],
    ["a second member that breaks off", (bytes) => joined(bytes, bytes.subarray(0, -9))],
    ["something else behind it", (bytes) => joined(bytes, Uint8Array.of(1, 2, 3))],
  ])("with %s are refused", (_what, damage) => {
    expect(() => read(damage(packed('{"id":1}\n')))).toThrow(/cannot be unpacked/);
  });

  it("as zip are refused where the checksum is wrong, and counted while they are unpacked", () => {
    const zip = zipSync({ "a.jsonl": new TextEncoder().encode('{"id":1}\n') }, { level: 0 });
    expect(read(zip)).toEqual([[{ id: 1 }]]);
    const at = new TextDecoder("latin1").decode(zip).indexOf('"id":1') + 5;
    expect(() => read(zip.map((byte, i) => (i === at ? byte ^ 1 : byte)))).toThrow(
      /checksum of a.jsonl is wrong/,
    );
    const zeros = new Uint8Array(3_000_000);
    for (const bomb of [gzipSync(zeros), zipSync({ zeros })])
      expect(() => unpack(bomb, {}, 1_000_000)).toThrow(/holds more than 1 MB when it is unpacked/);
  });
});
