// npm run wasm: compiles wasm/ to WebAssembly and writes it where the library has it. With --check: only whether that
// is what the sources give.
import { execFileSync } from "node:child_process";
import { readFileSync, writeFileSync } from "node:fs";
import { fileURLToPath } from "node:url";

const folder = fileURLToPath(new URL("../wasm/", import.meta.url));
const file = fileURLToPath(new URL("../src/core/express/wasm-bytes.ts", import.meta.url));

execFileSync(process.execPath, ["node_modules/assemblyscript/bin/asc.js", "--config", "asconfig.json"], {
  cwd: folder,
  stdio: "inherit",
});
const bytes = readFileSync(`${folder}scan.wasm`);
const text = `/** WebAssembly that \`npm run wasm\` has made of \`wasm/\`, as base64. */
export const WASM =
  "${bytes.toString("base64")}";
`;
if (process.argv.includes("--check")) {
  if (readFileSync(file, "utf8") !== text) {
    console.error("src/core/express/wasm-bytes.ts is not what wasm/ gives: run npm run wasm");
    process.exitCode = 1;
  }
} else writeFileSync(file, text);
