/** Rows as texts, as LOAD DATA reads them, or as the lists of values that an INSERT has. */

import {
  type ColumnBatch,
  hasValue,
  LENGTH_BYTES,
  type TableBatch,
  type Utf8Texts,
} from "../../core/shape/batch.js";
import { batchValue } from "../../core/shape/batch-rows.js";
import type { ColumnSchema } from "../../core/shape/table-shape.js";

const encoder = new TextEncoder();
const bytesOf = (text: string) => encoder.encode(text);

/** How a field and a row are written. */
interface RowForm {
  readonly before: Uint8Array;
  readonly between: Uint8Array;
  readonly after: Uint8Array;
  readonly nothing: Uint8Array;
  readonly quote: Uint8Array;
  /** what stands for a byte that means something else; 0: the byte itself */
  readonly escapes: Uint8Array;
}

function escapes(pairs: string): Uint8Array {
  const table = new Uint8Array(256);
  for (let i = 0; i < pairs.length; i += 2) table[pairs.charCodeAt(i)] = pairs.charCodeAt(i + 1);
  return table;
}

/** Fields between tabs, a row on each line, a backslash before what is escaped: as `FIELDS` of `LOAD_FORM` says. */
const LINES: RowForm = {
  before: bytesOf(""),
  between: bytesOf("\t"),
  after: bytesOf("\n"),
  nothing: bytesOf("\\N"),
  quote: bytesOf(""),
  escapes: escapes("\tt\nn\\\\\u00000"),
};

export const LOAD_FORM =
  "CHARACTER SET utf8mb4 FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n'";

const VALUES: RowForm = {
  before: bytesOf("("),
  between: bytesOf(","),
  after: bytesOf("),"),
  nothing: bytesOf("NULL"),
  quote: bytesOf("'"),
  escapes: escapes("''\\\\\u00000"),
};

const BACKSLASH = 92;

/** Writes the field of a row. */
type Put = (row: number) => void;

export class LoadRows {
  /** bytes so far */
  size = 0;
  private bytes = new Uint8Array(64 * 1024);

  private constructor(private readonly form: RowForm) {}

  static lines(): LoadRows {
    return new LoadRows(LINES);
  }

  static values(): LoadRows {
    return new LoadRows(VALUES);
  }

  /** Rows of a batch, each with the number of its record before its columns; `onRow` may take what is there by then. */
  add(
    { rows, recordOf, columns }: TableBatch,
    firstSeq: number,
    schema: readonly ColumnSchema[],
    onRow?: () => void,
  ): void {
    const { before, between, after } = this.form;
    const byName = new Map(columns.map((column) => [column.name, column]));
    const puts = schema.map(({ name }) => this.putOf(byName.get(name)));
    for (let row = 0; row < rows; row++) {
      this.write(before);
      this.write(bytesOf(String(firstSeq + recordOf[row]!)));
      for (const put of puts) {
        this.write(between);
        put(row);
      }
      this.write(after);
      onRow?.();
    }
  }

  /** All that was added; then it is empty again. */
  take(): Uint8Array {
    const all = this.bytes.slice(0, this.size);
    this.size = 0;
    return all;
  }

  private putOf(column: ColumnBatch | undefined): Put {
    const { nothing } = this.form;
    if (column === undefined) return () => this.write(nothing);
    const put = this.putValue(column);
    return (row) => (hasValue(column.validity, row) ? put(row) : this.write(nothing));
  }

  private putValue(column: ColumnBatch): Put {
    const { quote } = this.form;
    const { utf8 } = column;
    const text = utf8 === undefined ? undefined : this.putUtf8(utf8);
    return (row) => {
      this.write(quote);
      if (text === undefined) this.escape(bytesOf(fieldText(column, row)));
      else text(row);
      this.write(quote);
    };
  }

  private putUtf8({ bytes, ends }: Utf8Texts): Put {
    return (row) => this.escape(bytes, (row === 0 ? 0 : ends[row - 1]!) + LENGTH_BYTES, ends[row]!);
  }

  private ensure(room: number): void {
    const needed = this.size + room;
    if (needed <= this.bytes.length) return;
    const longer = new Uint8Array(Math.max(this.bytes.length * 2, needed));
    longer.set(this.bytes.subarray(0, this.size));
    this.bytes = longer;
  }

  private write(part: Uint8Array): void {
    this.ensure(part.length);
    this.bytes.set(part, this.size);
    this.size += part.length;
  }

  private escape(from: Uint8Array, start = 0, end = from.length): void {
    this.ensure((end - start) * 2);
    const { bytes } = this;
    const { escapes: table } = this.form;
    let at = this.size;
    for (let i = start; i < end; i++) {
      const byte = from[i]!;
      const escaped = table[byte]!;
      if (escaped !== 0) bytes[at++] = BACKSLASH;
      bytes[at++] = escaped === 0 ? byte : escaped;
    }
    this.size = at;
  }
}

/** A value as the server reads it. */
function fieldText(column: ColumnBatch, row: number): string {
  const value = batchValue(column, row);
  if (typeof value === "boolean") return value ? "1" : "0";
  if (Object.is(value, -0)) return "-0";
  const text = String(value);
  return column.type.kind.endsWith("timestamp") ? text.replace("T", " ").replace("Z", "") : text;
}
