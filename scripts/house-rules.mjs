// Rules of the house that neither formatter nor linter holds: files and comments that can be read at a glance,
// and a word on everything that users may import.
import { execFileSync } from "node:child_process";
import { readFileSync } from "node:fs";
import { resolve } from "node:path";
import ts from "typescript";

const MOST_LINES = { src: 400, scripts: 400, bench: 400, examples: 400, wasm: 400, test: 600 };
const LONGEST_COMMENT = 120;
/** made from the schemas */
const GENERATED = /-input\.ts$/;
const ENTRIES = [
  "src/index.ts",
  "src/core/index.ts",
  "src/testing/index.ts",
  "src/warehouse/duckdb/index.ts",
];

const faults = [];
const tracked = execFileSync("git", ["ls-files", ...Object.keys(MOST_LINES)], { encoding: "utf8" });
const files = tracked
  .split("\n")
  .filter((file) => /\.(ts|tsx|mts|mjs|cjs)$/.test(file) && !GENERATED.test(file));

for (const file of files) {
  const lines = readFileSync(file, "utf8").trimEnd().split("\n");
  const most = MOST_LINES[file.split("/")[0]];
  if (lines.length > most)
    faults.push(`${file}: ${lines.length} lines, ${most} at most: split it by what it holds`);
  for (const [i, line] of lines.entries())
    if (line.length > LONGEST_COMMENT && /^\s*(\/\/|\/?\*)/.test(line))
      faults.push(`${file}:${i + 1}: a comment of ${line.length} signs, ${LONGEST_COMMENT} at most`);
}

const { options } = ts.parseJsonConfigFileContent(
  ts.readConfigFile("tsconfig.json", ts.sys.readFile).config,
  ts.sys,
  ".",
);
const program = ts.createProgram(ENTRIES, options);
const checker = program.getTypeChecker();
for (const entry of ENTRIES) {
  const module = checker.getSymbolAtLocation(
    program.getSourceFile(resolve(entry)) ?? program.getSourceFile(entry),
  );
  for (const name of checker.getExportsOfModule(module)) {
    const symbol = name.flags & ts.SymbolFlags.Alias ? checker.getAliasedSymbol(name) : name;
    if (symbol.getDocumentationComment(checker).length > 0) continue;
    const [declaration] = symbol.declarations ?? [];
    const file = declaration?.getSourceFile();
    const line = file?.getLineAndCharacterOfPosition(declaration.getStart()).line ?? 0;
    faults.push(
      `${file?.fileName}:${line + 1}: ${name.name} is exported by ${entry} and says nothing of itself`,
    );
  }
}

for (const fault of [...new Set(faults)].sort()) console.error(fault);
console.log(faults.length === 0 ? "the house is in order" : `${faults.length} faults`);
process.exitCode = faults.length === 0 ? 0 : 1;
