import { tmpdir } from "node:os";
import { join } from "node:path";
import { defineConfig } from "vitest/config";

// isolate: false: modules are read once for all files of a worker, for no test changes them

/** How often random tests try where others have tried all of it. */
const FEW = { EARLY_BRIDGE_FEW_TRIES: "1" };

const ALL_WAREHOUSES = ["write-modes", "merge", "sweep", "model", "drift", "rewritten", "mend", "kill-modes"];

/** What is true of DuckDB has to be true of every warehouse; by night all of it is tried. */
const onServer = (title: string, warehouse: string, usual: readonly string[]) => ({
  test: {
    name: `on ${title}`,
    isolate: false,
    include: [...usual, ...(process.env.EARLY_BRIDGE_LONG === "1" ? ALL_WAREHOUSES : [])].map(
      (file) => `test/${file}.test.ts`,
    ),
    globalSetup: ["test/support/servers.ts"],
    setupFiles: ["test/support/after-each.ts", "test/support/needs-server.ts"],
    env: { TZ: "America/St_Johns", EARLY_BRIDGE_TEST_WAREHOUSE: warehouse, ...FEW },
    testTimeout: 240_000,
    hookTimeout: 60_000,
  },
});

const OF_SERVERS = ["servers", "straight", "views", "user-tables", "user-table-faults", "user-table-types"];

/** What a way of keeping tables in a DuckDB file, or beside it, has a part in. */
const onDuckdb = (name: string, warehouse: string, files: readonly string[]) => ({
  test: {
    name,
    isolate: false,
    include: files.map((file) => `test/${file}.test.ts`),
    setupFiles: ["test/support/after-each.ts"],
    env: { TZ: "America/St_Johns", EARLY_BRIDGE_TEST_WAREHOUSE: warehouse, ...FEW },
    testTimeout: 240_000,
    hookTimeout: 60_000,
  },
});

const BY_NIGHT = [
  onDuckdb("on files", "files", ["write-modes", "merge", "sweep", "kill-modes"]),
  onDuckdb("with keys", "keys", ["merge", "drift"]),
];

export default defineConfig({
  test: {
    // while one file waits for a process, two others keep two cores busy
    maxWorkers: 3,
    projects: [
      {
        test: {
          name: "whole",
          isolate: false,
          include: ["src/**/*.test.ts", "test/**/*.test.ts"],
          setupFiles: ["test/support/after-each.ts"],
          // what is kept between processes is not the user's
          env: { TZ: "America/St_Johns", EARLY_BRIDGE_CACHE: join(tmpdir(), "early-bridge-test-cache") },
          exclude: ["postgres", "mysql", "straight", "servers"].map((file) => `test/${file}.test.ts`),
          testTimeout: 240_000,
          hookTimeout: 60_000,
        },
      },
      {
        test: {
          name: "far from there",
          isolate: false,
          include: ["src/**/*.test.ts"],
          // blocks and groups of a file are the same everywhere
          exclude: ["src/warehouse/duckdb/*.test.ts"],
          // where the zone matters, few tries tell
          env: { TZ: "Asia/Kathmandu", EARLY_BRIDGE_LONG: "", ...FEW },
          testTimeout: 60_000,
        },
      },
      ...(process.env.EARLY_BRIDGE_LONG === "1" ? BY_NIGHT : []),
      onServer("PostgreSQL", "postgres", ["postgres", ...OF_SERVERS]),
      onServer("MariaDB", "mariadb", ["mysql", ...OF_SERVERS]),
      onServer("MySQL", "mysql", ["mysql", ...OF_SERVERS]),
    ],
  },
});
