/** What a bridge says of one of its streams: how it is written, and how its fields become columns. */

import { codeSource } from "../core/define/connector.js";
import {
  type BridgeStreamDefinition,
  type DeleteMode,
  WRITE_MODES,
  type WriteMode,
} from "../core/define/project-schema.js";
import { checkColumns } from "../core/define/stream-names.js";
import { WRITE_METHODS } from "../core/define/write-method.js";
import { BridgeError } from "../core/errors.js";
import type { IntoTable } from "../core/into/table-faults.js";
import type { DriftPolicy } from "../core/shape/drift-policy.js";
import { wantedFields } from "../core/shape/wanted-fields.js";
import { type CompiledStream, compileColumns } from "../core/stream/compile-stream.js";
import { mergedRules } from "../core/stream/merged-rules.js";
import type { ApiInside } from "./api.js";

/** One of a bridge's streams; what it says goes before what the connector does. */
export interface BridgeStream {
  readonly write: WriteMode;
  readonly deletes: DeleteMode;
  /** the table that stands already, which its rows go into; default: those that it makes */
  readonly into: IntoTable | undefined;
  readonly columns: BridgeStreamDefinition["columns"];
  readonly fields: BridgeStreamDefinition["fields"];
  readonly room: BridgeStreamDefinition["room"];
  readonly drift: DriftPolicy;
}

/**
 * A bridge's stream with its write mode: `upsert` where there is a key, else `replace`.
 * @throws BridgeError CONFIG_INVALID for a mode that the stream is not fit for
 */
export async function bridgeStream(
  api: ApiInside,
  bridge: string,
  stream: string,
  { write, into, deletes, columns, fields, room, drift }: BridgeStreamDefinition,
  usualDrift: DriftPolicy,
): Promise<BridgeStream> {
  const { key } = await api.stream(stream);
  checkColumns(columns, key, [stream, "columns"], codeSource(`${bridge}.streams`));
  const mode = write ?? (key.length > 0 ? "upsert" : into === undefined ? "replace" : "insert");
  const method = WRITE_METHODS[mode];
  checkInto(mode, into !== undefined, deletes, { bridge, stream });
  if (deletes !== undefined && (method.deletes === undefined || method.buildsBeside))
    throw new BridgeError(
      "CONFIG_INVALID",
      `Stream ${stream} is written by ${mode}: deletes does not go with it.`,
      {
        where: { bridge, stream },
        hint: "Rows are removed or marked by upsert and versions; leave deletes out.",
      },
    );
  if (!method.needsKey || key.length > 0)
    return {
      write: mode,
      deletes: deletes ?? method.deletes ?? "remove",
      into: into && { ...into, removes: deletes === "remove" || mode === "delete" },
      columns,
      fields,
      room,
      drift: drift ?? usualDrift,
    };
  const others = WRITE_MODES.filter(
    (each) => !WRITE_METHODS[each].needsKey && (WRITE_METHODS[each].into === "must") === (into !== undefined),
  ).join(" or ");
  throw new BridgeError("CONFIG_INVALID", `Stream ${stream} is to be written by ${mode}, but has no key.`, {
    where: { bridge, stream },
    hint: `Give the stream a key in the connector, or write: ${others}.`,
  });
}

/** @throws BridgeError CONFIG_INVALID where a way of writing does not go with a table that stands, or only with one */
function checkInto(
  mode: WriteMode,
  isInto: boolean,
  deletes: DeleteMode | undefined,
  where: { readonly bridge: string; readonly stream: string },
): void {
  const { into } = WRITE_METHODS[mode];
  const words = WRITE_MODES.filter((each) => WRITE_METHODS[each].into !== "never").join(", ");
  const refused = (message: string, hint: string) =>
    new BridgeError("CONFIG_INVALID", message, { where, hint });
  if (isInto && into === "never")
    throw refused(
      `Stream ${where.stream} goes into a table that stands already: it cannot be written by ${mode}.`,
      `Write one of ${words}.`,
    );
  if (!isInto && into === "must")
    throw refused(
      `Stream ${where.stream} is written by ${mode}, and no table is named.`,
      `Name one that stands already, as into: { table: … }; into its own, a stream is written by ${WRITE_MODES.filter((each) => WRITE_METHODS[each].into !== "must").join(", ")}.`,
    );
  if (isInto && deletes === "mark")
    throw refused(
      `Stream ${where.stream} goes into a table that stands already: rows of it cannot be marked as deleted.`,
      "Write deletes: remove, or leave it out: then they stay.",
    );
}

/** A stream with what a bridge says of its fields; of one path, single words go before the connector's. */
export function asBridged(
  stream: CompiledStream,
  said:
    | (Pick<BridgeStream, "columns" | "fields"> & Partial<Pick<BridgeStream, "write" | "room">>)
    | undefined,
  api: ApiInside,
): CompiledStream {
  const { columns = {}, fields, room, write = "upsert" } = said ?? {};
  const rules = api.withHashes(compileColumns(columns));
  const { key, cursor } = stream;
  // several states of a record may come in one response, each with its time
  const keepsStates = WRITE_METHODS[write].standing !== "replaced" && key.length > 0;
  const identity = keepsStates && cursor?.field !== undefined ? [...key, cursor.field] : undefined;
  const all = mergedRules(stream.columns, rules);
  const isWanted = fields === undefined ? stream.isWanted : wantedFields(fields, stream.key);
  return { ...stream, columns: all, isWanted, identity, room: { ...stream.room, ...room } };
}
