/**
 * Cuts a long body of CSV or JSON Lines, while it comes, into pieces of whole rows. A decoder reads each of them like a
 * body of its own: pieces of CSV all begin with its header.
 */

import type { CsvDefinition } from "../define/ask-schema.js";

/** Some whole rows of a body. */
export interface RowPiece {
  readonly bytes: Uint8Array;
  /** CSV: lines of the body before them; those of a header that stands in front again count for none */
  readonly linesBefore: number;
}

const [LF, CR] = [10, 13] as const;
const BYTE_ORDER_MARK = [0xef, 0xbb, 0xbf];
const NOTHING = new Uint8Array();

/** How rows end: with the first line end outside of quotes it is clear for the rest. */
type LineEnd = "\n" | "\r" | "\r\n";

export class RowCutter {
  /** bytes that have come and stand in no piece yet */
  private held: Uint8Array = NOTHING;
  /** so far they are looked through */
  private seen = 0;
  /** behind the last whole row, of those */
  private rowEnd = 0;
  private isQuoted = false;
  private lineEnd: LineEnd | undefined;
  /** line ends outside of quotes, and all of them */
  private lines = 0;
  private allLines = 0;
  /** all of them in the pieces so far, and up to the last whole row */
  private linesCut = 0;
  private linesOfRows = 0;
  /** what stands in front of each piece but the first; undefined: the header is still to come */
  private head: Uint8Array | undefined;
  private isFirst = true;
  /** where the line at hand begins */
  private lineStart = 0;
  private readonly quote: number;
  private readonly skipLines: number;
  private readonly hasHeader: boolean;

  /**
   * `csv` as it is declared; undefined for JSON Lines. It must be in UTF-8, or in another encoding whose quotes and
   * line ends are those of ASCII. `pieceBytes`: a piece is about so long.
   */
  constructor(
    private readonly csv: CsvDefinition | undefined,
    private readonly pieceBytes: number,
  ) {
    this.quote = csv?.quote?.charCodeAt(0) ?? -1;
    this.skipLines = csv?.skip_lines ?? 0;
    this.hasHeader = csv?.header === true;
    if (!this.hasHeader && this.skipLines === 0) this.head = NOTHING;
  }

  /** bytes that no end of a row has come for yet */
  get waiting(): number {
    return this.held.length;
  }

  /** A piece, where enough has come for one. */
  push(chunk: Uint8Array): RowPiece | undefined {
    // Node's Buffer is another kind of array: code for both is slower
    this.held = join(this.held, new Uint8Array(chunk.buffer, chunk.byteOffset, chunk.length));
    if (this.held.length < this.pieceBytes) return undefined;
    this.look(false);
    return this.rowEnd === 0 || this.head === undefined ? undefined : this.cut(this.rowEnd);
  }

  /** What is left, a row that breaks off as well. */
  end(): RowPiece {
    this.look(true);
    return this.cut(this.held.length);
  }

  private cut(end: number): RowPiece {
    const rows = this.held.subarray(0, end);
    const bytes = this.isFirst ? rows : join(this.head ?? NOTHING, rows);
    const linesBefore = this.linesCut;
    this.held = this.held.subarray(end);
    this.seen -= end;
    this.lineStart -= end;
    this.rowEnd = 0;
    this.isFirst = false;
    this.linesCut = this.linesOfRows;
    return { bytes, linesBefore };
  }

  private look(isEnd: boolean): void {
    const { held, quote } = this;
    // a line end of two bytes may have come by half
    const until = isEnd ? held.length : held.length - 1;
    if (this.csv === undefined) {
      this.rowEnd = held.lastIndexOf(LF) + 1;
      return;
    }
    let at = this.seen;
    for (; at < until; at++) {
      const byte = held[at]!;
      if (byte !== quote && byte !== LF && byte !== CR) continue;
      if (byte === quote && this.lines >= this.skipLines) this.isQuoted = !this.isQuoted;
      if (byte === quote || !this.isLineEnd(at)) continue;
      this.allLines++;
      if (!this.isQuoted) this.endLine(at + 1);
    }
    this.seen = at;
  }

  private isLineEnd(at: number): boolean {
    const { held } = this;
    const isPair = held[at] === CR && held[at + 1] === LF;
    if (this.isQuoted && this.lineEnd === undefined) return false;
    this.lineEnd ??= held[at] === LF ? "\n" : isPair ? "\r\n" : "\r";
    if (this.lineEnd === "\r\n") return held[at] === LF && held[at - 1] === CR;
    return held[at] === (this.lineEnd === "\n" ? LF : CR);
  }

  private endLine(end: number): void {
    this.lines++;
    this.linesOfRows = this.allLines;
    this.rowEnd = end;
    const line = this.head === undefined ? this.held.subarray(this.lineStart, end) : NOTHING;
    this.lineStart = end;
    if (this.head !== undefined || this.lines < this.skipLines) return;
    // empty lines before a header are passed over
    const isHeader = this.lines > this.skipLines && !isEmptyLine(line);
    if (isHeader || !this.hasHeader) this.head = this.held.slice(0, end);
  }
}

function isEmptyLine(line: Uint8Array): boolean {
  const from = BYTE_ORDER_MARK.every((byte, i) => line[i] === byte) ? BYTE_ORDER_MARK.length : 0;
  return line.subarray(from).every((byte) => byte === LF || byte === CR);
}

function join(left: Uint8Array, right: Uint8Array): Uint8Array {
  if (left.length === 0) return right;
  const both = new Uint8Array(left.length + right.length);
  both.set(left);
  both.set(right, left.length);
  return both;
}
