// Writes the JSON Schema files (2020-12): for editors, and of what --json prints; each from its one zod schema.
import { writeFileSync } from "node:fs";
import { outputLine } from "../dist/cli/json-lines.js";
import { connectorSchema, jsonSchemaOf, projectSchema } from "../dist/core/index.js";

for (const [name, schema] of [
  ["connector", connectorSchema],
  ["bridges", projectSchema],
  ["output", outputLine],
]) {
  const json = jsonSchemaOf(schema, name);
  writeFileSync(`schemas/${name}.schema.json`, `${JSON.stringify(json, null, 2)}\n`);
}
