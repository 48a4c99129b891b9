// Makes a fresh clone ready: the library is built, this example's packages and the demo's tables are there.
import { execSync } from "node:child_process";
import { existsSync } from "node:fs";
import { fileURLToPath } from "node:url";

const here = fileURLToPath(new URL(".", import.meta.url));
const run = (command, cwd) => execSync(command, { cwd, stdio: ["ignore", "inherit", "inherit"] });
run("node scripts/prepare.mjs", fileURLToPath(new URL("../../", import.meta.url)));
if (!existsSync(new URL("node_modules/vite", import.meta.url)))
  run("npm ci --no-audit --no-fund --loglevel=error", here);
if (!existsSync(new URL("early-bridge-demo/huts.duckdb", import.meta.url)))
  run("node ../../dist/cli/main.js demo --bookings 5000 --plain", here);
