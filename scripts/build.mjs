// Compiles src into dist. The stamp tells scripts/prepare.mjs when that was.
import { execSync } from "node:child_process";
import { chmodSync, rmSync, writeFileSync } from "node:fs";

rmSync("dist", { recursive: true, force: true });
execSync("node node_modules/typescript/bin/tsc -p tsconfig.build.json", { stdio: "inherit" });
chmodSync("dist/cli/main.js", 0o755);
writeFileSync("dist/.built", "");
