/**
 * Answers: a body's bytes into a tree of JSON values, whatever it is written in.
 *
 *   bytes ─▶ unpack (gzip, zip) ─▶ JSON · JSON Lines · CSV · XML ─▶ tree; records and tokens are found by JSONPath
 */

import { parse as parseCsvText } from "csv-parse/browser/esm/sync";
import { XMLParser, XMLValidator } from "fast-xml-parser";
import type { AnswerDefinition, CsvDefinition } from "../define/ask-schema.js";
import { BridgeError, type Where } from "../errors.js";
import { mayHoldInexactNumber, parseExactJson } from "../shape/exact-json.js";
import { compileJsonPath, type JsonPath } from "./json-path.js";
import { unpack } from "./unpack.js";

/** How a body is read; compiled once for each stream. */
export type AnswerPlan =
  | { readonly kind: "json"; readonly headerRow?: true | undefined; readonly names?: JsonPath | undefined }
  | { readonly kind: "json_lines" }
  | { readonly kind: "csv"; readonly csv: CsvDefinition }
  | { readonly kind: "xml"; readonly parser: XMLParser };

const CSV_DEFAULTS: CsvDefinition = {
  delimiter: ",",
  quote: '"',
  header: true,
  encoding: "utf-8",
  skip_lines: 0,
  final_line_break: false,
};

/** `records` tells which XML elements are lists even where there is one only. */
export function compileAnswer(answer: AnswerDefinition, records: readonly string[]): AnswerPlan {
  if (answer === "json_lines") return { kind: "json_lines" };
  if (answer === "csv") return { kind: "csv", csv: CSV_DEFAULTS };
  if (answer === "xml") return { kind: "xml", parser: xmlParser(records, []) };
  if (answer === "json") return { kind: "json" };
  if ("csv" in answer) return { kind: "csv", csv: answer.csv };
  if ("xml" in answer) return { kind: "xml", parser: xmlParser(records, answer.xml.lists) };
  const { header_row: headerRow, names } = answer.json;
  return { kind: "json", headerRow, names: names === undefined ? undefined : compileJsonPath(names) };
}

/**
 * The tree of a body. A zip file with several entries gives one tree for each.
 * @throws BridgeError BODY_HTML, BODY_TRUNCATED, BODY_NOT_JSON, BODY_UNREADABLE, BODY_TOO_LARGE
 */
export function readAnswer(bytes: Uint8Array, plan: AnswerPlan, where: Where = {}): unknown[] {
  return unpack(bytes, where).map((body) => readOne(body, plan, where));
}

function readOne(bytes: Uint8Array, plan: AnswerPlan, where: Where): unknown {
  switch (plan.kind) {
    case "json":
      return parseBody(bytes, where);
    case "json_lines":
      return readLines(bytes, where);
    case "csv":
      return readCsv(bytes, plan.csv, where);
    case "xml":
      return readXml(bytes, plan.parser, where);
  }
}

const utf8 = new TextDecoder("utf-8", { fatal: true });

/** JSON of a response body, every digit kept. */
export function parseBody(bytes: Uint8Array, where: Where): unknown {
  const first = bytes[firstNonBlank(bytes)];
  if (first === 60) throw webPage(bytes, "JSON", where);
  if (first === undefined)
    throw new BridgeError("BODY_TRUNCATED", "JSON was expected, nothing came.", { where });
  try {
    const text = utf8.decode(bytes);
    return mayHoldInexactNumber(bytes, text) ? parseExactJson(text) : JSON.parse(text);
  } catch (cause) {
    const last = bytes[lastNonBlank(bytes)];
    if ((first === 123 && last !== 125) || (first === 91 && last !== 93)) {
      const message = `The JSON breaks off after ${bytes.length} bytes.`;
      throw new BridgeError("BODY_TRUNCATED", message, { where, cause });
    }
    const message = `The response is not valid JSON; it begins: ${beginOf(bytes)}`;
    throw new BridgeError("BODY_NOT_JSON", message, { where, cause });
  }
}

function webPage(bytes: Uint8Array, expected: string, where: Where): BridgeError {
  const title = /<title[^>]*>([^<]*)/i.exec(new TextDecoder().decode(bytes.subarray(0, 4096)))?.[1]?.trim();
  const seen = title === undefined || title === "" ? "a web page" : `a web page titled "${title}"`;
  const hint = /sign.?in|log.?in/i.test(title ?? "")
    ? "Check the sign-in, then the base URL: a page for signing in answered, not the API."
    : undefined;
  return new BridgeError("BODY_HTML", `${expected} was expected, ${seen} came.`, { where, hint });
}

function isWebPage(text: string): boolean {
  return /^\s*(<!doctype html|<html)/i.test(text);
}

function beginOf(bytes: Uint8Array): string {
  return new TextDecoder().decode(bytes.subarray(0, 60)).replaceAll(/\s+/g, " ");
}

/**
 * JSON Lines: one record on each line. A line that is no JSON becomes a text, which no table takes: it is
 * kept in quarantine, and the others go on. A last line that breaks off is a broken answer.
 */
function readLines(bytes: Uint8Array, where: Where): unknown[] {
  const text = decodeText(bytes, "utf-8", where);
  if (isWebPage(text)) throw webPage(bytes, "JSON Lines", where);
  return linesToRecords(text.split("\n"), where);
}

/** Records of whole lines; only the last of them may be the broken end of a response. */
export function linesToRecords(lines: readonly string[], where: Where): unknown[] {
  const records: unknown[] = [];
  for (const [i, line] of lines.entries()) {
    if (line.trim() === "") continue;
    try {
      records.push(parseExactJson(line));
    } catch (cause) {
      if (i === lines.length - 1)
        throw new BridgeError("BODY_TRUNCATED", "The last line of the response breaks off.", {
          where,
          cause,
        });
      records.push(line);
    }
  }
  return records;
}

function decodeText(bytes: Uint8Array, encoding: string, where: Where): string {
  try {
    return new TextDecoder(encoding, { fatal: true }).decode(bytes);
  } catch (cause) {
    throw new BridgeError("BODY_UNREADABLE", `The response is not written in ${encoding}.`, { where, cause });
  }
}

/** Lines as lists of values; an empty field without quotes is null. */
export function csvOptions(csv: CsvDefinition) {
  return {
    delimiter: csv.delimiter,
    quote: csv.quote,
    bom: true,
    from_line: csv.skip_lines + 1,
    skip_empty_lines: true,
    relax_column_count: true,
    cast: (value: string, { quoting }: { readonly quoting: boolean }) =>
      value === "" && !quoting ? null : value,
  };
}

function readCsv(bytes: Uint8Array, csv: CsvDefinition, where: Where): unknown[] {
  const text = decodeText(bytes, csv.encoding, where);
  if (isWebPage(text)) throw webPage(bytes, "CSV", where);
  const isEnded = text === "" || text.endsWith("\n");
  if (csv.final_line_break && !isEnded) throw brokenOff(where);
  const rows = parseCsv(text, csv, where);
  const header = csv.header === true ? rows.shift() : csv.header;
  if (header === undefined) return [];
  const names = columnNames(header);
  const last = rows[rows.length - 1];
  if (last !== undefined && last.length < names.length && !isEnded) throw brokenOff(where);
  return rows.map((row) => nameFields(row, names));
}

function parseCsv(text: string, csv: CsvDefinition, where: Where): unknown[][] {
  try {
    return parseCsvText(text, csvOptions(csv)) as unknown as unknown[][];
  } catch (cause) {
    throw csvError(cause, where);
  }
}

export function csvError(cause: unknown, where: Where): BridgeError {
  const { code, message } = cause as { code?: string; message: string };
  if (code === "CSV_MAX_RECORD_SIZE")
    return new BridgeError("BODY_TOO_LARGE", "A row of the CSV is longer than any real one.", {
      where,
      cause,
    });
  if (code === "CSV_QUOTE_NOT_CLOSED")
    return new BridgeError("BODY_TRUNCATED", "The CSV breaks off inside a quoted field.", { where, cause });
  return new BridgeError("BODY_UNREADABLE", `The response is not valid CSV: ${message}.`, { where, cause });
}

export function brokenOff(where: Where): BridgeError {
  return new BridgeError("BODY_TRUNCATED", "The CSV breaks off in its last line.", { where });
}

/** A row of CSV has a field for each name; any other stays a list: it is kept in quarantine. */
export function nameFields(row: readonly unknown[], names: readonly unknown[]): unknown {
  return row.length === names.length ? nameValues(row, names) : row;
}

/**
 * Lists of values as objects; the names are given, or in the first list. A list of another length stays a
 * list: no table takes it, so it is kept in quarantine.
 */
export function namedRows(rows: readonly unknown[], header: true | readonly unknown[]): unknown[] {
  const given = (header === true ? rows[0] : header) as readonly unknown[] | undefined;
  const from = header === true ? 1 : 0;
  if (!Array.isArray(given)) return [];
  const names = columnNames(given);
  return rows.slice(from).map((row) => nameValues(row, names));
}

/** The names of a header row, each once: a name that comes again gets a number, one that is empty its place. */
export function columnNames(header: readonly unknown[]): string[] {
  const names = new Set<string>();
  const given = new Set(header.map(String));
  for (const [i, raw] of header.entries()) {
    const name = raw === null || raw === "" ? `column_${i + 1}` : String(raw);
    let unique = name;
    for (let n = 2; names.has(unique) || (unique !== name && given.has(unique)); n++) unique = `${name}_${n}`;
    names.add(unique);
  }
  return [...names];
}

export function nameValues(row: unknown, names: readonly unknown[]): unknown {
  if (!Array.isArray(row) || row.length > names.length) return row;
  // services that give lists of values leave out the empty ones at the end
  return Object.fromEntries(names.map((name, i) => [String(name), row[i] ?? null]));
}

/** Marks that no element can be called by: what is an attribute, and the text of an element that has more than that. */
const ATTRIBUTE = "@";
const TEXT = "#text";

/** Elements and attributes in one tree, without name-space prefixes; every value stays text. */
function xmlParser(records: readonly string[], lists: readonly string[]): XMLParser {
  const recordLists = records.flatMap((path) => /^\$\.([A-Za-z0-9_.-]+)\[\*\]$/.exec(path)?.[1] ?? []);
  const isList = new Set([...recordLists, ...lists]);
  return new XMLParser({
    ignoreAttributes: false,
    attributeNamePrefix: ATTRIBUTE,
    trimValues: false,
    removeNSPrefix: true,
    parseTagValue: false,
    parseAttributeValue: false,
    textNodeName: TEXT,
    ignoreDeclaration: true,
    ignorePiTags: true,
    htmlEntities: true,
    isArray: (_name, path, _leaf, isAttribute) => {
      const text = String(path);
      // a list inside of records is named from the record on
      return (
        !isAttribute &&
        (isList.has(text) || recordLists.some((list) => isList.has(text.slice(list.length + 1))))
      );
    },
  });
}

function readXml(bytes: Uint8Array, parser: XMLParser, where: Where): unknown {
  const declared = /^<\?xml[^>]*encoding=["']([\w-]+)["']/.exec(
    new TextDecoder("latin1").decode(bytes.subarray(0, 200)),
  )?.[1];
  const text = decodeText(bytes, declared ?? "utf-8", where);
  if (isWebPage(text)) throw webPage(bytes, "XML", where);
  const valid = XMLValidator.validate(text);
  if (valid !== true) {
    const { msg, line } = valid.err;
    const cut = !/>\s*$/.test(text) || /^Unclosed/.test(msg);
    const message = cut
      ? `The XML breaks off after ${bytes.length} bytes.`
      : `The response is not valid XML: ${msg} (line ${line}).`;
    throw new BridgeError(cut ? "BODY_TRUNCATED" : "BODY_UNREADABLE", message, { where });
  }
  try {
    return withPlainNames(parser.parse(text));
  } catch (cause) {
    // the package has limits for what nests, and for entities
    const message = `The XML cannot be read: ${(cause as Error).message}.`;
    throw new BridgeError("BODY_UNREADABLE", message, { where, cause });
  }
}

/**
 * The tree with plain names: an attribute is called as it is, and an element's own text `text`, unless a child has that
 * name. Blanks between elements are no text.
 */
function withPlainNames(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(withPlainNames);
  if (typeof value === "string") return /^\s*\n\s*$/.test(value) ? "" : value;
  if (typeof value !== "object" || value === null) return value;
  const children = new Map(Object.entries(value));
  const hasElements = [...children.keys()].some((name) => name !== TEXT && !name.startsWith(ATTRIBUTE));
  const plain: Record<string, unknown> = {};
  for (const [name, child] of children) {
    if (name === TEXT && /^\s*$/.test(String(child)) && (hasElements || String(child).includes("\n")))
      continue;
    const bare = name === TEXT ? "text" : name.startsWith(ATTRIBUTE) ? name.slice(ATTRIBUTE.length) : name;
    const isTaken = bare !== name && (children.has(bare) || Object.hasOwn(plain, bare));
    plain[isTaken ? name : bare] = withPlainNames(child);
  }
  return plain;
}

function firstNonBlank(bytes: Uint8Array): number {
  let at = 0;
  // blanks of RFC 8259, and the byte order mark that some servers send
  while (
    at < bytes.length &&
    (bytes[at]! <= 32 || bytes[at]! === 0xef || bytes[at]! === 0xbb || bytes[at]! === 0xbf)
  ) {
    at++;
  }
  return at;
}

function lastNonBlank(bytes: Uint8Array): number {
  let at = bytes.length - 1;
  while (at > 0 && bytes[at]! <= 32) at--;
  return at;
}
