/** The layers of the product: imports point inward, and never in a circle. */
const inner = (from, to, why) => ({
  name: `${from} imports nothing of ${to}`,
  comment: why,
  severity: "error",
  from: { path: `^src/${from}/`, pathNot: "\\.test\\.ts$" },
  to: { path: `^src/(${to})/` },
});

module.exports = {
  forbidden: [
    {
      name: "no circle",
      comment: "A circle makes two files one; move what both need into a third.",
      severity: "error",
      from: {},
      to: { circular: true },
    },
    {
      name: "core is pure",
      comment: "src/core runs in a browser: no Node module, no driver, no HTTP client, no server.",
      severity: "error",
      from: { path: "^src/core/", pathNot: "\\.test\\.ts$" },
      to: { dependencyTypes: ["core"] },
    },
    {
      name: "core uses no driver",
      comment: "src/core runs in a browser.",
      severity: "error",
      from: { path: "^src/core/" },
      to: { path: "node_modules/(undici|fastify|commander|@duckdb|log-update|cli-table3)" },
    },
    inner("core/shape", "core/(language|define|decode|ask|track|stream)", "shaping needs no connector"),
    inner(
      "core/language",
      "core/(define|decode|ask|track|stream)",
      "templates, paths and conditions stand by themselves",
    ),
    inner(
      "core/(shape|language|define|decode|ask|track|stream|odata)",
      "core/(sample|draft|openapi)",
      "what looks before a run knows how it runs, and not the other way round",
    ),
    inner("core/odata", "core/(decode|ask|track|stream)", "a service's description knows nothing of asking"),
    inner("core/decode", "core/(ask|track|stream)", "a decoder knows no pages"),
    inner(
      "core/define",
      "core/(decode|ask|track|stream)",
      "a definition knows nothing of what is done with it",
    ),
    inner("core/ask", "core/(track|stream)", "a page is read without a cursor"),
    inner(
      "core/express",
      "core/(language|define|decode|ask|track|stream)",
      "bytes become rows by shapes alone",
    ),
    inner("core/track", "core/stream", "a compiled stream holds all of it"),
    inner("core", "auth|http|warehouse|run|node|standins|cli", "core is the innermost ring"),
    inner(
      "system",
      "core|auth|http|warehouse|run|node|standins|cli",
      "what is the machine's knows nothing of us",
    ),
    inner("auth", "warehouse|run|node|standins|cli", "auth stands beside http, inside run"),
    inner("http", "auth|warehouse|run|node|standins|cli", "http stands beside auth, inside run"),
    inner("warehouse", "auth|http|run|node|standins|cli", "a warehouse knows nothing of APIs"),
    inner("run", "node|standins|cli", "run names no machine: what it needs of one comes in as ports"),
    {
      name: "run names no Node module",
      comment: "What it needs of the machine comes in as ports (src/run/ports.ts).",
      severity: "error",
      from: { path: "^src/run/", pathNot: "\\.test\\.ts$" },
      to: { dependencyTypes: ["core"] },
    },
    {
      name: "run names no adapter of Node",
      comment: "What it needs of the machine comes in as ports (src/run/ports.ts).",
      severity: "error",
      from: { path: "^src/run/", pathNot: "\\.test\\.ts$" },
      to: {
        path: "^src/(http/(transport|spool|content-coding|har-file|node-clock|private-network)|auth/(file-token-store|private-file|login|sealed))",
      },
    },
    inner("node", "standins|cli", "node is what the command line calls"),
    inner(
      "standins",
      "run|node|cli|warehouse|auth",
      "a stand-in is a service, it knows nothing of its callers",
    ),
    {
      name: "nothing imports the command line",
      severity: "error",
      from: { pathNot: "^src/cli/" },
      to: { path: "^src/cli/" },
    },
    {
      name: "drivers only in their warehouse",
      comment: "A driver is an optional peer: it is loaded behind its own subpath.",
      severity: "error",
      from: { pathNot: "^src/warehouse/duckdb/" },
      to: { path: "@duckdb/" },
    },
  ],
  options: {
    doNotFollow: { path: "node_modules" },
    tsConfig: { fileName: "tsconfig.json" },
    tsPreCompilationDeps: true,
    enhancedResolveOptions: {
      exportsFields: ["exports"],
      conditionNames: ["import", "node", "default", "types"],
    },
  },
};
