/** What rows say of their record's life, by how a stream is written; and whether its tables stand for another way. */

import type { DeleteMode } from "../define/project-schema.js";
import type { WriteMethod } from "../define/write-method.js";
import { formatInstant } from "../shape/date-time.js";
import { formatPath } from "../shape/naming.js";
import { getByPath } from "../shape/path-get.js";
import type { Digest } from "../shape/record-state.js";
import type { KnownColumn, RecordLife } from "../shape/shaped.js";
import { cursorValue, epochMicros } from "../track/cursor-value.js";
import type { CompiledStream } from "./compile-stream.js";

/** How a stream is written in one run. */
export interface Writing {
  readonly write: WriteMethod;
  readonly deletes: DeleteMode;
  /** ms since 1970: since when a version holds whose record tells no time */
  readonly loadedAtMs: number;
  /** what makes digests of texts; default: JavaScript */
  readonly digest?: Digest | undefined;
}

/** `known`: the columns that stand, for what is marked once stays so. */
export function recordLife(
  stream: CompiledStream,
  { write, deletes, loadedAtMs, digest }: Writing,
  known: readonly KnownColumn[] = [],
): RecordLife {
  switch (write.standing) {
    case "kept":
      return { states: stream.key.length > 0, digest };
    case "versioned":
      return {
        ...{ states: true, digest, deleted: true },
        validFrom: (record) => changedAt(record, stream, loadedAtMs),
      };
    default: {
      const hasMark = known.some(({ role }) => role === "deleted");
      return { deleted: !write.buildsBeside && (deletes === "mark" || hasMark) };
    }
  }
}

/** The time at the cursor's field; where none is, that of the load. */
function changedAt(
  record: Readonly<Record<string, unknown>>,
  { cursor }: CompiledStream,
  loadedAtMs: number,
): string {
  const value = cursor?.field === undefined ? undefined : cursorValue(getByPath(record, cursor.field));
  if (value?.kind === "instant") return formatInstant(value.micros);
  const unit = cursor?.format;
  if (value?.kind === "number" && (unit === "seconds" || unit === "milliseconds"))
    return formatInstant(epochMicros(value.near, unit));
  return formatInstant(loadedAtMs * 1000);
}

/** What the tables that stand were written by, in words, where rows of this way of writing do not go in there. */
export function otherWriting(
  known: readonly KnownColumn[],
  { key }: CompiledStream,
  write: WriteMethod,
): string | undefined {
  const root = known.filter(({ tablePath }) => tablePath === "");
  if (root.length === 0 || write.buildsBeside) return undefined;
  const has = (role: KnownColumn["role"]) => root.some((column) => column.role === role);
  const stood = has("valid_from") ? "versioned" : has("state") || has("row_id") ? "kept" : "replaced";
  // appended without a key, and replaced without one, are the same tables
  if (stood !== write.standing && !(key.length === 0 && has("row_id")))
    return { versioned: "by versions", kept: "by append", replaced: "in place" }[stood];
  // ledgers of older versions do not tell the key
  const keys = root.filter(({ isKey, role }) => isKey === true && role === "data").map(({ path }) => path);
  const now = key.map(formatPath);
  const isSame = keys.length === now.length && now.every((path) => keys.includes(path));
  return keys.length === 0 || isSame ? undefined : `with the key ${keys.join(", ")}`;
}
