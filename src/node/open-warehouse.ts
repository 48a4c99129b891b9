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

type Definition = Project["warehouses"][string];

/** Warehouses that are a server's, by their word: the driver, and the module that makes one of an address. */
const SERVERS = {
  postgres: {
    driver: "pg pg-copy-streams",
    load: async () => (await import("../warehouse/postgres/index.js")).postgres,
  },
  mariadb: {
    driver: "mysql2",
    load: async () => (await import("../warehouse/mariadb/index.js")).mariadb,
  },
} as const;

const DUCKDB_DRIVER = "@duckdb/node-api";

/** @throws BridgeError DRIVER_MISSING, SECRET_IN_PLAIN, SECRET_MISSING */
export async function openWarehouse(definition: Definition, place: WarehousePlace): Promise<Warehouse> {
  const { folder, resolved } = place;
  for (const key of ["postgres", "mariadb"] as const) {
    const address = definition[key];
    if (address !== undefined) return openServer(key, address, place);
  }
  if (definition.folder !== undefined) {
    const { folder: inFolder } = await loadDriver(() => import("../warehouse/files/index.js"), DUCKDB_DRIVER);
    return inFolder(resolve(folder, String(await resolved(definition.folder, "folder"))), definition.files);
  }
  const { duckdb } = await loadDriver(() => import("../warehouse/duckdb/index.js"), DUCKDB_DRIVER);
  return duckdb(resolve(folder, String(await resolved(definition.duckdb!, "duckdb"))));
}

async function openServer(
  key: keyof typeof SERVERS,
  address: string,
  { file, resolved }: WarehousePlace,
): Promise<Warehouse> {
  if (!isReference(address) && URL.canParse(address) && new URL(address).password !== "")
    throw new BridgeError("SECRET_IN_PLAIN", "The warehouse's password stands in the file itself.", {
      where: { file },
      hint: `Write ${key}: $WAREHOUSE_URL and put the address into .env.`,
    });
  const { driver, load } = SERVERS[key];
  const open = await loadDriver<(url: string) => Warehouse>(load, driver);
  return open(String(await resolved(address, key)));
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
