// Writes the JSON Schema files (2020-12) that editors use for completion, from the one zod schema.
import { writeFileSync } from "node:fs";
import { z } from "zod";
import { connectorSchema, projectSchema } from "../dist/core/index.js";

for (const [name, schema] of [
  ["connector", connectorSchema],
  ["bridges", projectSchema],
]) {
  const json = z.toJSONSchema(schema, { io: "input", target: "draft-2020-12" });
  writeFileSync(`schemas/${name}.schema.json`, `${JSON.stringify(json, null, 2)}\n`);
}
