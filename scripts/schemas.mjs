// Writes, each from its one zod schema: the JSON Schema files (2020-12), for editors and of what --json prints, and the
// types of connector and project files with what the schema says of each key, for TypeScript.
import { writeFileSync } from "node:fs";
import { compile } from "json-schema-to-typescript";
import { outputLine } from "../dist/cli/output-schema.js";
import { connectorSchema, jsonSchemaOf, projectSchema } from "../dist/core/index.js";
import { formatted, typesOf } from "./file-types.mjs";

for (const [name, schema, type] of [
  ["connector", connectorSchema, "ConnectorInput"],
  ["bridges", projectSchema, "ProjectInput"],
  ["output", outputLine],
]) {
  const json = jsonSchemaOf(schema, name);
  writeFileSync(`schemas/${name}.schema.json`, `${JSON.stringify(json, null, 2)}\n`);
  if (type !== undefined)
    writeFileSync(`src/core/define/${name}-input.ts`, formatted(await typesOf(json, type, compile)));
}
