/** Rows as texts, as LOAD DATA reads them, or as the lists of values that an INSERT has. */

import { type ColumnBatch, hasValue, LENGTH_BYTES, type TableBatch } from "../../core/shape/batch.js";
import { batchValue } from "../../core/shape/batch-rows.js";
import type { ColumnSchema } from "../../core/shape/table-shape.js";
import { ByteWriter } from "./byte-writer.js";

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
  private readonly out = new ByteWriter();

  private constructor(private readonly form: RowForm) {}

  static lines(): LoadRows {
    return new LoadRows(LINES);
  }

  /** `word`: what is put before each row */
  static values(word: string): LoadRows {
    return new LoadRows({ ...VALUES, before: bytesOf(`${word}(`) });
  }

  /** bytes so far */
  get size(): number {
    return this.out.size;
  }

  /** All that was added; then it is empty again. */
  take(): Uint8Array {
    return this.out.take();
  }

  /** Rows of a batch, each with the number of its record before its columns; `onRow` may take what is there by then. */
  add(
    { rows, recordOf, columns }: TableBatch,
    firstSeq: number,
    schema: readonly ColumnSchema[],
    onRow?: () => void,
  ): void {
    const { out } = this;
    const { before, between, after } = this.form;
    const byName = new Map(columns.map((column) => [column.name, column]));
    const puts = schema.map(({ name }) => this.putOf(byName.get(name)));
    for (let row = 0; row < rows; row++) {
      out.write(before);
      out.decimal(firstSeq + recordOf[row]!);
      for (const put of puts) {
        out.write(between);
        put(row);
      }
      out.write(after);
      onRow?.();
    }
  }

  private putOf(column: ColumnBatch | undefined): Put {
    const { out } = this;
    const { nothing, quote } = this.form;
    if (column === undefined) return () => out.write(nothing);
    const put = this.putValue(column);
    const { validity } = column;
    if (quote.length === 0)
      return validity === undefined
        ? put
        : (row) => (hasValue(validity, row) ? put(row) : out.write(nothing));
    return (row) => {
      if (!hasValue(validity, row)) return out.write(nothing);
      out.write(quote);
      put(row);
      out.write(quote);
    };
  }

  private putValue(column: ColumnBatch): Put {
    const { out } = this;
    const { escapes: table } = this.form;
    const { utf8, type, data } = column;
    if (utf8 !== undefined)
      return (row) => {
        const start = (row === 0 ? 0 : utf8.ends[row - 1]!) + LENGTH_BYTES;
        out.escaped(utf8.bytes, start, utf8.ends[row]!, table, BACKSLASH);
      };
    const asText: Put = (row) => out.escapedText(fieldText(column, row), table, BACKSLASH);
    if (data === undefined) return asText;
    if (type.kind === "boolean") {
      const values = new Uint8Array(data);
      return (row) => out.decimal(values[row] === 0 ? 0 : 1);
    }
    if (type.kind === "float64") {
      const values = new Float64Array(data);
      return (row) => out.ascii(numberText(values[row]!));
    }
    if (type.kind === "date") {
      const days = new Int32Array(data);
      return (row) => out.date(days[row]!) || asText(row);
    }
    const write = writerOf(out, column);
    if (write === undefined) return asText;
    const halves = new Int32Array(data);
    return (row) => {
      const value = halves[row * 2 + 1]! * 4_294_967_296 + (halves[row * 2]! >>> 0);
      if (!Number.isSafeInteger(value) || !write(value)) asText(row);
    };
  }
}

/** Writes what a column keeps in 64 bits, where 53 are enough; false: it has to be a text. */
function writerOf(out: ByteWriter, { type }: ColumnBatch): ((value: number) => boolean) | undefined {
  const scale = type.kind === "decimal" && type.precision <= 18 ? type.scale : 0;
  switch (type.kind) {
    case "timestamp":
    case "local_timestamp":
      return (value) => out.time(value);
    case "decimal":
      if (type.precision > 18) return undefined;
      break;
    case "int64":
      break;
    default:
      return undefined;
  }
  return (value) => {
    out.decimal(value, scale);
    return true;
  };
}

const numberText = (value: number) => (Object.is(value, -0) ? "-0" : String(value));

/** A value as the server reads it. */
function fieldText(column: ColumnBatch, row: number): string {
  const value = batchValue(column, row);
  const text = typeof value === "number" ? numberText(value) : String(value);
  return column.type.kind.endsWith("timestamp") ? text.replace("T", " ").replace("Z", "") : text;
}
