/** Before and after a suite on a server: starts one, or takes the one that the environment names. */

import mysql from "mysql2/promise";
import pg from "pg";
import type { TestProject } from "vitest/node";
import { startMariadb, startMysql } from "./own-mysql.js";
import { startPostgres, TEST_DATABASES } from "./own-postgres.js";

/** A server of tests: how it is started, and how what tests have left on another one is dropped. */
interface Server {
  readonly title: string;
  /** the variable that names another one */
  readonly given: string;
  start(): Promise<{ readonly url: string; stop(): Promise<void> }>;
  dropDatabases(url: string): Promise<void>;
}

const SERVERS: Readonly<Record<string, Server>> = {
  postgres: {
    title: "PostgreSQL",
    given: "EARLY_BRIDGE_POSTGRES",
    start: startPostgres,
    dropDatabases: async (url) => {
      const client = new pg.Client({ connectionString: url });
      await client.connect();
      const named = "SELECT datname AS name FROM pg_database WHERE starts_with(datname, $1)";
      const { rows } = await client.query<{ name: string }>(named, [TEST_DATABASES]);
      for (const { name } of rows) await client.query(`DROP DATABASE IF EXISTS "${name}" WITH (FORCE)`);
      await client.end();
    },
  },
  mariadb: {
    title: "MariaDB",
    given: "EARLY_BRIDGE_MARIADB",
    start: startMariadb,
    dropDatabases: dropMysql,
  },
  mysql: {
    title: "MySQL",
    given: "EARLY_BRIDGE_MYSQL",
    start: startMysql,
    dropDatabases: dropMysql,
  },
};

async function dropMysql(url: string): Promise<void> {
  const connection = await mysql.createConnection(url.replace(/^mariadb:/, "mysql:"));
  const [rows] = await connection.query("SHOW DATABASES");
  for (const { Database: name } of rows as { Database: string }[])
    if (name.startsWith(TEST_DATABASES)) await connection.query(`DROP DATABASE \`${name}\``);
  await connection.end();
}

export default async function setup(project: TestProject) {
  const { title, given, start, dropDatabases } = SERVERS[project.config.env.EARLY_BRIDGE_TEST_WAREHOUSE!]!;
  const url = process.env[given];
  if (url !== undefined) {
    project.provide("server", url);
    return () => dropDatabases(url);
  }
  try {
    const own = await start();
    project.provide("server", own.url);
    return own.stop;
  } catch (error) {
    const message = `No ${title} server starts here (${given} names one that runs): ${(error as Error).message}`;
    if (process.env.EARLY_BRIDGE_LONG === "1") throw new Error(message);
    console.warn(`${message}\nThe tests on ${title} are skipped.`);
  }
}

declare module "vitest" {
  export interface ProvidedContext {
    /** the address of a server, for a user who may make databases */
    server?: string;
  }
}
