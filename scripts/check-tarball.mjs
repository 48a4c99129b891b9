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
  for (const path of subpaths) if (path !== "./duckdb") importSubpath(join(manifest.name, path));
  runBin(["--version"], 0, manifest.version);
  // without the driver, the command says what to install
  runBin(["demo", "--bookings", "100"], 2, "npm install @duckdb/node-api");
  npm(["install", `@duckdb/node-api@${manifest.peerDependencies["@duckdb/node-api"]}`], folder);
  importSubpath(join(manifest.name, "duckdb"));
  runBin(["demo", "--bookings", "1000"], 0, "bookings_guests");
  console.log("the tarball is whole");
} finally {
  rmSync(folder, { recursive: true, force: true });
}
