/** The driver's functions. Loaded as CommonJS, which it is: reading it as an ES module takes twice as long. */

import { createRequire } from "node:module";

const require = createRequire(import.meta.url);

export const {
  BIGINT,
  BLOB,
  BOOLEAN,
  DATE,
  DECIMAL,
  DOUBLE,
  DuckDBDataChunk,
  DuckDBInstance,
  TIMESTAMP,
  TIMESTAMPTZ,
  UUID,
  VARCHAR,
} = require("@duckdb/node-api") as typeof import("@duckdb/node-api");

/** The calls below them. */
export const bindings = require("@duckdb/node-bindings") as typeof import("@duckdb/node-bindings");
