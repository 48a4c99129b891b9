/** Before and after the suite on PostgreSQL: starts a server, or takes the one that EARLY_BRIDGE_POSTGRES names. */

import pg from "pg";
import type { TestProject } from "vitest/node";
import { startPostgres, TEST_DATABASES } from "./own-postgres.js";

export default async function setup(project: TestProject) {
  const given = process.env.EARLY_BRIDGE_POSTGRES;
  if (given !== undefined) {
    project.provide("postgres", given);
    return () => dropDatabases(given);
  }
  try {
    const { url, stop } = await startPostgres();
    project.provide("postgres", url);
    return stop;
  } catch (error) {
    const message = `No PostgreSQL server starts here (EARLY_BRIDGE_POSTGRES names one that runs): ${(error as Error).message}`;
    if (process.env.EARLY_BRIDGE_LONG === "1") throw new Error(message);
    console.warn(`${message}\nThe tests on PostgreSQL are skipped.`);
  }
}

async function dropDatabases(url: string): Promise<void> {
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  const { rows } = await client.query<{ name: string }>(
    "SELECT datname AS name FROM pg_database WHERE starts_with(datname, $1)",
    [TEST_DATABASES],
  );
  for (const { name } of rows) await client.query(`DROP DATABASE IF EXISTS "${name}" WITH (FORCE)`);
  await client.end();
}

declare module "vitest" {
  export interface ProvidedContext {
    /** a database of a PostgreSQL server, for a user who may make others */
    postgres?: string;
  }
}
