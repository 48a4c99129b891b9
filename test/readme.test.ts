/** The examples of the README are not prose: the TypeScript compiles, the YAML is accepted. */

import { readFileSync } from "node:fs";
import { resolve } from "node:path";
import ts from "typescript";
import { describe, expect, it } from "vitest";
import { checkValue, parseYaml } from "../src/core/define/check.js";
import { checkConnector } from "../src/core/define/connector.js";
import { projectSchema } from "../src/core/define/project-schema.js";

const README = readFileSync("README.md", "utf8");
const blocks = (language: string) =>
  [...README.matchAll(new RegExp(`^\`\`\`${language}\\n([\\s\\S]*?)^\`\`\``, "gm"))].map(
    (match) => match[1]!,
  );

/** What the compiler says of a text as if it stood in this folder, the package's own name leading to its sources. */
function complaints(text: string): string[] {
  const name = resolve("test/readme-example.ts");
  const options: ts.CompilerOptions = {
    strict: true,
    noEmit: true,
    skipLibCheck: true,
    target: ts.ScriptTarget.ES2022,
    module: ts.ModuleKind.NodeNext,
    moduleResolution: ts.ModuleResolutionKind.NodeNext,
    types: ["node"],
    paths: {
      "early-bridge": [resolve("src/index.ts")],
      "early-bridge/duckdb": [resolve("src/warehouse/duckdb/index.ts")],
    },
  };
  const host = ts.createCompilerHost(options);
  const { getSourceFile, fileExists } = host;
  host.fileExists = (file) => file === name || fileExists.call(host, file);
  host.getSourceFile = (file, ...rest) =>
    file === name
      ? ts.createSourceFile(file, text, options.target!)
      : getSourceFile.call(host, file, ...rest);
  const program = ts.createProgram([name], options, host);
  return ts
    .getPreEmitDiagnostics(program)
    .map((each) => ts.flattenDiagnosticMessageText(each.messageText, " "));
}

describe("the README", () => {
  it("holds TypeScript that compiles", () => {
    const examples = blocks("ts");
    expect(examples).toHaveLength(1);
    expect(complaints(examples[0]!)).toEqual([]);
    expect(
      complaints(examples[0]!.replace("defineConnector({", "defineConnector({ nonsense: 1,")),
    ).toHaveLength(1);
  });

  it("holds a connector and a project that are accepted", () => {
    const [connector, project] = blocks("yaml").map((text, i) => parseYaml(text, `README ${i}`));
    expect(checkConnector(connector!.value, connector!).connector).toBe("bookings");
    expect(Object.keys(checkValue(projectSchema, project!.value, project!).bridges)).toEqual(["bookings"]);
  });
});
