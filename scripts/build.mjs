// Builds dist: types by tsc, code by esbuild, in few files that load fast. What entries share stands once, in
// dist/parts. For browsers the core stands in dist/modules, file by file: bundlers take what a page uses, no more.
// The stamp tells scripts/prepare.mjs when that was.
import { exec } from "node:child_process";
import { chmodSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";
import { promisify } from "node:util";
import { build } from "esbuild";

const { exports } = JSON.parse(readFileSync("package.json", "utf8"));
const subpaths = Object.values(exports).flatMap((entry) => entry.node ?? entry.default ?? []);
/** What runs by itself, and what the tests, benchmarks and scripts of this repository load. */
const others = [
  "cli/main",
  "cli/output-schema",
  "standins/serve",
  "standins/index",
  "standins/bookings/data",
  "core/express/outline",
  "core/stream/outline-plan",
  "auth/file-token-store",
  "node/file-keep",
];
const entries = [...subpaths.map((path) => path.slice("./dist/".length, -".js".length)), ...others];
/** Packages that stay apart: they are CommonJS and ask for Node's own modules, or are the user's to install. */
const APART = [
  "@aws-sdk/*",
  "@duckdb/*",
  "@fastify/*",
  "cli-table3",
  "commander",
  "fastify",
  "http-link-header",
  "iconv-lite",
  "light-my-request",
  "mysql2",
  "open",
  "pg",
  "pg-copy-streams",
  "picocolors",
  "pino",
  "proper-lockfile",
  "ssh2",
];

/** Names stay, and lines are short: they stand in what Node prints of an error that nobody caught. */
const SMALL = {
  lineLimit: 120,
  minifyWhitespace: true,
  minifySyntax: true,
  legalComments: "none",
  metafile: true,
  logLevel: "warning",
};

/** The licences of the packages whose code stands in ours, each with its name and version. */
function noticesOf(inputs) {
  const names = inputs.flatMap((path) => /.*node_modules\/((?:@[^/]+\/)?[^/]+)/.exec(path)?.[0] ?? []);
  const notices = [...new Set(names)].sort().map((folder) => {
    const { name, version, license } = JSON.parse(readFileSync(join(folder, "package.json"), "utf8"));
    const file = readdirSync(folder).find((each) => /^licen[cs]e/i.test(each));
    const text = file === undefined ? license : readFileSync(join(folder, file), "utf8").trim();
    return `${name} ${version} (${license})\n\n${text}\n`;
  });
  return notices.join(`\n${"-".repeat(80)}\n\n`);
}

rmSync("dist", { recursive: true, force: true });
const [{ metafile }] = await Promise.all([
  build({
    entryPoints: Object.fromEntries(entries.map((name) => [name, `src/${name}.ts`])),
    outdir: "dist",
    chunkNames: "parts/[name]-[hash]",
    bundle: true,
    splitting: true,
    format: "esm",
    platform: "node",
    target: "node20",
    mainFields: ["module", "main"],
    // their code for Node is CommonJS, or asks for Node's own modules: the core runs in browsers as well
    alias: {
      fflate: "./node_modules/fflate/esm/browser.js",
      yaml: "./node_modules/yaml/browser/index.js",
    },
    external: APART,
    ...SMALL,
  }),
  build({
    entryPoints: readdirSync("src/core", { recursive: true })
      .filter((path) => path.endsWith(".ts") && !path.endsWith(".test.ts"))
      .map((path) => join("src/core", path)),
    outbase: "src/core",
    outdir: "dist/modules",
    format: "esm",
    target: "es2022",
    logLevel: "warning",
  }),
  promisify(exec)("node node_modules/typescript/bin/tsc -p tsconfig.build.json").catch(({ stdout }) => {
    console.error(stdout);
    process.exit(1);
  }),
]);
/** CommonJS that is loaded when it is needed, beside what loads it. */
const [loader] = Object.entries(metafile.outputs).find(([, { inputs }]) => "src/http/transport.ts" in inputs);
const client = await build({
  entryPoints: ["src/http/client.cjs"],
  outfile: join(dirname(loader), "client.cjs"),
  bundle: true,
  format: "cjs",
  platform: "node",
  target: "node20",
  ...SMALL,
});
const inputs = [metafile, client.metafile].flatMap((each) => Object.keys(each.inputs));
writeFileSync("dist/NOTICES.txt", noticesOf(inputs));
chmodSync("dist/cli/main.js", 0o755);
writeFileSync("dist/.built", "");
