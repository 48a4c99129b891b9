// Makes a fresh clone ready: installs and builds what is missing or stale, and does nothing when all is there.
// Needs nothing but Node.
import { execSync } from "node:child_process";
import { existsSync, readdirSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";

const [major, minor] = process.versions.node.split(".").map(Number);
if (major < 20 || (major === 20 && minor < 19)) {
  console.error(`early-bridge needs Node 20.19 or later; this is ${process.version}.`);
  process.exit(1);
}

/** Its time tells when the packages were installed last. */
const INSTALLED = "node_modules/.installed";

/** The newest change below a path, in ms since 1970; 0 where nothing is there. */
function newest(path) {
  if (!existsSync(path)) return 0;
  const entry = statSync(path);
  if (!entry.isDirectory()) return entry.mtimeMs;
  return Math.max(0, ...readdirSync(path).map((name) => newest(join(path, name))));
}

const age = (path) => (existsSync(path) ? statSync(path).mtimeMs : 0);
const run = (command) => execSync(command, { stdio: ["ignore", "inherit", "inherit"] });

if (age(INSTALLED) < Math.max(age("package.json"), age("package-lock.json"))) {
  console.log("Installing packages …");
  const quietly = "--no-audit --no-fund --loglevel=error";
  try {
    // leaves the lock file alone
    run(`npm ci ${quietly}`);
  } catch {
    // package.json has been changed since
    run(`npm install ${quietly}`);
  }
  writeFileSync(INSTALLED, "");
}
const sources = Math.max(
  newest("src"),
  age("tsconfig.build.json"),
  age("tsconfig.json"),
  age("scripts/build.mjs"),
);
if (age("dist/.built") < sources) {
  console.log("Building …");
  run("node scripts/build.mjs");
}
