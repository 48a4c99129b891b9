// Makes a fresh clone ready: installs and builds what is missing or stale, and does nothing when all is there.
// Needs nothing but Node.
import { execSync } from "node:child_process";
import { existsSync, readdirSync, readFileSync, statSync, writeFileSync } from "node:fs";
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

/** Whether a package is missing that is for this machine and that others can do without. */
function lacksOptional() {
  const { packages } = JSON.parse(readFileSync("package-lock.json", "utf8"));
  const isMusl = process.platform === "linux" && !process.report.getReport().header.glibcVersionRuntime;
  const isFor = ({ os, cpu, libc }) =>
    os?.includes(process.platform) === true &&
    cpu?.includes(process.arch) === true &&
    (libc === undefined || libc.includes(isMusl ? "musl" : "glibc"));
  return Object.entries(packages).some(
    ([path, each]) => each.optional === true && isFor(each) && !existsSync(join(path, "package.json")),
  );
}

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
  // npm says nothing of an optional package that did not come
  if (lacksOptional()) run(`npm ci ${quietly}`);
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
