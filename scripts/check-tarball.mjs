// Packs the package, installs it elsewhere as a user would, imports every subpath and runs the command.
import { execFileSync, spawnSync } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";

const manifest = JSON.parse(readFileSync("package.json", "utf8"));
const folder = mkdtempSync(join(tmpdir(), "early-bridge-tarball-"));
const npm = (args, cwd) => execFileSync("npm", [...args, "--loglevel=error"], { cwd, encoding: "utf8" });
const fail = (message) => {
  console.error(`check-tarball: ${message}`);
  process.exit(1);
};

/** These need a driver, which is the user's to install. */
const DRIVEN = ["./duckdb", "./files", "./s3", "./sftp", "./postgres", "./mariadb", "./mysql"];

/** Imports a subpath in a process of its own; the names that it exports. */
function importSubpath(name) {
  const code = `console.log(Object.keys(await import("${name}")).join(" "))`;
  const { status, stdout, stderr } = spawnSync("node", ["--input-type=module", "-e", code], {
    cwd: folder,
    encoding: "utf8",
  });
  if (status !== 0 || stdout.trim() === "") fail(`${name} cannot be imported: ${stderr}`);
  console.log(`${name}: ${stdout.trim()}`);
}

/** A project in CommonJS may require what is ours: Node 20.19 and later load ES modules so. */
function requireSubpath(name) {
  const code = `console.log(Object.keys(require("${name}")).length)`;
  const { status, stdout, stderr } = spawnSync("node", ["--input-type=commonjs", "-e", code], {
    cwd: folder,
    encoding: "utf8",
  });
  if (status !== 0 || !(Number(stdout) > 0)) fail(`${name} cannot be required: ${stderr}`);
}

/** Our types compile in a strict project that checks those of its libraries and has none of our tools. */
function compileStrictly(subpaths) {
  const lines = subpaths.map((path, i) => `import * as m${i} from "${join(manifest.name, path)}";`);
  writeFileSync(
    join(folder, "use.mts"),
    `${lines.join("\n")}\nexport default [${subpaths.map((_, i) => `m${i}`)}];\n`,
  );
  const flags =
    "--noEmit --strict --skipLibCheck false --module nodenext --target es2022 --types node use.mts";
  const { status, stdout } = spawnSync("npx", ["--no-install", "tsc", ...flags.split(" ")], {
    cwd: folder,
    encoding: "utf8",
  });
  if (status !== 0) fail(`the types do not compile elsewhere:\n${stdout}`);
  console.log("the types compile in a strict project");
}

function runBin(args, wantedCode, wantedWords) {
  const { status, stdout, stderr } = spawnSync("npx", ["--no-install", "early-bridge", ...args], {
    cwd: folder,
    encoding: "utf8",
  });
  if (status !== wantedCode || !`${stdout}${stderr}`.includes(wantedWords)) {
    fail(
      `early-bridge ${args.join(" ")} ended with ${status}, not ${wantedCode} and "${wantedWords}":\n${stdout}${stderr}`,
    );
  }
  console.log(`early-bridge ${args.join(" ")}: ${status}`);
}

try {
  const [{ filename }] = JSON.parse(
    npm(["pack", "--json", "--ignore-scripts", "--pack-destination", folder], "."),
  );
  writeFileSync(join(folder, "package.json"), '{ "private": true, "type": "module" }\n');
  npm(["install", `./${filename}`], folder);
  const subpaths = Object.keys(manifest.exports).filter(
    (path) => !path.includes("*") && !path.endsWith(".json"),
  );
  for (const path of subpaths) if (!DRIVEN.includes(path)) importSubpath(join(manifest.name, path));
  runBin(["--version"], 0, manifest.version);
  // without the driver, the command says what to install
  runBin(["demo", "--bookings", "100"], 2, "npm install @duckdb/node-api");
  npm(["install", `@duckdb/node-api@${manifest.peerDependencies["@duckdb/node-api"]}`], folder);
  for (const way of ["duckdb", "files"]) importSubpath(join(manifest.name, way));
  const drivers = ["pg", "pg-copy-streams", "mysql2", "@aws-sdk/client-s3", "ssh2"].map(
    (name) => `${name}@${manifest.peerDependencies[name]}`,
  );
  npm(["install", ...drivers], folder);
  for (const server of ["postgres", "mariadb", "mysql", "s3", "sftp"])
    importSubpath(join(manifest.name, server));
  for (const path of subpaths) requireSubpath(join(manifest.name, path));
  const tools = ["typescript", "@types/node"].map((name) => `${name}@${manifest.devDependencies[name]}`);
  npm(["install", "--save-dev", ...tools], folder);
  compileStrictly(subpaths);
  runBin(["demo", "--bookings", "1000"], 0, "bookings_guests");
  console.log("the tarball is whole");
} finally {
  rmSync(folder, { recursive: true, force: true });
}
