/** The driver, and the calls below it. Loaded as CommonJS, which it is: as an ES module it takes twice as long. */

import { createRequire } from "node:module";

const require = createRequire(import.meta.url);

export const driver = require("@duckdb/node-api") as typeof import("@duckdb/node-api");
export const bindings = require("@duckdb/node-bindings") as typeof import("@duckdb/node-bindings");
