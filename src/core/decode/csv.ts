/** CSV (RFC 4180), in the ways that APIs vary it. */

import { parse as parseCsvText } from "csv-parse/browser/esm/sync";
import type { CsvDefinition } from "../define/ask-schema.js";
import { BridgeError, type Where } from "../errors.js";
import { CsvLines } from "./csv-lines.js";
import type { BodyDecoder } from "./decoder.js";
import { columnNames, nameFields } from "./rows.js";
import { decodeText, isWebPage, webPage } from "./text.js";

export interface CsvDecoder extends BodyDecoder<"csv"> {
  readonly csv: CsvDefinition;
}

const CSV_DEFAULTS: CsvDefinition = {
  delimiter: ",",
  quote: '"',
  header: true,
  encoding: "utf-8",
  skip_lines: 0,
  final_line_break: false,
};

/** Reads CSV, by default with a header and commas; records are objects of text and null. */
export function csvDecoder(csv: CsvDefinition = CSV_DEFAULTS): CsvDecoder {
  const lines = CsvLines.of(csv);
  const decode = (bytes: Uint8Array, where: Where) => [
    readLines(lines?.lines(bytes), where) ?? readCsv(bytes, csv, where),
  ];
  return { kind: "csv", csv, inPieces: true, decode };
}

/** What is of the usual form has been made JSON Lines: that is read many times as fast. */
function readLines(lines: Uint8Array | undefined, where: Where): unknown[] | undefined {
  if (lines === undefined) return undefined;
  const text = decodeText(lines, "utf-8", where);
  return JSON.parse(`[${text.slice(0, -1).replaceAll("\n", ",")}]`) as unknown[];
}

/** Records of CSV in any form that can be read. */
export function readCsv(bytes: Uint8Array, csv: CsvDefinition, where: Where): unknown[] {
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

/** Lines as lists of values; an empty field without quotes is null. */
function parseCsv(text: string, csv: CsvDefinition, where: Where): unknown[][] {
  const options = {
    delimiter: csv.delimiter,
    quote: csv.quote,
    bom: true,
    from_line: csv.skip_lines + 1,
    skip_empty_lines: true,
    relax_column_count: true,
  };
  try {
    // it takes the package ten times as long to tell quoted fields from others
    if (!mayHaveQuotedEmpty(text, csv))
      return parseCsvText(text, options).map((row) => row.map((value) => (value === "" ? null : value)));
    const cast = (value: string, { quoting }: { readonly quoting: boolean }) =>
      value === "" && !quoting ? null : value;
    return parseCsvText(text, { ...options, cast }) as unknown as unknown[][];
  } catch (cause) {
    throw csvError(cause, where);
  }
}

function mayHaveQuotedEmpty(text: string, { quote, delimiter }: CsvDefinition): boolean {
  if (quote === null) return false;
  for (let at = text.indexOf(quote + quote); at >= 0; at = text.indexOf(quote + quote, at + 1)) {
    const before = text.slice(Math.max(0, at - delimiter.length), at);
    if (before === delimiter || at === 0 || /[\r\n\ufeff]$/.test(before)) return true;
  }
  return false;
}

function csvError(cause: unknown, where: Where): BridgeError {
  const { code, message } = cause as { code?: string; message: string };
  if (code === "CSV_QUOTE_NOT_CLOSED")
    return new BridgeError("BODY_TRUNCATED", "The CSV breaks off inside a quoted field.", { where, cause });
  return new BridgeError("BODY_UNREADABLE", `The response is not valid CSV: ${message}.`, { where, cause });
}

export function brokenOff(where: Where): BridgeError {
  return new BridgeError("BODY_TRUNCATED", "The CSV breaks off in its last line.", { where });
}
