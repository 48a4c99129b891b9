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
    load: async () => (await import("../warehouse/mysql/mariadb.js")).mariadb,
  },
  mysql: {
    driver: "mysql2",
    load: async () => (await import("../warehouse/mysql/index.js")).mysql,
  },
} as const;

const DUCKDB_DRIVER = "@duckdb/node-api";

/** @throws BridgeError DRIVER_MISSING, SECRET_IN_PLAIN, SECRET_MISSING */
export async function openWarehouse(definition: Definition, place: WarehousePlace): Promise<Warehouse> {
  const { folder, resolved } = place;
  for (const key of Object.keys(SERVERS) as (keyof typeof SERVERS)[]) {
    const address = definition[key];
    if (address !== undefined) return openServer(key, address, place);
  }
  if (definition.folder !== undefined) return openFolder(definition, definition.folder, place);
  const { duckdb } = await loadDriver(() => import("../warehouse/duckdb/index.js"), DUCKDB_DRIVER);
  const path = resolve(folder, String(await resolved(definition.duckdb!, "duckdb")));
  return duckdb(path, {
    declareKeys: definition.declare_keys,
    storageVersion: definition.storage_version,
  });
}

async function openServer(
  key: keyof typeof SERVERS,
  address: string,
  { file, resolved }: WarehousePlace,
): Promise<Warehouse> {
  checkNoPassword(key, address, file);
  const { driver, load } = SERVERS[key];
  const open = await loadDriver<(url: string) => Warehouse>(load, driver);
  return open(String(await resolved(address, key)));
}

/** A folder of this machine, or one elsewhere: what its address begins with tells. */
async function openFolder(
  { files, s3, sftp }: Definition,
  address: string,
  { folder, file, resolved }: WarehousePlace,
): Promise<Warehouse> {
  checkNoPassword("folder", address, file);
  const url = String(await resolved(address, "folder"));
  const [scheme] = /^[a-z0-9]+(?=:\/\/)/i.exec(url) ?? [];
  switch (scheme) {
    case undefined: {
      const made = await loadDriver(() => import("../warehouse/files/index.js"), DUCKDB_DRIVER);
      return made.folder(resolve(folder, url), files);
    }
    case "s3": {
      const made = await loadDriver(() => import("../warehouse/files/s3.js"), "@aws-sdk/client-s3");
      return made.s3(url, files, await secretsOf("s3", s3, ["secret"], file, resolved));
    }
    case "sftp": {
      const made = await loadDriver(() => import("../warehouse/files/sftp.js"), "ssh2");
      return made.sftp(
        url,
        files,
        await secretsOf("sftp", sftp, ["private_key", "passphrase"], file, resolved),
      );
    }
    default:
      throw new BridgeError("CONFIG_INVALID", `${scheme}:// is no address of a folder.`, {
        where: { file },
        hint: "Write a path, or an address that begins with s3:// or sftp://.",
      });
  }
}

/** Values with what they refer to; secrets have to be references. @throws BridgeError SECRET_IN_PLAIN */
async function secretsOf<T extends Readonly<Record<string, string | undefined>>>(
  under: string,
  given: T | undefined,
  secrets: readonly string[],
  file: string,
  resolved: WarehousePlace["resolved"],
): Promise<T | undefined> {
  if (given === undefined) return undefined;
  const values: Record<string, string> = {};
  for (const [key, value] of Object.entries(given)) {
    if (value === undefined) continue;
    if (secrets.includes(key) && !isReference(value))
      throw new BridgeError("SECRET_IN_PLAIN", `The warehouse's ${under}.${key} stands in the file itself.`, {
        where: { file },
        hint: `Write ${key}: $${under.toUpperCase()}_${key.toUpperCase()} and put the value into .env.`,
      });
    values[key] = String(await resolved(value, `${under}.${key}`));
  }
  return values as T;
}

/** @throws BridgeError SECRET_IN_PLAIN */
function checkNoPassword(key: string, address: string, file: string): void {
  if (isReference(address) || !URL.canParse(address) || new URL(address).password === "") return;
  throw new BridgeError("SECRET_IN_PLAIN", "The warehouse's password stands in the file itself.", {
    where: { file },
    hint: `Write ${key}: $WAREHOUSE_URL and put the address into .env.`,
  });
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
