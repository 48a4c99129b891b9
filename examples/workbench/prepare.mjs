// Makes a fresh clone ready: the library is built, and this example's packages are installed.
import { execSync } from "node:child_process";
import { existsSync } from "node:fs";
import { fileURLToPath } from "node:url";

const here = fileURLToPath(new URL(".", import.meta.url));
const run = (command, cwd) => execSync(command, { cwd, stdio: ["ignore", "inherit", "inherit"] });
run("node scripts/prepare.mjs", fileURLToPath(new URL("../../", import.meta.url)));
if (!existsSync(new URL("node_modules/vite", import.meta.url)))
  run("npm ci --no-audit --no-fund --loglevel=error", here);
