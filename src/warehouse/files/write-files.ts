/** Writes rows of a table into a file of this machine, and tells what is in it. */

import { createHash } from "node:crypto";
import { createReadStream, createWriteStream } from "node:fs";
import { rename, stat } from "node:fs/promises";
import { pipeline } from "node:stream/promises";
import { createGzip } from "node:zlib";
import type { FilesOptions } from "../../core/define/files-schema.js";
import { BridgeError } from "../../core/errors.js";
import { formatColumnType } from "../../core/shape/column-type.js";
import { LOADED_COLUMN, RUN_COLUMN } from "../../core/shape/own-columns.js";
import { quoteName } from "../duckdb/types.js";
import type { SqlConnection, StandingColumns } from "../sql/dialect.js";
import { copyStatement, isRecoded } from "./form.js";
import { recoded } from "./recode.js";

/** What is in a file that was written. */
export interface Written {
  readonly rows: number;
  readonly bytes: number;
  readonly sha256: string;
}

/** Runs a statement that writes rows into a file at a path, and looks at the file. */
export async function writeFile(on: SqlConnection, statement: string, path: string): Promise<Written> {
  const [count] = await on.rows(statement);
  return { rows: Number(count?.Count), ...(await digestOf(path)) };
}

/** Writes rows, `FROM` and what follows, in the form that readers of the folder get. */
export async function writeDelivered(
  on: SqlConnection,
  rows: string,
  columns: StandingColumns,
  path: string,
  options: FilesOptions,
  groupRows: number,
): Promise<Written> {
  const written = await writeFile(on, copyStatement(rows, columns, path, options, groupRows), path);
  if (!isRecoded(options)) return written;
  const other = `${path}.recoded`;
  const packed = options.compression === "gzip" ? [createGzip()] : [];
  await pipeline([
    createReadStream(path),
    ...recoded(options.csv.encoding),
    ...packed,
    createWriteStream(other),
  ]).catch((cause: unknown) => {
    throw cause instanceof BridgeError ? cause : new BridgeError("FILE_UNWRITABLE", String(cause), { cause });
  });
  await rename(other, path);
  return { rows: written.rows, ...(await digestOf(path)) };
}

async function digestOf(path: string): Promise<Omit<Written, "rows">> {
  const hash = createHash("sha256");
  for await (const piece of createReadStream(path)) hash.update(piece as Buffer);
  return { sha256: hash.digest("hex"), bytes: (await stat(path)).size };
}

/** The columns of a table with the two that every row has. */
export function withOwn(columns: StandingColumns): StandingColumns {
  return new Map([...columns, [RUN_COLUMN, { kind: "int64" }], [LOADED_COLUMN, { kind: "timestamp" }]]);
}

/** How many rows a table has, what their texts take, and a digest of them, in whatever order they stand. */
export async function contentOf(
  on: SqlConnection,
  table: string,
  columns: StandingColumns,
  form: string,
): Promise<{ readonly count: number; readonly textBytes: number; readonly content: string }> {
  const cells = [...columns].map(
    ([name, { kind }]) => quoteName(name) + (kind === "json" ? "::VARCHAR" : ""),
  );
  const types = [...columns].map(([name, type]) => `${name} ${formatColumnType(type)}`).join(", ");
  const texts = [...columns].filter(([, { kind }]) => kind === "text" || kind === "json");
  const bytes = ["0", ...texts.map(([name]) => `coalesce(strlen(${quoteName(name)}), 0)`)];
  const [row] = await on.rows(
    `SELECT count(*) AS rows, coalesce(sum(hash(${cells.join(", ")})::HUGEINT), 0)::VARCHAR AS sum,
     coalesce(sum(${bytes.join(" + ")}), 0)::DOUBLE AS bytes FROM ${table}`,
  );
  const text = [form, types, row?.rows, row?.sum].join("\n");
  return {
    count: Number(row?.rows),
    textBytes: Number(row?.bytes),
    content: createHash("sha256").update(text).digest("hex").slice(0, 32),
  };
}
