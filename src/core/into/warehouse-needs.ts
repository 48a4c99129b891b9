/** What a bridge needs to be allowed in its warehouse. */

import type { BridgeStreamDefinition } from "../define/project-schema.js";
import { WRITE_METHODS } from "../define/write-method.js";
import { rightsFor } from "./table-faults.js";

/** A table that is not ours, and what is done with it, in the words of a grant. */
export interface NeededTable {
  readonly schema: string;
  readonly table: string;
  readonly rights: readonly string[];
}

/** Where a bridge makes tables, and which others it fills. */
export interface WarehouseNeeds {
  /** where it makes tables or views of its own; undefined: nowhere */
  readonly schema: string | undefined;
  readonly userTables: readonly NeededTable[];
}

/** What a bridge as it is defined needs; without streams, all of the connector's go into tables of their own. */
export function warehouseNeeds(
  schema: string,
  streams: Readonly<Record<string, Partial<BridgeStreamDefinition>>> | undefined,
  hasViews = false,
): WarehouseNeeds {
  const all = Object.values(streams ?? {});
  const makesOwn = streams === undefined || hasViews || all.some(({ into }) => into === undefined);
  const tables = new Map<string, NeededTable>();
  for (const { into, write = "upsert", deletes } of all) {
    if (into === undefined) continue;
    const where = { schema: into.schema ?? schema, table: into.table };
    const id = JSON.stringify(where);
    const own = rightsFor(WRITE_METHODS[write], deletes === "remove");
    tables.set(id, { ...where, rights: [...new Set([...(tables.get(id)?.rights ?? []), ...own])] });
  }
  return { schema: makesOwn ? schema : undefined, userTables: [...tables.values()] };
}
