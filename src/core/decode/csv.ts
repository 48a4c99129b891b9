/** CSV (RFC 4180), in the ways that APIs vary it. */

import { parse as parseCsvText } from "csv-parse/browser/esm/sync";
import type { CsvDefinition } from "../define/ask-schema.js";
import { BridgeError, type Where } from "../errors.js";
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
  return { kind: "csv", csv, inPieces: true, decode: (bytes, where) => [readCsv(bytes, csv, where)] };
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
