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
import type { DriftPolicy } from "../core/shape/drift-policy.js";
import { wantedFields } from "../core/shape/wanted-fields.js";
import { type CompiledStream, compileColumns } from "../core/stream/compile-stream.js";
import { mergedRules } from "../core/stream/merged-rules.js";
import type { ApiInside } from "./api.js";

/** One of a bridge's streams; what it says goes before what the connector does. */
export interface BridgeStream {
  readonly write: WriteMode;
  readonly deletes: DeleteMode;
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
  { write, deletes, columns, fields, room, drift }: BridgeStreamDefinition,
  usualDrift: DriftPolicy,
): Promise<BridgeStream> {
  const { key } = await api.stream(stream);
  checkColumns(columns, key, [stream, "columns"], codeSource(`${bridge}.streams`));
  const mode = write ?? (key.length > 0 ? "upsert" : "replace");
  const method = WRITE_METHODS[mode];
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
      columns,
      fields,
      room,
      drift: drift ?? usualDrift,
    };
  const others = WRITE_MODES.filter((each) => !WRITE_METHODS[each].needsKey).join(" or ");
  throw new BridgeError("CONFIG_INVALID", `Stream ${stream} is to be written by ${mode}, but has no key.`, {
    where: { bridge, stream },
    hint: `Give the stream a key in the connector, or write: ${others}.`,
  });
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
  const rules = api.withHashSecret(compileColumns(columns));
  const { key, cursor } = stream;
  // several states of a record may come in one response, each with its time
  const keepsStates = WRITE_METHODS[write].standing !== "replaced" && key.length > 0;
  const identity = keepsStates && cursor?.field !== undefined ? [...key, cursor.field] : undefined;
  const all = mergedRules(stream.columns, rules);
  const isWanted = fields === undefined ? stream.isWanted : wantedFields(fields, stream.key);
  return { ...stream, columns: all, isWanted, identity, room: { ...stream.room, ...room } };
}
