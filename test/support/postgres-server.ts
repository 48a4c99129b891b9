/** Before and after the suite on PostgreSQL: a server must be there in a long run; databases are dropped at the end. */

import type { TestProject } from "vitest/node";
import { DATABASES, onServer, SERVER } from "./warehouse.js";

export default async function setup(project: TestProject) {
  try {
    await onServer(SERVER, "SELECT 1");
  } catch (error) {
    const message = `No PostgreSQL server answers at ${new URL(SERVER).host} (EARLY_BRIDGE_POSTGRES names another)`;
    if (process.env.EARLY_BRIDGE_LONG === "1") throw new Error(`${message}: ${(error as Error).message}`);
    console.warn(`${message}: its tests are skipped.`);
    project.provide("hasPostgres", false);
    return;
  }
  project.provide("hasPostgres", true);
  return async () => {
    const found = await onServer(
      SERVER,
      `SELECT datname FROM pg_database WHERE datname LIKE '${DATABASES}%'`,
    );
    for (const { datname } of found)
      await onServer(SERVER, `DROP DATABASE IF EXISTS "${datname}" WITH (FORCE)`);
  };
}

declare module "vitest" {
  export interface ProvidedContext {
    hasPostgres: boolean;
  }
}
