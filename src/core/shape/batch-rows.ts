/**
 * Batches as rows of plain values: for previews, tests and small warehouses. Loading by columns is many times
 * faster.
 */

import { bytesOfText, type ColumnBatch, hasValue, type TableBatch } from "./batch.js";

/**
 * The rows of a batch. Values are boolean, number (float64), bigint (int64) and text for all other types: dates and
 * times as RFC 3339 writes them, decimals with all digits, json as it was, bytes in base64. null where there is none.
 * `Row` is for you to say.
 */
export function batchRows<Row = Record<string, unknown>>({ rows, columns }: TableBatch): Row[] {
  const rowAt = (row: number) =>
    Object.fromEntries(columns.map((column) => [column.name, batchValue(column, row)])) as Row;
  return Array.from({ length: rows }, (_, row) => rowAt(row));
}

/** One value of a column, as `batchRows` gives it. */
export function batchValue({ type, validity, data, texts, utf8 }: ColumnBatch, row: number): unknown {
  if (!hasValue(validity, row)) return null;
  if (texts !== undefined) return texts[row];
  if (utf8 !== undefined) return decoder.decode(bytesOfText(utf8, row));
  const view = new DataView(data!);
  switch (type.kind) {
    case "boolean":
      return view.getUint8(row) === 1;
    case "date":
      return new Date(view.getInt32(row * 4, true) * 86_400_000).toISOString().slice(0, 10);
    case "int64":
      return view.getBigInt64(row * 8, true);
    case "float64":
      return view.getFloat64(row * 8, true);
    case "timestamp":
      return `${microsText(view.getBigInt64(row * 8, true))}Z`;
    case "local_timestamp":
      return microsText(view.getBigInt64(row * 8, true));
    case "decimal": {
      const wide = type.precision > 18;
      const low = wide ? view.getBigUint64(row * 16, true) : view.getBigInt64(row * 8, true);
      return decimalText(wide ? (view.getBigInt64(row * 16 + 8, true) << 64n) | low : low, type.scale);
    }
    default:
      return uuidText(new Uint8Array(data!, row * 16, 16));
  }
}

// a text may begin with a byte order mark
const decoder = new TextDecoder("utf-8", { ignoreBOM: true });

function uuidText(bytes: Uint8Array): string {
  const hex = Array.from(bytes, (byte) => byte.toString(16).padStart(2, "0")).join("");
  return hex.replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, "$1-$2-$3-$4-$5");
}

function microsText(micros: bigint): string {
  const seconds = micros >= 0n ? micros / 1_000_000n : -((-micros + 999_999n) / 1_000_000n);
  const rest = String(micros - seconds * 1_000_000n)
    .padStart(6, "0")
    .replace(/0+$/, "");
  return new Date(Number(seconds) * 1000).toISOString().slice(0, 19) + (rest === "" ? "" : `.${rest}`);
}

function decimalText(unscaled: bigint, scale: number): string {
  const digits = String(unscaled < 0n ? -unscaled : unscaled).padStart(scale + 1, "0");
  const text = scale === 0 ? digits : `${digits.slice(0, -scale)}.${digits.slice(-scale)}`;
  return unscaled < 0n ? `-${text}` : text;
}
