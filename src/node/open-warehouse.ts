/** The warehouse that a project names; its driver is loaded when it is needed. */

import { resolve } from "node:path";
import type { Project } from "../core/define/project-schema.js";
import { BridgeError } from "../core/errors.js";
import type { Warehouse } from "../warehouse/warehouse.js";
import { isReference } from "./references.js";

/** Where the definition stands, and what its values refer to. */
export interface WarehousePlace {
  readonly folder: string;
  /** file, line and column */
  readonly file: string;
  resolved(text: string, key: string): Promise<unknown>;
}

/** @throws BridgeError DRIVER_MISSING, SECRET_IN_PLAIN, SECRET_MISSING */
export async function openWarehouse(
  { duckdb: path, postgres: address = "" }: Project["warehouses"][string],
  { folder, file, resolved }: WarehousePlace,
): Promise<Warehouse> {
  if (path !== undefined) {
    const { duckdb } = await loadDriver(() => import("../warehouse/duckdb/index.js"), "@duckdb/node-api");
    return duckdb(resolve(folder, String(await resolved(path, "duckdb"))));
  }
  if (!isReference(address) && URL.canParse(address) && new URL(address).password !== "")
    throw new BridgeError("SECRET_IN_PLAIN", "The warehouse's password stands in the file itself.", {
      where: { file },
      hint: "Write postgres: $WAREHOUSE_URL and put the address into .env.",
    });
  const { postgres } = await loadDriver(() => import("../warehouse/postgres/index.js"), "pg pg-copy-streams");
  return postgres(String(await resolved(address, "postgres")));
}

/** Loads a warehouse's module; its driver is an optional package. */
async function loadDriver<T>(load: () => Promise<T>, driver: string): Promise<T> {
  try {
    return await load();
  } catch (cause) {
    const code = (cause as { code?: string }).code;
    if (code !== "ERR_MODULE_NOT_FOUND" && code !== "MODULE_NOT_FOUND") throw cause;
    throw new BridgeError("DRIVER_MISSING", `The driver ${driver} is not installed.`, {
      hint: `Run: npm install ${driver}`,
      cause,
    });
  }
}
