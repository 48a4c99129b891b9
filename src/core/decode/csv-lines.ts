/**
 * CSV (RFC 4180) in bytes as JSON Lines in bytes, for the scanner. Only what is of the usual form: rows that are all as
 * long as the header, quotes where they belong, one kind of line end. Anything else is left to the plain reader.
 */

import type { CsvDefinition } from "../define/ask-schema.js";
import { columnNames } from "./rows.js";

const [LF, CR, QUOTE, SLASH, LESS] = [10, 13, 34, 92, 60] as const;
const encoder = new TextEncoder();
const decoder = new TextDecoder();
const NULL = encoder.encode("null");
/** A byte of a text takes no more than `\u00` and two digits. */
const LONGEST_ESCAPE = 6;
const HEX = encoder.encode("0123456789abcdef");

/** Makes JSON Lines of pages; made once for a stream. */
export class CsvLines {
  /** how much longer the last page became */
  private growth = 2;

  private constructor(
    private readonly csv: CsvDefinition,
    private readonly delimiter: number,
  ) {}

  /** undefined where the connector declares a form that is not the usual one */
  static of(csv: CsvDefinition): CsvLines | undefined {
    const delimiter = csv.delimiter.charCodeAt(0);
    const isUsual = csv.delimiter.length === 1 && delimiter < 128 && !'"\r\n'.includes(csv.delimiter);
    if (!isUsual || (csv.quote !== null && csv.quote !== '"')) return undefined;
    return new CsvLines(csv, delimiter);
  }

  /** undefined where the page is not of the usual form */
  lines(body: Uint8Array): Uint8Array | undefined {
    const { csv, delimiter } = this;
    const bytes = inUtf8(body, csv.encoding);
    if (bytes === undefined || (csv.final_line_break && bytes.at(-1) !== LF)) return undefined;
    const from = behindSkipped(bytes, csv.skip_lines);
    if (from < 0 || isMarkup(bytes, from)) return undefined;
    const quote = csv.quote === null ? NO_QUOTE : QUOTE;
    // the lines before it end like the others
    const lineEnd = csv.skip_lines > 0 ? LF : undefined;
    const rows = new Rows(bytes, { delimiter, quote, lineEnd, room: Math.ceil(bytes.length * this.growth) });
    const lines = rows.write(from, csv.header);
    if (lines !== undefined) this.growth = Math.max(1, (lines.length / bytes.length) * 1.1);
    return lines;
  }
}

const NO_QUOTE = -1;

function inUtf8(body: Uint8Array, encoding: string): Uint8Array | undefined {
  if (/^utf-?8$/i.test(encoding)) return body;
  try {
    return encoder.encode(new TextDecoder(encoding, { fatal: true }).decode(body));
  } catch {
    return undefined;
  }
}

/** The place behind a byte order mark and the lines before the header; -1 where it is not clear where these end. */
function behindSkipped(bytes: Uint8Array, lines: number): number {
  const start = bytes[0] === 0xef && bytes[1] === 0xbb && bytes[2] === 0xbf ? 3 : 0;
  let at = start;
  for (let line = 0; line < lines; line++) {
    at = bytes.indexOf(LF, at) + 1;
    if (at === 0) return -1;
  }
  return /["\r]/.test(decoder.decode(bytes.subarray(start, at))) ? -1 : at;
}

/** A web page may look like rows of one field. */
function isMarkup(bytes: Uint8Array, from: number): boolean {
  let at = from;
  while (bytes[at]! <= 32) at++;
  return bytes[at] === LESS;
}

const keyBytes = (name: string, isFirst: boolean) =>
  encoder.encode(`${isFirst ? "{" : ","}${JSON.stringify(name)}:`);

/** the end of a record and its line */
const END = encoder.encode("}\n");
const CONTROL = encoder.encode("\\u00");

interface RowOptions {
  readonly delimiter: number;
  readonly quote: number;
  /** how lines end, where it is known */
  readonly lineEnd: LineEnd | undefined;
  /** bytes that they will take, about */
  readonly room: number;
}

type LineEnd = typeof LF | typeof CR;

/** One page's rows. */
class Rows {
  private out: Uint8Array;
  private size = 0;
  /** by byte: whether it stands for itself, whatever is around it */
  private readonly isPlain = new Uint8Array(256);
  /** how lines end: known from the first one on */
  private lineEnd: LineEnd | undefined;

  private readonly delimiter: number;
  private readonly quote: number;

  constructor(
    private readonly bytes: Uint8Array,
    { delimiter, quote, lineEnd, room }: RowOptions,
  ) {
    this.delimiter = delimiter;
    this.quote = quote;
    this.lineEnd = lineEnd;
    for (let byte = 32; byte < 256; byte++)
      if (byte !== delimiter && byte !== QUOTE && byte !== SLASH) this.isPlain[byte] = 1;
    this.out = new Uint8Array(room + 64);
  }

  /** Rows as JSON Lines; undefined where one is not as it should be. */
  write(from: number, header: CsvDefinition["header"]): Uint8Array | undefined {
    const { bytes } = this;
    let at = this.behindEmptyLines(from);
    const names: unknown[] = header === true ? [] : header;
    if (header === true) at = this.header(at, names);
    const keys = columnNames(names).map((name, i) => keyBytes(name, i === 0));
    while (at >= 0) {
      at = this.behindEmptyLines(at);
      if (at < 0) return undefined;
      if (at >= bytes.length) return this.out.subarray(0, this.size);
      at = this.row(at, keys);
    }
    return undefined;
  }

  /** Reads names; gives the place behind their line, or -1. */
  private header(from: number, names: unknown[]): number {
    let at = from;
    for (;;) {
      this.size = 0;
      at = this.field(at);
      if (at < 0) return -1;
      names.push(JSON.parse(decoder.decode(this.out.subarray(0, this.size))));
      this.size = 0;
      if (this.bytes[at] !== this.delimiter) return this.behindLine(at);
      at++;
    }
  }

  /** The place behind a row, or -1. */
  private row(from: number, keys: readonly Uint8Array[]): number {
    let at = from;
    for (let i = 0; i < keys.length; i++) {
      if (i > 0 && this.bytes[at++] !== this.delimiter) return -1;
      this.putAll(keys[i]!);
      at = this.field(at);
      if (at < 0) return -1;
    }
    this.putAll(END);
    return this.behindLine(at);
  }

  /** A field as JSON; the place behind it, where a delimiter or the end of a line has to be; or -1. */
  private field(from: number): number {
    const { bytes, delimiter, quote } = this;
    if (bytes[from] === quote) return this.quoted(from + 1);
    const first = bytes[from];
    if (first === undefined || first === delimiter || first === LF || first === CR) {
      this.putAll(NULL);
      return from;
    }
    this.putQuote();
    for (let at = from; ; at++) {
      at = this.putRun(at);
      const byte = bytes[at];
      if (byte === quote) return -1;
      if (byte === undefined || byte === delimiter || byte === LF || byte === CR) {
        this.putQuote();
        return at;
      }
      this.put(byte);
    }
  }

  private quoted(from: number): number {
    const { bytes, quote } = this;
    this.putQuote();
    for (let at = from; ; at++) {
      at = this.putRun(at);
      const byte = bytes[at];
      if (byte === undefined) return -1;
      if (byte === quote && bytes[++at] !== quote) {
        this.putQuote();
        return at;
      }
      this.put(byte);
    }
  }

  /** Bytes that stand for themselves; the place behind them. */
  private putRun(from: number): number {
    const { bytes, isPlain } = this;
    let at = from;
    while (isPlain[bytes[at]!] === 1) at++;
    this.ensure(at - from);
    const { out } = this;
    let { size } = this;
    for (let i = from; i < at; i++) out[size++] = bytes[i]!;
    this.size = size;
    return at;
  }

  private putQuote(): void {
    this.ensure(1);
    this.out[this.size++] = QUOTE;
  }

  /** A byte of a text. */
  private put(byte: number): void {
    this.ensure(LONGEST_ESCAPE);
    const { out } = this;
    if (byte >= 32 && byte !== QUOTE && byte !== SLASH) out[this.size++] = byte;
    else if (byte >= 32) {
      out[this.size++] = SLASH;
      out[this.size++] = byte;
    } else {
      out.set(CONTROL, this.size);
      out[this.size + CONTROL.length] = HEX[byte >> 4]!;
      out[this.size + CONTROL.length + 1] = HEX[byte & 15]!;
      this.size += LONGEST_ESCAPE;
    }
  }

  private putAll(bytes: Uint8Array): void {
    this.ensure(bytes.length);
    const { out, size } = this;
    // short ones: a call of `set` takes longer
    for (let i = 0; i < bytes.length; i++) out[size + i] = bytes[i]!;
    this.size = size + bytes.length;
  }

  private ensure(room: number): void {
    if (this.size + room <= this.out.length) return;
    const longer = new Uint8Array(this.out.length * 2 + room);
    longer.set(this.out);
    this.out = longer;
  }

  private behindEmptyLines(from: number): number {
    let at = from;
    while (at >= 0 && at < this.bytes.length && (this.bytes[at] === LF || this.bytes[at] === CR))
      at = this.behindLine(at);
    return at;
  }

  /** The place behind the end of a line; -1 where it is none, or none of the first one's kind. */
  private behindLine(at: number): number {
    const { bytes } = this;
    if (at >= bytes.length) return at;
    const byte = bytes[at];
    if (byte !== LF && byte !== CR) return -1;
    this.lineEnd ??= byte;
    if (byte !== this.lineEnd) return -1;
    if (byte === LF) return at + 1;
    return bytes[at + 1] === LF ? at + 2 : -1;
  }
}
