/** How tables are written into files: SQL by which DuckDB writes each form, every value kept. */

import type { FilesOptions } from "../../core/define/files-schema.js";
import type { ColumnType } from "../../core/shape/column-type.js";
import { DUCKDB, quoteName, quoteText } from "../duckdb/types.js";
import type { StandingColumns } from "../sql/dialect.js";

/** What stands for each line's text where lines are ready-made: no text has it, JSON escapes it. */
const NOWHERE = "\u0001";

/** The end of a file's name. */
export function endingOf({ format, compression }: FilesOptions): string {
  return format === "parquet" ? ".parquet" : `.${format}${compression === "gzip" ? ".gz" : ""}`;
}

/** Whether the files are not in UTF-8. */
export const isRecoded = ({ format, csv }: FilesOptions) => format === "csv" && csv.encoding !== "utf-8";

/**
 * The statement that writes rows of a table into a file of DuckDB's own form, whole. `groupRows`: how many are held and
 * packed together.
 */
export function parquetStatement(
  rows: string,
  columns: StandingColumns,
  path: string,
  groupRows: number,
  compression = "zstd",
): string {
  const names = [...columns.keys()].map(quoteName).join(", ");
  const settings = `FORMAT parquet, COMPRESSION ${compression}, ROW_GROUP_SIZE ${groupRows}`;
  return `COPY (SELECT ${names} FROM ${rows}) TO ${quoteText(path)} (${settings})`;
}

/** The statement that writes rows of a table, `FROM` and what follows, into a file. */
export function copyStatement(
  rows: string,
  columns: StandingColumns,
  path: string,
  options: FilesOptions,
  groupRows: number,
): string {
  const { format, compression, csv } = options;
  if (format === "parquet")
    return parquetStatement(
      rows,
      columns,
      path,
      groupRows,
      compression === "none" ? "uncompressed" : compression,
    );
  // another encoding is made of the file, and packed then
  const packs = compression === "gzip" && !isRecoded(options);
  const packed = [`COMPRESSION ${packs ? "gzip" : "none"}`];
  if (format === "jsonl") {
    const fields = [...columns].map(([name, type]) => jsonField(name, type));
    const settings = [`HEADER false, QUOTE '', ESCAPE '', DELIMITER '${NOWHERE}'`, ...packed];
    return `COPY (SELECT '{' || concat_ws(',', ${fields.join(", ")}) || '}' FROM ${rows})
      TO ${quoteText(path)} (FORMAT csv, ${settings.join(", ")})`;
  }
  const cells = [...columns].map(([name, type]) => `${csvCell(name, type, csv)} AS ${quoteName(name)}`);
  const settings = [
    `HEADER ${csv.header}`,
    `DELIMITER ${quoteText(csv.delimiter)}`,
    `QUOTE '"', ESCAPE '"', NULLSTR ''`,
    `NEW_LINE '${csv.lines === "crlf" ? "\\r\\n" : "\\n"}'`,
    ...(csv.quotes === "all" ? ["FORCE_QUOTE *"] : []),
    ...packed,
  ];
  return `COPY (SELECT ${cells.join(", ")} FROM ${rows}) TO ${quoteText(path)} (FORMAT csv, ${settings.join(", ")})`;
}

/** A value as text: times in RFC 3339, bytes in base64, as JSON writes them. */
function textOf(name: string, type: ColumnType): string {
  const column = quoteName(name);
  if (type.kind === "bytes") return `to_base64(${column})`;
  // a price has its cents, even where they are none
  if (type.kind === "decimal" || type.kind === "json") return `${column}::VARCHAR`;
  return DUCKDB.widened(name, type, { kind: "text" });
}

function csvCell(name: string, type: ColumnType, { decimal }: FilesOptions["csv"]): string {
  const text = textOf(name, type);
  const hasPoint = type.kind === "decimal" || type.kind === "float64";
  return hasPoint && decimal === "," ? `replace(${text}, '.', ',')` : text;
}

function jsonField(name: string, type: ColumnType): string {
  const key = quoteText(`${JSON.stringify(name)}:`);
  return `${key} || coalesce(${jsonValue(name, type)}, 'null')`;
}

function jsonValue(name: string, type: ColumnType): string {
  const text = textOf(name, type);
  switch (type.kind) {
    case "boolean":
    case "int64":
    case "decimal":
      return text;
    case "float64":
      // JSON has no word for what is no number
      return `CASE WHEN isfinite(${quoteName(name)}) THEN ${text} ELSE to_json(${text})::VARCHAR END`;
    case "json":
      // between values, line ends are blanks as others
      return `replace(replace(${text}, chr(10), ' '), chr(13), ' ')`;
    default:
      return `to_json(${text})::VARCHAR`;
  }
}
