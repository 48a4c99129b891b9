/** `rewind`: a stream's cursor is set back, or the stream begun anew. */

import { BridgeError } from "../core/errors.js";
import { snakeCase } from "../core/shape/naming.js";
import type { SavedCursor } from "../core/track/cursor.js";
import { describeCursors } from "../core/track/part-progress.js";
import { type RewindTo, rewound } from "../core/track/rewind.js";
import type { WarehouseSession } from "../warehouse/warehouse.js";
import { type Api, insideOf } from "./api.js";
import type { Bridge } from "./bridge.js";

/** What is set back, and how far; with neither `to` nor `anew`, to the beginning. */
export interface RewindOptions {
  readonly bridge: Bridge;
  readonly api: Api;
  readonly stream: string;
  /** a value of the cursor, a time (RFC 3339, or a date), or an ISO 8601 duration before now such as `-P7D` */
  readonly to?: string | undefined;
  /** of a stream in windows, the end of what is asked for again, exclusive; default: now */
  readonly until?: string | undefined;
  /** one part of the stream, as the ledger names it; default: all of them */
  readonly part?: string | undefined;
  /** drops the stream's tables as well: it is loaded as if it had never been */
  readonly anew?: boolean | undefined;
  /** false: only tells what would change; default: true */
  readonly apply?: boolean | undefined;
}

/** Where a part stands, before and after; undefined: at its beginning. */
export interface RewoundPart {
  /** "" for a stream without parts */
  readonly part: string;
  readonly before: string | undefined;
  readonly after: string | undefined;
}

/** What is set back. */
export interface Rewound {
  readonly stream: string;
  /** those that change */
  readonly parts: readonly RewoundPart[];
  /** parts in all */
  readonly of: number;
  /** tables that are dropped */
  readonly dropped: readonly string[];
}

/**
 * Sets a stream's cursor back. The rows stay: what is asked for again takes their places, by the way of writing.
 * @throws BridgeError CONFIG_UNKNOWN_NAME, CONFIG_INVALID, WAREHOUSE_*
 */
export async function rewind(options: RewindOptions): Promise<Rewound> {
  const { bridge, stream, apply = true } = options;
  if (!bridge.streams.has(stream))
    throw new BridgeError("CONFIG_UNKNOWN_NAME", `Bridge ${bridge.name} carries no stream ${stream}.`, {
      where: { bridge: bridge.name },
      hint: `Its streams: ${[...bridge.streams.keys()].join(", ")}.`,
    });
  const session = await bridge.warehouse.open({ readOnly: !apply });
  try {
    return await rewindIn(session, options, apply);
  } finally {
    await session.close();
  }
}

async function rewindIn(
  session: WarehouseSession,
  { bridge, api, stream: name, to, until, part, anew = false }: RewindOptions,
  apply: boolean,
): Promise<Rewound> {
  const inside = insideOf(api);
  const stream = await inside.stream(name);
  const saved = await session.ledger.cursors(bridge.name, name);
  const nowMs = inside.clock.now();
  const { windows } = stream.definition;
  const chosen = chooseParts(saved, part, { bridge: bridge.name, stream: name });
  const rule = { cursor: stream.cursor, windows };
  const place: RewindTo | undefined = to === undefined ? undefined : { to, until };
  const after = new Map<string, SavedCursor | undefined>(
    chosen.map(([key, cursor]) => [
      key,
      place === undefined || anew ? undefined : { ...rewound(cursor, rule, place, nowMs), into: cursor.into },
    ]),
  );
  const text = (cursor: SavedCursor | undefined) =>
    cursor === undefined ? undefined : describeCursors([cursor], windows, nowMs);
  const parts = chosen.flatMap(([key, cursor]): RewoundPart[] =>
    isSame(after.get(key), cursor) ? [] : [{ part: key, before: text(cursor), after: text(after.get(key)) }],
  );
  const tables = anew
    ? [...new Set((await session.ledger.columns(bridge.schema, bridge.name, name)).map(({ table }) => table))]
    : [];
  if (apply) {
    const where = { schema: bridge.schema, bridge: bridge.name, stream: name };
    if (anew) await session.dropStream(where);
    else await session.ledger.setCursors(where, after, nowMs);
  }
  const dropped = tables.map((table) => `${bridge.schema}.${table}`);
  return { stream: snakeCase(name), parts, of: saved.size, dropped };
}

const isSame = (a: SavedCursor | undefined, b: SavedCursor) => JSON.stringify(a) === JSON.stringify(b);

function chooseParts(
  saved: ReadonlyMap<string, SavedCursor>,
  part: string | undefined,
  where: { readonly bridge: string; readonly stream: string },
): (readonly [string, SavedCursor])[] {
  if (part === undefined) return [...saved];
  const cursor = saved.get(part);
  if (cursor !== undefined) return [[part, cursor]];
  const known = [...saved.keys()].filter((key) => key !== "").slice(0, 10);
  throw new BridgeError("CONFIG_UNKNOWN_NAME", `The ledger knows no part ${part} of the stream.`, {
    where,
    hint:
      known.length === 0 ? "The stream has no parts." : `Parts are named like these: ${known.join(" · ")}.`,
  });
}
